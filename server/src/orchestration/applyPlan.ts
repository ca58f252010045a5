import {
  afterWrite,
  type Anchor,
  type AnchorId,
  type CompiledKnot,
  expectedFields,
  mergeAnchor,
  type MemberId,
  type Reading,
  type RecordKey,
} from '@anchor-knot/core';
import type { Connector } from '@anchor-knot/connectors';
import { decisionOfRefusal, decisionOfUnclear, decisionsOfAnchor } from './decisions.js';
import type { Installation, RunOptions } from './installation.js';
import { indexOfAnchors } from './indexAnchors.js';
import { isOpen, titleOf } from './planAnchors.js';
import { mergeRows, writeRows } from './journalRows.js';
import type { AnchorIndex, AnchorOutcome, Intent, PlanEntry, RunLease } from './store.js';
import type { DecisionDraft } from './decisionDraft.js';
import type { MemberTrouble } from './runResult.js';
import type { Tally } from './tally.js';
import { refuseTaken } from './refuseTaken.js';
import { together } from './together.js';
import { type WriteEnd, writeMember } from './writeOperations.js';

/** How many writes are on their way at once: after a crash each of them has to be looked for. */
const [fewestWritesAtOnce, mostWritesAtOnce] = [200, 20_000];
const fewestEntriesAtOnce = 1000;

export interface Applied {
  /** Records that changed between reading and writing: they are read and merged again. */
  readonly raced: readonly { readonly anchor: AnchorId; readonly member: MemberId }[];
  /** Anchors that somebody changed between planning and writing: nothing was written, they are planned anew. */
  readonly late: readonly AnchorId[];
  readonly troubles: readonly MemberTrouble[];
  /** Members that certainly did not take a write, and may take it another time. */
  readonly undone: readonly MemberId[];
}

/** Applies a plan batch by batch: settle and store the intents, write, store the outcomes. */
export async function applyPlan(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  connectors: ReadonlyMap<MemberId, Connector>,
  tally: Tally,
  afterBatch: () => Promise<void>,
  stopped: () => boolean,
): Promise<Applied> {
  const { store } = installation;
  const raced: { anchor: AnchorId; member: MemberId }[] = [];
  const late: AnchorId[] = [];
  const troubles = new Map<MemberId, MemberTrouble>();
  const undone = new Set<MemberId>();
  const widest = Math.max(...[...connectors.values()].map(({ capabilities }) => capabilities.batchSize));
  const writesAtOnce = Math.min(mostWritesAtOnce, Math.max(fewestWritesAtOnce, widest));
  let planned: readonly PlanEntry[] = [];
  let after: AnchorId | undefined;
  while (!stopped()) {
    if (planned.length === 0) planned = await store.planned(lease, after, Math.max(fewestEntriesAtOnce, writesAtOnce));
    if (planned.length === 0) break;
    const entries = firstWrites(planned, writesAtOnce);
    planned = planned.slice(entries.length);
    after = entries.at(-1)?.anchor;
    const intents = entries.flatMap((entry) =>
      entry.operations.map((operation): Intent => ({
        id: installation.nextId(),
        operation,
        storedAt: installation.clock.now(),
      })),
    );
    const applied = new Set(
      await store.commitMerge(
        lease,
        entries,
        intents,
        entries.flatMap((entry) => mergeRows(entry, installation.clock.now())),
        installation.clock.now(),
      ),
    );
    late.push(...entries.filter(({ anchor }) => !applied.has(anchor)).map(({ anchor }) => anchor));
    const writing = intents.filter(({ operation }) => applied.has(operation.anchor));
    const anchors = new Map(
      entries.filter(({ anchor }) => applied.has(anchor)).map((entry) => [entry.anchor, entry.after]),
    );
    const ends = await writeAll(installation, options, connectors, writing, anchors, troubles, stopped);
    for (const { intent, state } of ends) {
      if (state === 'raced') raced.push({ anchor: intent.operation.anchor, member: intent.operation.member });
      if (state === 'not done') undone.add(intent.operation.member);
      tally.add(intent.operation.member, state === 'written' ? 'written' : 'failed');
    }
    const stored = entries.map((entry) => ({ ...entry, stored: entry.revision + 1 }));
    await storeEnds(installation, options, lease, stored, ends);
    tally.done += entries.length;
    await afterBatch();
  }
  return { raced, late, troubles: [...troubles.values()], undone: [...undone] };
}

/** The first entries, with no more writes than that (but at least one entry). */
function firstWrites(entries: readonly PlanEntry[], most: number): readonly PlanEntry[] {
  let writes = 0;
  const end = entries.findIndex((entry, index) => (writes += entry.operations.length) > most && index > 0);
  return end < 0 ? entries : entries.slice(0, end);
}

async function writeAll(
  installation: Installation,
  options: RunOptions,
  connectors: ReadonlyMap<MemberId, Connector>,
  intents: readonly Intent[],
  anchors: ReadonlyMap<AnchorId, Anchor>,
  troubles: Map<MemberId, MemberTrouble>,
  stopped: () => boolean,
): Promise<WriteEnd[]> {
  const byMember = new Map<MemberId, Intent[]>();
  for (const intent of intents)
    byMember.set(intent.operation.member, [...(byMember.get(intent.operation.member) ?? []), intent]);
  const all = await together([...byMember], async ([member, own], failed) => {
    const halted = () => stopped() || failed() || troubles.has(member);
    const { ends, trouble } = await writeMember(
      installation,
      options.knot,
      member,
      connectors.get(member) as Connector,
      own,
      anchors,
      halted,
    );
    if (trouble) troubles.set(member, trouble);
    return ends;
  });
  return all.flat();
}

/** An anchor as its merge left it, and what is open of it. */
export type WrittenEntry = Pick<PlanEntry, 'anchor' | 'after' | 'held' | 'problems' | 'withheld' | 'decisions'> & {
  /** The revision that the merge was stored as. */
  readonly stored: number;
};

/** Stores what became of a batch of writes. Also used for intents that an earlier run left open. */
export async function storeEnds(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  entries: readonly WrittenEntry[],
  answered: readonly WriteEnd[],
): Promise<void> {
  const { store, clock } = installation;
  if (answered.length === 0) return;
  const ends = await refuseTaken(installation, lease.knot, answered);
  const byAnchor = new Map<AnchorId, WriteEnd[]>();
  for (const end of ends)
    byAnchor.set(end.intent.operation.anchor, [...(byAnchor.get(end.intent.operation.anchor) ?? []), end]);
  const written = entries.flatMap((entry) => {
    const endsOfAnchor = byAnchor.get(entry.anchor);
    return endsOfAnchor
      ? [{ entry, ends: endsOfAnchor, ...outcomeOf(installation, options, entry, endsOfAnchor) }]
      : [];
  });
  const indexes = indexOfAnchors(
    options.knot,
    written.map(({ anchor }) => anchor),
  );
  const writes = ends.map(({ intent, state, words, key }) => ({
    intent: intent.id,
    operation: intent.operation,
    state,
    words,
    key,
  }));
  await store.recordOutcomes(
    lease,
    {
      anchors: written.map(({ entry, ends: endsOfAnchor, ...outcome }, place) => ({
        revision: entry.stored,
        outcome: { ...outcome, index: indexes[place] as AnchorIndex },
        applyTo: (current) => {
          const now = outcomeOf(installation, options, entryOf(installation, options, current), endsOfAnchor);
          return {
            ...now,
            index: indexOfAnchors(options.knot, [now.anchor])[0] as AnchorIndex,
            parted: partedWhileWritten(options.knot, entry.after, current, endsOfAnchor),
          };
        },
      })),
      writes,
      journal: ends.flatMap((end) => writeRows(end, clock.now())),
    },
    clock.now(),
  );
}

/** An anchor after its writes, and what is then open of it. */
function outcomeOf(
  installation: Installation,
  { knot }: RunOptions,
  entry: Omit<WrittenEntry, 'stored'>,
  ends: readonly WriteEnd[],
): Omit<AnchorOutcome, 'index'> {
  const systemName = (member: MemberId) => installation.systemName(member);
  const anchor = ends.reduce(
    (done, { intent, result }) => afterWrite(knot, done, intent.operation, result),
    entry.after,
  );
  const decisions: DecisionDraft[] = [...entry.decisions];
  for (const { intent, state, words } of ends) {
    if (state === 'refused')
      decisions.push(decisionOfRefusal(systemName, entry.anchor, intent.operation.member, words ?? 'no reason given'));
    if (state === 'unclear') decisions.push(decisionOfUnclear(systemName, intent));
  }
  for (const tie of anchor.ties) {
    const before = entry.after.ties.find(({ member }) => member === tie.member);
    const wasWritten = ends.some(({ state, intent }) => state === 'written' && intent.operation.member === tie.member);
    if (tie.parked && wasWritten && tie.parked !== before?.parked)
      decisions.push(decisionOfRefusal(systemName, entry.anchor, tie.member, tie.parked.words));
  }
  const open =
    isOpen(entry) || ends.some(({ state }) => state !== 'written') || anchor.ties.some(({ parked }) => parked);
  return { anchor, open, decisions, title: titleOf(knot, anchor) };
}

/** Records that were written to after somebody had taken them from their anchor, with what they hold now. */
function partedWhileWritten(knot: CompiledKnot, planned: Anchor, current: Anchor, ends: readonly WriteEnd[]) {
  const tieIn = ({ ties }: Anchor, member: MemberId, key: RecordKey) =>
    ties.find((tie) => tie.member === member && tie.key === key);
  return ends.flatMap(({ intent: { operation }, result }) => {
    if (operation.kind !== 'update' || result.kind !== 'written') return [];
    const { member, key, changes } = operation;
    const tie = tieIn(planned, member, key);
    if (!tie || tieIn(current, member, key)) return [];
    const { record } = result;
    const reading: Reading = record
      ? { fields: knot.rawFields(member, record), version: record.version, modifiedAt: record.modifiedAt }
      : {
          fields: { ...expectedFields(tie), ...Object.fromEntries(changes.map(({ field, after }) => [field, after])) },
        };
    return [{ member, key, reading }];
  });
}

/** The anchor as it stands, with what is open of it; it is merged again in the next run, so it counts as open. */
export function entryOf(
  installation: Installation,
  { knot }: RunOptions,
  anchor: Anchor,
): Omit<WrittenEntry, 'stored'> {
  const merge = mergeAnchor({ knot, anchor, readings: new Map(), now: installation.clock.now() });
  const plan = {
    operations: [],
    withheld: [{ member: '', kind: 'waits' as const, reason: 'to be merged again' }],
    problems: [],
    asked: [],
  };
  return {
    anchor: anchor.id,
    after: anchor,
    held: merge.held,
    problems: merge.problems,
    withheld: plan.withheld,
    decisions: decisionsOfAnchor(knot, (member) => installation.systemName(member), merge, plan),
  };
}
