import { type CompiledKnot, recordId } from '@anchor-knot/core';
import { blocksOf } from './indexAnchors.js';
import type { RunOptions } from './installation.js';
import type { OutsideRecords } from './outsideRecords.js';
import type { RunLease } from './lease.js';
import type { Likeness, OutsideRecord, RecordRef, RestingRecord, StagedNewcomer, Store } from './store.js';

const atOnce = 1000;

/**
 * Wakes the records that rest and share a key, a block or something that a person said with newcomers, and with those
 * that are woken by it.
 * @returns the woken ones: they are matched like newcomers
 */
export async function wakeLike(
  store: Store,
  knot: CompiledKnot,
  outside: OutsideRecords,
  newcomers: readonly StagedNewcomer[],
): Promise<readonly StagedNewcomer[]> {
  const woken: StagedNewcomer[] = [];
  for (let fresh = newcomers; fresh.length > 0 && outside.someRest;) {
    const found = new Map<string, OutsideRecord>();
    for (let at = 0; at < fresh.length; at += atOnce)
      for (const record of await store.restingLike(knot.id, likenessOf(knot, fresh.slice(at, at + atOnce))))
        if (!outside.get(record)) found.set(recordId(record), record);
    const staged = await outside.wake([...found.values()]);
    fresh = staged.map(({ member, key, matchKeys, texts = [] }) => ({
      member,
      key,
      matchKeys,
      texts,
      isRejected: false,
    }));
    woken.push(...fresh);
  }
  return woken;
}

/** Lets untied records rest that nothing keeps awake. @param untied those that no rule and no evidence has tied */
export async function restUntied(
  store: Store,
  { knot, knotVersion }: RunOptions,
  lease: RunLease,
  outside: OutsideRecords,
  newcomers: readonly StagedNewcomer[],
  untied: readonly OutsideRecord[],
): Promise<void> {
  const readings = new Map(
    untied.flatMap((record) => (record.reason === 'untied' ? [[recordId(record), record.reading] as const] : [])),
  );
  const resting = newcomers.filter((record) => readings.has(recordId(record)));
  for (let at = 0; at < resting.length; at += atOnce) {
    const some = resting.slice(at, at + atOnce);
    const blocks = blocksOfNewcomers(knot, some);
    const records = some.map((record, place): RestingRecord => ({
      member: record.member,
      key: record.key,
      reading: readings.get(recordId(record)) as RestingRecord['reading'],
      keys: keysOf(record),
      blocks: (blocks[place] ?? []).map(({ block }) => block),
    }));
    await store.letRest(lease, knotVersion, outside.acts, records);
  }
}

function likenessOf(knot: CompiledKnot, records: readonly StagedNewcomer[]): Likeness {
  return {
    keys: records.flatMap(keysOf),
    blocks: blocksOfNewcomers(knot, records).flat(),
    records: records.map(({ member, key }): RecordRef => ({ member, key })),
  };
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
