/** Comparing in threads: the built files, because threads load those. */
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { evidenceTexts, finished, LikelyPairs, PreparedJob } from '@anchor-knot/core';
import { demoCustomers, generateCustomers } from '@anchor-knot/standins';
import type * as Comparing from './compareRecords.js';

const { compareRecords } = (await import(
  pathToFileURL(join(import.meta.dirname, '../../dist/matching/compareRecords.js')).href
)) as typeof Comparing;
const evidence = [
  { name: 'Company', fields: ['company'], compare: 'company name' as const },
  { name: 'Phone', fields: ['phone'], compare: 'phone' as const },
  { name: 'Street', fields: ['street'], compare: 'address' as const },
];
const { accounts, shoppers } = generateCustomers({ ...demoCustomers, inBoth: 1800, onlyCrm: 400, onlyShop: 300 });
const texts = [
  ...accounts.map(({ name, contact, address }) =>
    evidenceTexts(evidence, { company: name, phone: contact.phone, street: address.street }),
  ),
  ...shoppers.map(({ company_name, tel, address_line }) =>
    evidenceTexts(evidence, { company: company_name, phone: tel, street: address_line }),
  ),
];
const job = {
  evidence,
  texts,
  memberOf: texts.map((_, place) => (place < accounts.length ? 0 : 1)),
  members: 2,
  newcomers: texts.length,
  withinMembers: true,
};

test(
  'many records are compared in threads, a thousand at a time, and come to the same as one ' + 'after another',
  async () => {
    const told: number[] = [];
    const { likely, weights, compared } = await compareRecords({ ...job, onProgress: (done) => told.push(done) });
    expect(told.at(-1)).toBe(texts.length);
    expect(told.length).toBe(Math.ceil(texts.length / 1000));
    const alone = new PreparedJob({ ...job, weights });
    const part = alone.compare({ from: 0, to: texts.length });
    expect(part.compared).toBe(compared);
    const same = finished(LikelyPairs.of(evidence, weights, texts, [part], -10)).pairs;
    const sorted = (pairs: typeof same) => pairs.map(({ left, right, bits }) => `${left}/${right} ${bits}`).sort();
    expect(sorted(likely.pairs)).toEqual(sorted(same));
    expect(likely.pairs.length).toBeGreaterThan(1500);
  },
);

test('whoever stops it has it stopped at once', async () => {
  const stop = new AbortController();
  let told = 0;
  const working = compareRecords({
    ...job,
    signal: stop.signal,
    onProgress: () => {
      told += 1;
      stop.abort();
    },
  });
  await expect(working).rejects.toThrow(/abort/i);
  expect(told).toBeLessThan(Math.ceil(texts.length / 1000));
});

test('evidence of nothing, and of too much, is refused', async () => {
  await expect(compareRecords({ ...job, evidence: [] })).rejects.toThrow('1 to 20');
  await expect(
    compareRecords({ ...job, evidence: Array.from({ length: 21 }, () => evidence[0] as (typeof evidence)[number]) }),
  ).rejects.toThrow('1 to 20');
});
