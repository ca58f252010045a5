import {
  type Anchor,
  type AnchorId,
  type CompiledKnot,
  expectedFields,
  Levels,
  mergeAnchor,
  type MemberId,
  type Numbers,
  planAnchor,
  type Planned,
  putLevel,
  type Reading,
  type RecordKey,
} from '@anchor-knot/core';
import { bindReferences } from './bindReferences.js';
import { decisionsOfAnchor } from './decisions.js';
import { changedIndexes } from './indexAnchors.js';
import type { Installation, RunOptions } from './installation.js';
import { mergeRows } from './journalRows.js';
import type { AnchorRange, PlanContext, WorkDone } from './batch.js';
import type { RunLease } from './lease.js';
import type { Store } from './store.js';
import type { PlanEntry, StagedReading } from './stored.js';
import { type Numbered, planNumbered, type Unplanned } from './takeNumbers.js';
import type { Tally } from './tally.js';

export const mergedAtOnce = 1000;

/**
 * Merges and plans anchors, page by page. Planning ends before writing begins. Anchors without operations are settled
 * as they are planned: there is nothing to write of them, and nothing is stored twice.
 * @param pages ids in order
 */
export async function planAnchors(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  context: PlanContext,
  pages: AsyncIterable<readonly AnchorId[]>,
  tally: Tally,
  afterPage: () => Promise<void>,
): Promise<Pick<WorkDone, 'updatedButHeld' | 'late' | 'toWrite'>> {
  const late: AnchorId[] = [];
  const updatedButHeld: Record<MemberId, number> = {};
  let toWrite = 0;
  const levels = new Levels();
  /** The database takes one page while the next is worked out. */
  let saving: Promise<void> = Promise.resolve();
  try {
    for await (const ids of pages) {
      const entries = await planBatch(installation, options, lease, ids, context, undefined, levels);
      for (const entry of entries) {
        tally.addPlan(entry);
        if (entry.operations.length > 0) toWrite += 1;
        if (entry.held.length > 0)
          for (const { kind, member } of entry.operations)
            if (kind === 'update') updatedButHeld[member] = (updatedButHeld[member] ?? 0) + 1;
      }
      await saving;
      saving = keepPlan(installation, options, lease, entries).then((changed) => {
        late.push(...changed);
      });
      // It is awaited further down; until then its failure is not lost, only not yet told.
      saving.catch(() => undefined);
      tally.done += entries.length;
      await afterPage();
    }
  } finally {
    // Also after a failure nothing is left under way; its own failure is told where there was none before.
    await saving;
  }
  return { updatedButHeld, late, toWrite };
}

/**
 * The anchors of a range that a run has to look at, in pages.
 * @param size of a page, in anchors
 */
export async function* pagesToMerge(
  store: Store,
  lease: RunLease,
  { after, upTo }: AnchorRange,
  size = mergedAtOnce,
): AsyncGenerator<readonly AnchorId[]> {
  for (let from = after; ;) {
    const ids = await store.anchorsToMerge(lease, { after: from, upTo }, size);
    if (ids.length > 0) yield ids;
    if (ids.length < size) return;
    from = ids.at(-1);
  }
}

/** @returns the anchors that were to be settled, and that somebody changed meanwhile */
async function keepPlan(
  { store, clock }: Installation,
  { kind }: RunOptions,
  lease: RunLease,
  entries: readonly PlanEntry[],
): Promise<readonly AnchorId[]> {
  const isSettled = ({ operations }: PlanEntry): boolean => kind === 'run' && operations.length === 0;
  const writing = entries.filter((entry) => !isSettled(entry));
  if (writing.length > 0) await store.savePlan(lease, writing);
  const settled = entries.filter(isSettled);
  if (settled.length === 0) return [];
  const rows = settled.flatMap((entry) => mergeRows(entry, clock.now()));
  const applied = new Set(await store.commitMerge(lease, settled, [], rows, clock.now()));
  return settled.map(({ anchor }) => anchor).filter((anchor) => !applied.has(anchor));
}

/** What was read of the records of an anchor, for its merge. */
export type ReadingsOf = (ids: readonly AnchorId[]) => Promise<ReadonlyMap<AnchorId, readonly StagedReading[]>>;

/**
 * Merges and plans some anchors.
 * @param readingsOf what this run has read of them; all that was staged when left out
 * @param levels what was agreed before in this run of what stands under what
 */
export async function planBatch(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  ids: readonly AnchorId[],
  context: PlanContext,
  readingsOf: ReadingsOf = (some) => installation.store.stagedFor(lease, some),
  levels = new Levels(),
): Promise<PlanEntry[]> {
  const { store, clock } = installation;
  const [stored, staged] = await Promise.all([store.loadAnchors(lease, ids), readingsOf(ids)]);
  const planning = ids.filter((id) => stored.has(id) || staged.get(id)?.some(({ isNew }) => isNew));
  const taken = planning.map((id) => {
    const { anchor, revision } = stored.get(id) ?? { anchor: newAnchor(id, staged.get(id) ?? []), revision: 0 };
    return { id, revision, ...takeUp(anchor, staged.get(id) ?? []) };
  });
  const knot = await bindReferences(installation.store, options.knot, taken, levels);
  // Only where a record is gone can others be deleted.
  const partlyGone = taken.filter(({ anchor }) => anchor.ties.some(({ gone }) => gone)).map(({ id }) => id);
  const referring = partlyGone.length > 0 ? await store.referringCounts(partlyGone) : new Map<AnchorId, number>();
  const blockedByResting = await store.blockedByResting(lease, planning);
  const unplanned = taken.map(({ id, anchor, readings }): Unplanned => {
    const blocked = new Set(
      [context.blocked, blockedByResting, context.unclear].flatMap((limit) => [...(limit.get(id) ?? [])]),
    );
    const limits = {
      blocked,
      unread: context.troubled,
      referring: referring.get(id) ?? 0,
      linkOf: (member: MemberId, key: RecordKey) => installation.recordPage(member, key),
    };
    const planWith = (numbers?: Numbers): Planned => {
      const merge = mergeAnchor({ knot, anchor, readings, now: clock.now(), numbers });
      putLevel(knot, merge.anchor);
      return { merge, plan: planAnchor(knot, merge, clock.now(), limits) };
    };
    return { id, planWith };
  });
  const planned = await planNumbered(installation, options, lease, unplanned);
  const entries = taken.map(({ id, revision, came }, place): PlanEntry => {
    const { merge, plan, numbers } = planned[place] as Numbered;
    const postponed = new Set(
      plan.operations.filter(({ member }) => context.troubled.has(member)).map(({ member }) => member),
    );
    const isDoubtful = ({ kind, member }: (typeof plan.operations)[number]): boolean =>
      kind === 'create' && context.partlyRead.has(member);
    const doubtful = plan.operations
      .filter((operation) => isDoubtful(operation) && !postponed.has(operation.member))
      .map(({ member }) => member);
    return {
      anchor: id,
      revision,
      title: titleOf(knot, merge.anchor),
      after: merge.anchor,
      operations: plan.operations.filter(
        (operation) => !context.troubled.has(operation.member) && !isDoubtful(operation),
      ),
      withheld: [
        ...plan.withheld,
        ...[...postponed].map((member) => ({
          member,
          kind: 'waits' as const,
          reason: `${installation.systemName(member)} is in trouble`,
        })),
        ...doubtful.map((member) => ({
          member,
          kind: 'waits' as const,
          reason: `some records of ${installation.systemName(member)} could not be read: it may be there already`,
        })),
      ],
      problems: [...merge.problems, ...plan.problems],
      held: merge.held,
      lost: merge.lost,
      decisions: decisionsOfAnchor(knot, (member) => installation.systemName(member), merge, plan),
      numbers,
      came: came.map(({ member, key }) => ({ member, key })),
      tied: came.flatMap(({ member, key, why }) => (why && why.kind !== 'key rule' ? [{ member, key, why }] : [])),
    };
  });
  const indexes = changedIndexes(
    knot,
    entries.map(({ anchor, after }) => ({ before: stored.get(anchor)?.anchor, after })),
  );
  return entries.map((entry, place): PlanEntry => ({ ...entry, index: indexes[place] }));
}

/**
 * Gives readings to the ties of an anchor, and ties to records that came to it. What was read of a record that somebody
 * has taken from the anchor meanwhile is not this anchor's any more.
 */
function takeUp(known: Anchor, staged: readonly StagedReading[]) {
  const readings = new Map<MemberId, Reading>();
  const came: StagedReading[] = [];
  let { ties } = known;
  for (const record of staged) {
    const { member, key, reading, isNew } = record;
    const tie = ties.find((tie) => tie.member === member);
    if (tie ? tie.key !== key : !isNew) continue;
    readings.set(member, reading);
    if (tie) continue;
    ties = [...ties, { member, key, seen: {}, ahead: {}, left: {} }];
    came.push(record);
  }
  return { anchor: { ...known, ties }, readings, came };
}

function newAnchor(id: AnchorId, records: readonly { readonly member: MemberId }[]): Anchor {
  return { id, agreed: {}, ties: [], beganIn: records.map(({ member }) => member), parkedCreates: {} };
}

/** Whether the next run has to look at an anchor even if nothing is read of it. */
export function isOpen(entry: Pick<PlanEntry, 'after' | 'held' | 'problems' | 'withheld'>): boolean {
  return (
    entry.held.length > 0 ||
    entry.problems.length > 0 ||
    entry.withheld.length > 0 ||
    entry.after.ties.some((tie) => tie.rejected && !tie.gone)
  );
}

/** The name of an anchor in lists: its title field, or what its records call it, or their keys. */
export function titleOf(knot: CompiledKnot, anchor: Anchor): string {
  const agreed = anchor.agreed[knot.titleField]?.value;
  if (typeof agreed === 'string' && agreed !== '') return agreed;
  for (const tie of anchor.ties) {
    const value = knot.sharedValues(tie.member, expectedFields(tie)).get(knot.titleField);
    if (typeof value === 'string' && value !== '') return value;
  }
  return anchor.ties.map(({ key }) => key).join(', ');
}
