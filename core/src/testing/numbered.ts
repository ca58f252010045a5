import fc from 'fast-check';
import type { Knot } from '../definition/index.js';
import type { Raw } from '../record/index.js';
import type { Happening } from './history.js';
import { writeFates } from './played.js';
import { smallKnot } from './smallKnot.js';

/** A small knot whose field f takes its numbers from the series `things`. */
export function numbered(
  more: Partial<Parameters<typeof smallKnot>[0]> = {},
  change: (knot: Knot) => Knot = (k) => k,
): Knot {
  const knot = smallKnot({ members: 3, rule: { steps: [{ step: 'order', members: [] }] }, ...more });
  const fields = knot.fields.map((field) => (field.id === 'f' ? { ...field, series: 'things' } : field));
  return change({ ...knot, fields });
}

const member = fc.nat(2);
const record = fc.nat(3);
const happening: fc.Arbitrary<Happening> = fc.oneof(
  {
    weight: 4,
    arbitrary: fc.record({
      kind: fc.constant('edit' as const),
      member,
      record,
      path: fc.constant('g'),
      value: fc.constantFrom<Raw[]>('one', 'two', 'three'),
    }),
  },
  {
    weight: 2,
    arbitrary: fc.record({
      kind: fc.constant('edit' as const),
      member,
      record,
      path: fc.constant('f'),
      value: fc.constantFrom<Raw[]>(null, 'own 1', 'own 2'),
    }),
  },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('delete' as const), member, record }) },
  {
    weight: 4,
    arbitrary: fc.record({
      kind: fc.constant('run' as const),
      fates: fc.array(fc.constantFrom('ok' as const, 'ok' as const, ...writeFates), { maxLength: 4 }),
      race: fc.record({ path: fc.constantFrom('g', 'f'), value: fc.constantFrom<Raw[]>('raced', null) }),
    }),
  },
);

/** Edits, also of numbers and of what comes to nothing, deletions, and writes that end in every way. */
export const numberHistories = fc.array(happening, { minLength: 3, maxLength: 25 });
