/** What waits, page by page, on a real database. */
import { anchorId, recordKey } from '@anchor-knot/core';
import { decisionKindNames } from '@anchor-knot/contracts';
import type { DataSource } from 'typeorm';
import type { DecisionDraft } from '../orchestration/decisionDraft.js';
import { simulationKnot } from '../testing/simulationKnot.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { waitingDecisions, waitingKinds } from './tables/decisionLists.js';
import { closeDecision, putOff, replaceDecisions } from './tables/decisions.js';
import { createKnot } from './tables/knots.js';

const now = new Date('2026-11-23T10:00:00Z');
const ofKnot = { knot: 'customers', isPutOff: false, now };
const later = { choose: 'later' as const, fingerprint: 'f' };
let database: TestDatabase;
let data: DataSource;
beforeAll(async () => {
  database = await TestDatabase.start();
  ({ data } = await database.fresh());
  await createKnot(data, simulationKnot, 'test');
});
afterAll(() => database.stop());

const anchor = anchorId('00000000-0000-7000-8000-000000000001');
const common = { says: 'x', fingerprint: 'f' };
const duplicate = { value: null, rule: null, keys: [], tiedKey: null, scores: [] };
const drafts = Array.from({ length: 40 }, (_, number): DecisionDraft => {
  const key = recordKey(String(number));
  if (number % 4 === 0) return { ...common, kind: 'duplicate', member: 'crm', key, detail: duplicate };
  if (number % 4 === 1) return { ...common, kind: 'refused', anchor, member: `m${number}`, detail: {} };
  if (number % 4 === 2) return { ...common, kind: 'rejected', member: 'crm', key, detail: { reasons: [] } };
  return {
    ...common,
    kind: 'held',
    anchor,
    field: `f${number}`,
    detail: { base: null, isCircle: false, candidates: [] },
  };
});

/** Goes through all pages, with something done after the first of them. */
async function walk(size: number, afterFirst: (ids: readonly string[]) => Promise<void> = async () => undefined) {
  const seen: { readonly id: string; readonly kind: string }[] = [];
  for (let after: number | undefined; ;) {
    const rows = await waitingDecisions(data, ofKnot, after, size);
    if (rows.length === 0) return seen;
    if (after === undefined) await afterFirst(rows.map(({ id }) => id));
    seen.push(...rows);
    after = Number(rows.at(-1)?.id);
  }
}

test('each decision is on one page, by kind and then by age, what was put off last', async () => {
  await replaceDecisions(data, 'customers', { of: 'outside', records: [] }, drafts, now.getTime());
  const all = await walk(100);
  expect(all).toHaveLength(40);
  const places = all.map(({ kind }) => decisionKindNames.indexOf(kind as 'held'));
  expect(places).toEqual(places.toSorted((a, b) => a - b));
  expect(await walk(7)).toEqual(all);
  expect((await waitingKinds(data, ofKnot)).map(({ kind, count }) => [kind, count])).toEqual([
    ['held', 10],
    ['duplicate', 10],
    ['refused', 10],
    ['rejected', 10],
  ]);
  const first = all[0]?.id as string;
  await putOff(data, first, now);
  expect((await walk(7)).map(({ id }) => id)).toEqual([...all.slice(1).map(({ id }) => id), first]);
  await putOff(data, first, undefined);
});

test('pages go on where they were when what stood there is decided or put off meanwhile', async () => {
  const before = (await walk(100)).map(({ id }) => id);
  const closed = await walk(5, async (ids) => {
    await closeDecision(data, ids.at(-1) as string, later, 'Vera', now, undefined);
  });
  expect(closed.map(({ id }) => id)).toEqual(before);
  const kept = (await walk(100)).map(({ id }) => id);
  const off = await walk(5, async (ids) => putOff(data, ids[0] as string, now));
  expect(off.map(({ id }) => id)).toEqual([...kept, kept[0]]);
});
