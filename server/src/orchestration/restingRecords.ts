import { type AnchorId, type CompiledKnot, type Matching, recordId } from '@anchor-knot/core';
import { blocksOf } from './indexAnchors.js';
import type { RunOptions } from './installation.js';
import type { OutsideRecords } from './outsideRecords.js';
import type { RunLease } from './lease.js';
import type { Store } from './store.js';
import type { Likeness, OutsideRecord, RecordRef, RestingRecord, StagedNewcomer } from './stored.js';

const atOnce = 1000;

/**
 * Wakes the records that rest and share a key, a block or something that a person said with newcomers, or with what
 * they are in doubt about; those that were in doubt about what has left; and so on with those that are woken by it.
 * @returns the woken ones: they are matched like newcomers
 */
export async function wakeLike(
  store: Store,
  knot: CompiledKnot,
  outside: OutsideRecords,
  newcomers: readonly StagedNewcomer[],
): Promise<readonly StagedNewcomer[]> {
  const woken: StagedNewcomer[] = [];
  let [fresh, left] = [newcomers, outside.left];
  while (fresh.length + left.length > 0 && outside.someRest) {
    const found = new Map<string, OutsideRecord>();
    const note = async (likeness: Likeness): Promise<void> => {
      for (const record of await store.restingLike(knot.id, likeness))
        if (!outside.get(record) && !outside.hasLeft(record)) found.set(recordId(record), record);
    };
    for (let at = 0; at < fresh.length; at += atOnce) await note(likenessOf(knot, fresh.slice(at, at + atOnce)));
    for (let at = 0; at < left.length; at += atOnce)
      await note({ keys: [], blocks: [], records: left.slice(at, at + atOnce) });
    left = [];
    const staged = await outside.wake([...found.values()]);
    fresh = staged.map(({ member, key, matchKeys, reading, texts = [] }) => ({
      member,
      key,
      matchKeys,
      texts,
      isRejected: (reading.rejected?.length ?? 0) > 0,
    }));
    woken.push(...fresh);
  }
  return woken;
}

/** A record that may rest, with what it is in doubt about. */
type Doubtful = Pick<RestingRecord, 'member' | 'key' | 'reading' | 'reason' | 'doubts'>;

/** Lets records rest that nothing keeps awake. @param newcomers all that were matched, with their keys and texts */
export async function letRest(
  store: Store,
  { knot, knotVersion }: RunOptions,
  lease: RunLease,
  acts: number,
  newcomers: readonly StagedNewcomer[],
  records: readonly Doubtful[],
): Promise<void> {
  const matched = new Map(newcomers.map((record) => [recordId(record), record]));
  for (let at = 0; at < records.length; at += atOnce) {
    const some = records.slice(at, at + atOnce).filter((record) => matched.has(recordId(record)));
    const own = some.map((record) => matched.get(recordId(record)) as StagedNewcomer);
    const blocks = blocksOfNewcomers(knot, own);
    const resting = some.map((record, place): RestingRecord => ({
      ...record,
      keys: keysOf(own[place] as StagedNewcomer),
      blocks: (blocks[place] ?? []).map(({ block }) => block),
    }));
    await store.letRest(lease, knotVersion, acts, resting);
  }
}

/**
 * Of those that no rule and no evidence has tied, all but the ones that are rejected for what another record has too:
 * any record may be that other one.
 */
export function unmatchedMarks({ uniqueChecks }: CompiledKnot, unmatched: readonly OutsideRecord[]): Doubtful[] {
  const ofOthers = new Set(uniqueChecks.map(({ says }) => says));
  return unmatched
    .filter(({ reading }) => !reading.rejected?.some((says) => ofOthers.has(says)))
    .map(({ member, key, reading, reason }) => ({
      member,
      key,
      reading,
      reason,
      doubts: { anchors: [], records: [] },
    }));
}

/** Of those that wait for a person; one that is rejected as well is judged anew in each run. */
export function waitingMarks(
  { doubts, blocked }: Pick<Matching, 'doubts' | 'blocked'>,
  waiting: readonly OutsideRecord[],
): Doubtful[] {
  const anchors = new Map<string, AnchorId[]>();
  for (const [anchor, members] of blocked)
    for (const [member, keys] of members) for (const key of keys) addTo(anchors, recordId({ member, key }), [anchor]);
  const named = new Map<string, RecordRef[]>();
  for (const doubt of doubts) {
    const { member } = doubt;
    const own = ('keys' in doubt ? doubt.keys : [doubt.key]).map((key): RecordRef => ({ member, key }));
    const others = doubt.kind === 'evidence' ? doubt.candidates.flatMap(({ records }) => records) : [];
    // A group of duplicates is named by its first record: however many they are, each names two.
    for (const record of own) addTo(named, recordId(record), [record, ...own.slice(0, 1), ...others]);
  }
  return waiting.flatMap(({ member, key, reading }) => {
    const name = recordId({ member, key });
    const about = { anchors: anchors.get(name) ?? [], records: named.get(name) ?? [] };
    return reading.rejected ? [] : [{ member, key, reading, reason: 'waiting' as const, doubts: about }];
  });
}

function addTo<T>(lists: Map<string, T[]>, name: string, more: readonly T[]): void {
  lists.set(name, [...(lists.get(name) ?? []), ...more]);
}

function likenessOf(knot: CompiledKnot, records: readonly StagedNewcomer[]): Likeness {
  return {
    keys: distinctKeys(records),
    blocks: blocksOfNewcomers(knot, records).flat(),
    records: records.map(({ member, key }): RecordRef => ({ member, key })),
  };
}

function distinctKeys(records: readonly StagedNewcomer[]): Likeness['keys'] {
  return [...new Map(records.flatMap(keysOf).map((key) => [key.join('\u001f'), key])).values()];
}

const keysOf = ({ matchKeys }: StagedNewcomer): RestingRecord['keys'] =>
  matchKeys.flatMap((key, rule) => (key === null ? [] : [[rule, key] as const]));

function blocksOfNewcomers(knot: CompiledKnot, records: readonly StagedNewcomer[]): Likeness['blocks'][] {
  if (!knot.evidence?.weights) return [];
  return blocksOf(
    knot,
    records.map(({ texts }) => texts),
  );
}
