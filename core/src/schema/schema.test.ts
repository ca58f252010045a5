import fc from 'fast-check';
import { compareSchemas } from './compareSchemas.js';
import { Profiler, schemaFrom } from './profile.js';
import type { SourceField, SourceSchema } from './schema.js';
import { DistinctTally, FrequencyTally } from './tally.js';
import { formatOf } from './valueFormat.js';

const profile = (records: Record<string, unknown>[]) => {
  const profiler = new Profiler();
  for (const record of records) profiler.add(record as never);
  return profiler.profile();
};
const field = (records: Record<string, unknown>[], path: string) =>
  profile(records).fields.find((one) => one.path === path);

test('a profile tells how full a field is, what it holds and in which forms, also in nested records', () => {
  const records = [
    {
      id: 'A-1',
      address: { postcode: 'TQ3 8AB' },
      limit: { $number: '9007199254740993.10' },
      tags: ['a'],
      since: '2026-01-02',
      vip: true,
    },
    { id: 'A-2', address: { postcode: ' ' }, limit: 20, tags: [], since: '2025-12-31', vip: false },
    { id: 'A-30', address: null, limit: 3, tags: ['a'], since: null },
  ];
  expect(field(records, 'address.postcode')).toMatchObject({
    sent: 2,
    filled: 1,
    distinct: 1,
    type: 'text',
    formats: [{ value: 'A9 9A', count: 1 }],
  });
  expect(field(records, 'limit')).toMatchObject({
    type: 'number',
    smallest: '3',
    largest: '9007199254740993.10',
    filled: 3,
  });
  expect(field(records, 'since')).toMatchObject({
    type: 'date',
    smallest: '2025-12-31',
    largest: '2026-01-02',
    filled: 2,
    sent: 3,
  });
  expect(field(records, 'tags')).toMatchObject({ type: 'list', filled: 2, commonest: [{ value: '["a"]', count: 2 }] });
  expect(field(records, 'vip')).toMatchObject({ type: 'yes/no', sent: 2, commonest: [{ count: 1 }, { count: 1 }] });
  expect(field(records, 'id')?.formats).toEqual([
    { value: 'A-9', count: 2 },
    { value: 'A-99', count: 1 },
  ]);
});

test('a field of several types says so, and one that is always blank has none', () => {
  expect(field([{ a: 1 }, { a: 'x' }], 'a')).toMatchObject({
    type: 'mixed',
    types: [{ type: 'number' }, { type: 'text' }],
  });
  expect(field([{ a: '2026-01-01' }, { a: 'soon' }], 'a')).toMatchObject({ type: 'text' });
  expect(field([{ a: '' }, { a: null }], 'a')).toMatchObject({ type: 'unknown', filled: 0, sent: 2, distinct: 0 });
});

test('memory stays bounded whatever comes: names as data, endless nesting, unique values', () => {
  let deep: Record<string, unknown> = { end: 1 };
  for (let depth = 0; depth < 50; depth += 1) deep = { below: deep };
  const result = profile([Object.fromEntries(Array.from({ length: 5000 }, (_, n) => [`column${n}`, n])), deep]);
  expect([result.fields.length, result.moreFields]).toEqual([600, true]);
  const unique = field(
    Array.from({ length: 30_000 }, (_, n) => ({ a: `key ${n}`, b: n % 3 === 0 ? 'common' : `rare ${n}` })),
    'b',
  );
  expect(unique?.commonest[0]?.value).toBe('common');
  expect(unique).toMatchObject({ distinctIsExact: false, commonestIsExact: false });
  expect(Math.abs((unique?.distinct ?? 0) / 20_001 - 1)).toBeLessThan(0.1);
});

test('counts of few different texts are exact, and a text that is common enough is never dropped', () => {
  fc.assert(
    fc.property(fc.array(fc.constantFrom('a', 'b', 'c', 'd'), { maxLength: 60 }), (texts) => {
      const tally = new FrequencyTally(4);
      const distinct = new DistinctTally(8);
      for (const text of texts) {
        tally.add(text);
        distinct.add(text);
      }
      const counts = new Map<string, number>();
      for (const text of texts) counts.set(text, (counts.get(text) ?? 0) + 1);
      expect(new Map(tally.commonest(9).map(({ value, count }) => [value, count]))).toEqual(counts);
      expect([distinct.count(), distinct.exact]).toEqual([counts.size, true]);
    }),
  );
  fc.assert(
    fc.property(fc.array(fc.nat(60), { minLength: 50, maxLength: 400 }), (numbers) => {
      const tally = new FrequencyTally(8);
      const texts = numbers.flatMap((n) => [`rare ${n}`, 'often']);
      for (const text of texts) tally.add(text);
      expect(tally.commonest(8).find(({ value }) => value === 'often')?.count ?? 0).toBeLessThanOrEqual(numbers.length);
      expect(tally.commonest(8).map(({ value }) => value)).toContain('often');
    }),
  );
});

test('the form of a value keeps its shape and forgets its letters and digits', () => {
  expect(
    [
      'A-20051',
      '+44 1632 960471',
      'Thornquay',
      'Ottilie Brandt',
      'yard@osprey.example',
      'TQ3 8AB',
      '12,50',
      'Ünlü',
    ].map(formatOf),
  ).toEqual(['A-99999', '+99 9999 999999', 'Aa', 'Aa …', 'a@a.a', 'A9 9A', '99,99', 'Aa']);
  expect(formatOf('x'.repeat(10_000)).length).toBeLessThanOrEqual(40);
  // The quick way over ASCII gives what the way over all of Unicode gives: one letter beyond ASCII at the end switches.
  fc.assert(
    fc.property(fc.string({ unit: fc.constantFrom('a', 'B', '7', ' ', '-', '\t', '_', '.'), maxLength: 30 }), (text) =>
      expect(formatOf(`${text}|ü`)).toBe(formatOf(`${text}|u`)),
    ),
  );
});

const schema = (...fields: SourceField[]): SourceSchema => ({ origin: 'declared', fields });

test('schemas are compared field by field', () => {
  const before = schema(
    { path: 'a', type: 'text', required: true, longest: 40 },
    { path: 'b', type: 'text', choices: ['new', 'open'] },
    { path: 'c', type: 'number' },
    { path: 'd', type: 'unknown' },
  );
  const after = schema(
    { path: 'a', type: 'number', readOnly: true, longest: 80 },
    { path: 'b', type: 'text', choices: ['open', 'closed'] },
    { path: 'd', type: 'date' },
    { path: 'e', type: 'date' },
  );
  expect(compareSchemas(before, after)).toEqual([
    { kind: 'retyped', field: 'a', from: 'text', to: 'number' },
    { kind: 'no longer required', field: 'a' },
    { kind: 'now read-only', field: 'a' },
    { kind: 'length', field: 'a', from: 40, to: 80 },
    { kind: 'choices', field: 'b', added: ['closed'], removed: ['new'] },
    { kind: 'added', field: 'e', type: 'date' },
    { kind: 'removed', field: 'c', type: 'number' },
  ]);
  expect(compareSchemas(before, before)).toEqual([]);
});

test('what a system declares comes before what its records show', () => {
  const seen = profile([{ a: 'x', extra: { z: 1 } }]);
  expect(schemaFrom(schema({ path: 'a', type: 'text', required: true }), seen).fields).toEqual([
    { path: 'a', type: 'text', required: true },
    { path: 'extra.z', type: 'number' },
  ]);
  expect(schemaFrom(undefined, seen)).toMatchObject({ origin: 'seen', fields: [{ path: 'a' }, { path: 'extra.z' }] });
});
