import { type AnchorId, Levels, type MemberId, recordId, type RecordKey } from '@anchor-knot/core';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import type { Applied } from './applyPlan.js';
import type { Installation, RunOptions } from './installation.js';
import type { PlanContext } from './batch.js';
import { planBatch } from './planAnchors.js';
import type { RunLease } from './lease.js';
import type { StagedReading } from './stored.js';
import type { MemberTrouble } from './runResult.js';
import type { Tally } from './tally.js';

const plannedAtOnce = 1000;

/**
 * Later passes of a run: anchors are merged and planned anew whose records changed between reading and writing, and
 * those that somebody changed between planning and writing.
 * @param connectors to the members that can be read still
 * @param note is told of systems that cannot be read any more
 */
export async function planAgain(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  connectors: ReadonlyMap<MemberId, Connector>,
  { raced, late }: Pick<Applied, 'raced' | 'late'>,
  context: PlanContext,
  note: (trouble: MemberTrouble) => void,
): Promise<void> {
  const { store } = installation;
  const plan = async (anchors: readonly AnchorId[], readings: Readings): Promise<void> => {
    const entries = await planBatch(installation, options, lease, anchors, context, async () => readings);
    if (entries.length > 0) await store.savePlan(lease, entries);
  };
  for (const anchors of inBatches([...new Set(raced.map(({ anchor }) => anchor))].sort())) {
    const some = new Set(anchors);
    const again = raced.filter(({ anchor }) => some.has(anchor));
    const readings = await readAgain(installation, options, lease, connectors, again, note);
    await plan([...readings.keys()].sort(), readings);
  }
  // Nothing was written to an anchor that somebody changed meanwhile: what was read of it still holds.
  for (const anchors of inBatches(late)) await plan(anchors, await stillStaged(installation, lease, anchors));
}

/**
 * Plans anchors that waited for others of their knot, as they are stored: what was read of them was merged before, what
 * waited is ahead, and what has been written to them since is not in it.
 */
export async function planReleased(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  released: readonly AnchorId[],
  context: PlanContext,
  tally: Tally,
): Promise<void> {
  const levels = new Levels();
  for (const anchors of inBatches(released)) {
    const entries = await planBatch(installation, options, lease, anchors, context, async () => new Map(), levels);
    for (const { operations } of entries) for (const { kind, member } of operations) tally.add(member, kind);
    if (entries.length > 0) await installation.store.savePlan(lease, entries);
  }
}

type Readings = ReadonlyMap<AnchorId, readonly StagedReading[]>;

function* inBatches(anchors: readonly AnchorId[]): Generator<readonly AnchorId[]> {
  for (let at = 0; at < anchors.length; at += plannedAtOnce) yield anchors.slice(at, at + plannedAtOnce);
}

/**
 * Reads records again that raced. The other records of their anchors count as they are now known to be: what was read
 * of them before our writes is no edit after these.
 */
async function readAgain(
  { store }: Installation,
  { knot }: RunOptions,
  lease: RunLease,
  connectors: ReadonlyMap<MemberId, Connector>,
  raced: Applied['raced'],
  note: (trouble: MemberTrouble) => void,
): Promise<Readings> {
  const ties = await store.tiesOf(lease.knot, [...new Set(raced.map(({ anchor }) => anchor))]);
  const keys = new Map(ties.map(({ anchor, member, key }) => [`${anchor}/${member}`, key]));
  const readings = new Map<AnchorId, StagedReading[]>();
  for (const { anchor, member } of raced) {
    const key = keys.get(`${anchor}/${member}`);
    const connector = connectors.get(member);
    if (key === undefined || !connector) continue;
    try {
      const record = await connector.readOne(key);
      if (!record) continue;
      const fields = knot.rawFields(member, record);
      const { says } = knot.failedChecks(member, fields);
      const rejected = says.length > 0 ? { rejected: says } : {};
      const reading = { fields, version: record.version, modifiedAt: record.modifiedAt, ...rejected };
      const known = readings.get(anchor) ?? [];
      readings.set(anchor, [...known, { member, key, reading, isNew: false, why: undefined }]);
    } catch (error) {
      if (!(error instanceof SystemTrouble)) throw error;
      note({ member, code: error.code, words: error.message, advice: error.advice });
    }
  }
  return readings;
}

/** What was staged for anchors, but for records that somebody has tied to another one meanwhile. */
async function stillStaged({ store }: Installation, lease: RunLease, anchors: readonly AnchorId[]): Promise<Readings> {
  const staged = await store.stagedFor(lease, anchors);
  const keysOf = new Map<MemberId, RecordKey[]>();
  for (const records of staged.values())
    for (const { member, key, isNew } of records) if (isNew) keysOf.set(member, [...(keysOf.get(member) ?? []), key]);
  const tied = new Map<string, AnchorId>();
  for (const [member, keys] of keysOf)
    for (const [key, { anchor }] of await store.tieHeads(lease.knot, member, keys))
      tied.set(recordId({ member, key }), anchor);
  const isStill = (anchor: AnchorId, record: StagedReading): boolean =>
    (tied.get(recordId(record)) ?? anchor) === anchor;
  return new Map([...staged].map(([id, records]) => [id, records.filter((record) => isStill(id, record))]));
}
