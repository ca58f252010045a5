/**
 * Running numbers: each thing takes one once, as soon as a system is to be told of it, and no two things have the same,
 * whatever is edited, deleted, refused or lost meanwhile. `LAW_RUNS` says how many histories.
 */
import fc from 'fast-check';
import { type CompiledKnot, compileKnot, type Knot } from './definition/index.js';
import { mergeAnchor, type Reading } from './merge/index.js';
import { anchorId, recordKey } from './record/index.js';
import { lastNumber, noYear, type Series, seriesText, yearOf } from './series/index.js';
import { Play } from './testing/history.js';
import { howMany } from './testing/howMany.js';
import { numbered, numberHistories } from './testing/numbered.js';
import { World } from './testing/world.js';

const runs = howMany(process.env.LAW_RUNS, 400);

test('no number is given twice, none is spent for nothing, and what has one keeps it', async () => {
  const seen = { given: 0, own: 0, kept: 0 };
  await fc.assert(
    fc.asyncProperty(numberHistories, async (history) => {
      const knot = numbered();
      const world = new World(knot);
      const play = await new Play(world, [knot]).play(history);
      for (let round = 0; round < 3; round += 1) await play.run();
      expect((await play.run()).operations).toEqual([]);
      expect(play.faults).toEqual([]);
      const taken = [...world.numbers.values()];
      expect(new Set(taken).size).toBe(taken.length);
      for (const { id, agreed } of world.anchors.values()) {
        const number = world.numbers.get(`${id} f`);
        if (agreed.f?.why.kind === 'number') {
          expect(agreed.f.value).toBe(number);
          seen.given += 1;
        } else if (agreed.f) seen.own += 1;
        if (number !== undefined && agreed.f?.value !== number) seen.kept += 1;
      }
    }),
    runs,
  );
  for (const [what, count] of Object.entries(seen)) expect([what, count > 0]).toEqual([what, true]);
});

test('a number is taken when a system is told of it: not while nothing is written, nor if one is known', async () => {
  const alone = new World(
    numbered({}, (knot) => ({
      ...knot,
      members: knot.members.map((one) => ({ ...one, may: { create: false, update: one.id === 'b' } })),
    })),
  );
  alone.edit('a', '1', 'key', 'k');
  await alone.run();
  expect(alone.numbers.size).toBe(0);
  alone.edit('b', '1', 'key', 'k');
  await alone.run();
  // The record in a may not be updated: the other one has it.
  expect([alone.value('b', '1', 'f'), [...alone.numbers.values()]]).toEqual(['N1', ['N1']]);

  const known = new World(numbered());
  known.edit('c', '1', 'key', 'k');
  known.edit('c', '1', 'f', 'own');
  await known.run();
  expect([known.numbers.size, [...known.of('a').values()].map(({ fields }) => fields.f)]).toEqual([0, ['own']]);
  known.edit('c', '1', 'f', null);
  await known.run();
  expect([known.numbers.size, [...known.of('a').values()].map(({ fields }) => fields.f)]).toEqual([0, [null]]);
});

test('what nobody has edited takes no number where things were adopted', async () => {
  const world = new World(numbered({ start: 'adopt' }));
  for (const name of ['a', 'b']) for (const path of ['key', 'g']) world.edit(name, '1', path, 'k');
  await world.run();
  expect(world.numbers.size).toBe(0);
  world.edit('a', '1', 'g', 'edited');
  await world.run();
  expect(world.value('b', '1', 'f')).toBe('N1');
});

test('no number is taken while a record may hold one that cannot be seen or read', () => {
  const { knot } = compileKnot(numbered()) as { knot: CompiledKnot };
  const tie = (name: string) => ({ member: name, key: recordKey('1'), seen: { key: 'k' }, ahead: {}, left: {} });
  const anchor = { id: anchorId('x'), agreed: {}, ties: [tie('a'), tie('b')], beganIn: ['a'], parkedCreates: {} };
  const given = (reading: Reading) =>
    mergeAnchor({ knot, anchor, readings: new Map([['a', reading]]), now: 1, numbers: new Map([['f', 'N1']]) }).anchor
      .agreed.f?.value;
  expect(given({ fields: { key: 'k' } })).toBe('N1');
  expect(given({ fields: { key: 'k' }, rejected: ['it is not right'] })).toBeUndefined();
  expect(given({ fields: { key: 'k', f: ['a', 'list'] } })).toBeUndefined();
});

test('a definition says which fields can take numbers', () => {
  const problems = (change: (knot: Knot) => Knot): string[] => {
    const compiled = compileKnot(numbered({}, change));
    return compiled.ok ? [] : compiled.problems.map(({ at, says }) => `${at}: ${says}`);
  };
  const withF = (more: object) => (knot: Knot) => ({
    ...knot,
    fields: knot.fields.map((field) => (field.id === 'f' ? { ...field, ...more } : field)),
  });
  expect(problems((knot) => knot)).toEqual([]);
  expect(problems(withF({ type: 'number' }))).toEqual([
    'fields.f.series: only a field of type text takes numbers from a series',
  ]);
  const mappings = Object.fromEntries(
    Object.entries(numbered().fields[1]?.mappings ?? {}).map(([id, one]) => [id, { ...one, direction: 'from' }]),
  );
  expect(problems(withF({ mappings }))).toEqual([
    'fields.f.series: no system is told of its numbers: map it to one, or both ways',
  ]);
});

test('a number has its prefix, its year where it has one, and its digits', () => {
  const series: Series = { name: 'Service', prefix: 'S', digits: 4, yearly: true, zone: 'Pacific/Kiritimati' };
  const newYear = Date.UTC(2026, 11, 31, 12);
  expect(yearOf(series, newYear)).toBe(2027);
  expect(yearOf({ ...series, zone: 'Europe/London' }, newYear)).toBe(2026);
  expect(seriesText(series, 2027, 7)).toBe('S2027-0007');
  expect(seriesText({ ...series, yearly: false }, noYear, 12_345)).toBe('S12345');
  expect(lastNumber(series)).toBe(9999);
});
