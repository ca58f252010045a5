import {
  afterWrite,
  type Anchor,
  type AnchorId,
  type CompiledKnot,
  expectedFields,
  mergeAnchor,
  type MemberId,
  type Operation,
  type Reading,
  type RecordKey,
} from '@anchor-knot/core';
import type { Connector } from '@anchor-knot/connectors';
import { bindReferences } from './bindReferences.js';
import { decisionOfRefusal, decisionOfUnclear, decisionsOfAnchor } from './decisions.js';
import type { Installation, RunOptions } from './installation.js';
import { changedIndexes, indexOfAnchors } from './indexAnchors.js';
import { isOpen, planBatch, type ReadingsOf, titleOf } from './planAnchors.js';
import type { AnchorRange, PlanContext, WorkDone } from './batch.js';
import { inOrder, membersInOrder } from './inOrder.js';
import { mergeRows, writeRows } from './journalRows.js';
import type { RunLease } from './lease.js';
import type { AnchorOutcome, Intent, PlanEntry } from './stored.js';
import type { DecisionDraft } from './decisionDraft.js';
import type { MemberTrouble } from './runResult.js';
import type { Tally } from './tally.js';
import { refuseTaken } from './refuseTaken.js';
import { together } from './together.js';
import { type WriteEnd, writeMember } from './writeOperations.js';

/** How many writes are on their way at once: after a crash each of them has to be looked for. */
const [fewestWritesAtOnce, mostWritesAtOnce] = [200, 20_000];
const fewestEntriesAtOnce = 1000;

export type Applied = Pick<WorkDone, 'raced' | 'late' | 'troubles' | 'undone'>;

/** What a run applies its plan with. */
export interface Applying {
  readonly installation: Installation;
  readonly options: RunOptions;
  readonly lease: RunLease;
  readonly connectors: ReadonlyMap<MemberId, Connector>;
  readonly context: PlanContext;
  /** Members whose systems have failed already, beyond those of the context. */
  readonly troubles?: ReadonlyMap<MemberId, MemberTrouble>;
  readonly tally: Tally;
  readonly range: AnchorRange;
  readonly afterBatch: () => Promise<void>;
  readonly stopped: () => boolean;
}

/** Applies a plan batch by batch: settle and store the intents, write, store the outcomes, and tell of them. */
export async function applyPlan(applying: Applying): Promise<Applied> {
  const { installation, options, lease, connectors, tally, range, afterBatch, stopped } = applying;
  const { store } = installation;
  const applied = new AppliedSoFar(applying.troubles);
  const widest = Math.max(0, ...[...connectors.values()].map(({ capabilities }) => capabilities.batchSize));
  const writesAtOnce = Math.min(mostWritesAtOnce, Math.max(fewestWritesAtOnce, widest));
  const isInOrder = membersInOrder(options.knot).length > 0;
  const pageSize = isInOrder ? mostWritesAtOnce : Math.max(fewestEntriesAtOnce, writesAtOnce);
  let planned: readonly PlanEntry[] = [];
  let { after } = range;
  let isLastPage = false;
  while (!stopped()) {
    if (planned.length === 0 && !isLastPage) {
      const page = await store.planned(lease, { ...range, after }, pageSize);
      isLastPage = page.length < pageSize;
      after = page.at(-1)?.anchor;
      planned = inOrder(options.knot, page);
    }
    if (planned.length === 0) break;
    const entries = firstWrites(planned, writesAtOnce);
    planned = planned.slice(entries.length);
    const written = await applyEntries(applying, entries, applied);
    tally.done += entries.length;
    if (!stopped()) await tellOutcomes(applying, written, applied);
    await afterBatch();
  }
  return applied.result;
}

/** What several batches have come to. */
class AppliedSoFar {
  readonly #raced: { anchor: AnchorId; member: MemberId }[] = [];
  readonly #late: AnchorId[] = [];
  readonly troubles: Map<MemberId, MemberTrouble>;
  readonly #undone = new Set<MemberId>();

  constructor(troubles: ReadonlyMap<MemberId, MemberTrouble> = new Map()) {
    this.troubles = new Map(troubles);
  }

  addLate(anchors: readonly AnchorId[]): void {
    this.#late.push(...anchors);
  }

  addEnd({ intent: { operation }, state }: WriteEnd): void {
    if (state === 'raced') this.#raced.push({ anchor: operation.anchor, member: operation.member });
    if (state === 'not done') this.#undone.add(operation.member);
  }

  get result(): Applied {
    return { raced: this.#raced, late: this.#late, troubles: [...this.troubles.values()], undone: [...this.#undone] };
  }
}

/** @returns how the writes of these entries ended */
async function applyEntries(
  { installation, options, lease, connectors, tally, stopped }: Applying,
  entries: readonly PlanEntry[],
  into: AppliedSoFar,
): Promise<readonly WriteEnd[]> {
  const { store, clock } = installation;
  const intents = entries.flatMap((entry) =>
    entry.operations.map((operation): Intent => ({
      id: installation.nextId(),
      operation,
      storedAt: clock.now(),
    })),
  );
  const rows = entries.flatMap((entry) => mergeRows(entry, clock.now()));
  const applied = new Set(await store.commitMerge(lease, entries, intents, rows, clock.now()));
  into.addLate(entries.filter(({ anchor }) => !applied.has(anchor)).map(({ anchor }) => anchor));
  const writing = intents.filter(({ operation }) => applied.has(operation.anchor));
  const anchors = new Map(
    entries.filter(({ anchor }) => applied.has(anchor)).map((entry) => [entry.anchor, entry.after]),
  );
  const ends = await writeAll(installation, options, connectors, writing, anchors, into.troubles, stopped);
  for (const end of ends) {
    into.addEnd(end);
    tally.add(end.intent.operation.member, end.state === 'written' ? 'written' : 'failed');
  }
  const stored = entries.map((entry) => ({ ...entry, stored: entry.revision + 1 }));
  await storeEnds(installation, options, lease, stored, ends);
  return ends;
}

/**
 * What a batch of writes came to is told in the same run, to records whose things need no other write: the others are
 * planned anew, and told then.
 */
async function tellOutcomes(applying: Applying, ends: readonly WriteEnd[], into: AppliedSoFar): Promise<void> {
  const { installation, options, lease, context, tally } = applying;
  const written = new Set<AnchorId>();
  for (const { intent } of ends) if (isTold(options.knot, intent.operation)) written.add(intent.operation.anchor);
  if (written.size === 0) return;
  const troubled = new Set([...context.troubled, ...into.troubles.keys()]);
  const nothingRead: ReadingsOf = async () => new Map();
  const planned = await planBatch(
    installation,
    options,
    lease,
    [...written].sort(),
    { ...context, troubled },
    nothingRead,
  );
  const telling = planned.filter(({ operations }) => operations.every(({ kind }) => kind === 'write back'));
  if (telling.length === 0) return;
  for (const { operations } of telling) for (const { member } of operations) tally.add(member, 'write back');
  const writing = telling.filter(({ operations }) => operations.length > 0);
  if (writing.length > 0) await installation.store.savePlan(lease, writing);
  await applyEntries(applying, telling, into);
}

/** Whether other records are told what becomes of a write. */
function isTold({ members }: CompiledKnot, { kind, member }: Operation): boolean {
  return kind !== 'write back' && members.some(({ outcomes }) => outcomes?.some(({ of }) => of === member));
}

/** The first entries, with no more writes than that (but at least one entry). */
function firstWrites(entries: readonly PlanEntry[], most: number): readonly PlanEntry[] {
  let writes = 0;
  const end = entries.findIndex((entry, index) => (writes += entry.operations.length) > most && index > 0);
  return end < 0 ? entries : entries.slice(0, end);
}

/** Writes what is intended, member by member. @param troubles systems that failed; those that fail now are added */
export async function writeAll(
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
      connectors.get(member),
      own,
      anchors,
      halted,
    );
    if (trouble) troubles.set(member, trouble);
    return ends;
  });
  return all.flat();
}

/** Members that certainly did not take one of some writes. */
export function membersUndone(ends: readonly WriteEnd[]): ReadonlySet<MemberId> {
  return new Set(ends.filter(({ state }) => state === 'not done').map(({ intent }) => intent.operation.member));
}

/** An anchor as its merge left it, and what is open of it. */
export type WrittenEntry = Pick<PlanEntry, 'anchor' | 'after' | 'held' | 'problems' | 'withheld' | 'decisions'> & {
  /** The revision that the merge was stored as. */
  readonly stored: number;
};

/** Stores what became of a batch of writes. Also used for intents that an earlier run left open. */
export async function storeEnds(
  installation: Installation,
  unbound: RunOptions,
  lease: RunLease,
  entries: readonly WrittenEntry[],
  answered: readonly WriteEnd[],
): Promise<void> {
  const { store, clock } = installation;
  if (answered.length === 0) return;
  const merged = entries.map(({ after }) => ({ anchor: after }));
  const options = { ...unbound, knot: await bindReferences(installation.store, unbound.knot, merged) };
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
  const indexes = changedIndexes(
    options.knot,
    written.map(({ entry, anchor }) => ({ before: entry.after, after: anchor })),
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
        outcome: { ...outcome, index: indexes[place] },
        applyTo: (current) => {
          const now = outcomeOf(installation, options, entryOf(installation, options, current), endsOfAnchor);
          return {
            ...now,
            index: indexOfAnchors(options.knot, [now.anchor])[0],
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
    (done, { intent, result }) => afterWrite(knot, done, intent.operation, result, installation.clock.now()),
    entry.after,
  );
  const decisions: DecisionDraft[] = [...entry.decisions];
  for (const { intent, state, words } of ends) {
    if (state === 'refused')
      decisions.push({
        ...decisionOfRefusal(systemName, intent.operation, words ?? 'no reason given'),
        wasTried: true,
      });
    if (state === 'unclear') decisions.push(decisionOfUnclear(systemName, intent));
  }
  for (const tie of anchor.ties) {
    const before = entry.after.ties.find(({ member }) => member === tie.member);
    const wasWritten = ends.some(({ state, intent }) => state === 'written' && intent.operation.member === tie.member);
    if (tie.parked && wasWritten && tie.parked !== before?.parked)
      decisions.push(
        decisionOfRefusal(systemName, { anchor: anchor.id, member: tie.member, kind: 'update' }, tie.parked.words),
      );
  }
  const open =
    isOpen(entry) ||
    ends.some(({ state, intent }) => state !== 'written' || isTold(knot, intent.operation)) ||
    anchor.ties.some(({ parked }) => parked);
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
