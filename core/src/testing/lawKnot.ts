import { type Knot, type Mapping, type Rule, type SharedField } from '../definition/index.js';
import fc from 'fast-check';
import type { Direction, Step } from '../mapping/index.js';

export const lawMembers = ['a', 'b', 'c', 'd'] as const;

const mapping = (
  field: string,
  direction: Direction,
  steps: readonly Step[] = [],
  drift: Mapping['drift'] = 'put back',
): Mapping => ({
  field,
  direction,
  steps,
  absentMeansBlank: false,
  blankAs: 'null',
  drift,
});

const directions = fc.constantFrom<Direction[]>('both ways', 'both ways', 'both ways', 'from', 'to');
const order: Rule['steps'][number] = { step: 'order', members: [...lawMembers] };
const textRules = fc.constantFrom<Rule[]>(
  { steps: [{ step: 'newest' }, order] },
  { steps: [order] },
  { steps: [{ step: 'ask' }] },
  { steps: [{ step: 'present' }, { step: 'longest' }, { step: 'ask' }] },
  { steps: [{ step: 'newest', toleranceSeconds: 60 }, { step: 'greatest' }, order] },
);
const lossy = fc.constantFrom<Step[][]>(
  [],
  [],
  [{ kind: 'trim' }],
  [{ kind: 'cut', length: 4 }],
  [{ kind: 'case', side: 'member', form: 'upper' }],
  [{ kind: 'trim' }, { kind: 'case', side: 'member', form: 'upper' }, { kind: 'cut', length: 3 }],
  [{ kind: 'crosswalk', table: 'letters' }],
);

function field(id: string, type: SharedField['type'], rule: Rule, mappings: Record<string, Mapping>): SharedField {
  return { id, name: id, type, rule, mappings };
}

/**
 * Knots with three or four members, random directions, rules and lossy translations. The key is read from everywhere.
 */
export const lawKnots: fc.Arbitrary<Knot> = fc
  .record({
    count: fc.constantFrom(3, 4),
    textRule: textRules,
    numberRule: fc.constantFrom<Rule[]>(
      { steps: [{ step: 'newest' }, order] },
      { steps: [{ step: 'least' }, order] },
      { steps: [{ step: 'ask' }] },
    ),
    directions: fc.array(directions, { minLength: 8, maxLength: 8 }),
    steps: fc.array(lossy, { minLength: 4, maxLength: 4 }),
    mayCreate: fc.array(fc.boolean(), { minLength: 4, maxLength: 4 }),
    drift: fc.constantFrom<Mapping['drift'][]>('put back', 'leave'),
  })
  .map(({ count, textRule, numberRule, directions: ways, steps, mayCreate, drift }): Knot => {
    const members = lawMembers.slice(0, count);
    const each = (make: (index: number) => Mapping) =>
      Object.fromEntries(members.map((member, index) => [member, make(index)]));
    const inKnot = (rule: Rule): Rule => ({
      ...rule,
      steps: rule.steps.map((step) => (step.step === 'order' ? { ...step, members } : step)),
    });
    return {
      id: 'laws',
      name: 'Laws',
      thing: 'thing',
      titleField: 'key',
      start: 'merge',
      members: members.map((id, index) => ({
        id,
        system: id,
        object: 'things',
        may: { create: mayCreate[index] ?? true, update: true },
        startsAnchors: true,
        required: [],
        guards: {},
      })),
      fields: [
        field(
          'key',
          'text',
          { steps: [{ step: 'order', members }] },
          each(() => mapping('key', 'both ways', [])),
        ),
        field(
          'name',
          'text',
          inKnot(textRule),
          each((index) => mapping('name', ways[index] as Direction, steps[index] as Step[], drift)),
        ),
        field(
          'amount',
          'number',
          inKnot(numberRule),
          each((index) =>
            mapping('amount', ways[index + 4] as Direction, index === 1 ? [{ kind: 'number', places: 0 }] : [], drift),
          ),
        ),
        {
          ...field(
            'label',
            'text',
            { steps: [{ step: 'ask' }] },
            each((index) => mapping('label', 'to', index === 0 ? [{ kind: 'cut', length: 5 }] : [], drift)),
          ),
          formula: 'text(firstFilled(name, "none")) + "/" + text(firstFilled(amount, "-"))',
        },
      ],
      keyRules: [{ name: 'Key', fields: [{ field: 'key', normalise: 'text' }] }],
      checks: [],
      crosswalks: {
        letters: {
          name: 'Letters',
          rows: [
            { shared: 'one', values: Object.fromEntries(members.map((member) => [member, ['1', 'I']])) },
            { shared: 'two', values: Object.fromEntries(members.map((member) => [member, ['2', 'II']])) },
          ],
        },
      },
    };
  });

export type LawEdit = {
  readonly member: number;
  readonly record: number;
  readonly field: 'name' | 'amount';
  readonly value: string | number | null;
};

export const lawEdits: fc.Arbitrary<LawEdit> = fc.record({
  member: fc.nat(3),
  record: fc.nat(2),
  field: fc.constantFrom<('name' | 'amount')[]>('name', 'amount'),
  value: fc.oneof(
    fc.constantFrom('1', 'I', 'II', 'abcdef', 'abcdxx', 'ABC', 'one', 'two', ' x ', 'abc', ''),
    fc.integer({ min: 0, max: 30 }).map((tenths) => tenths / 10),
    fc.constant(null),
  ),
});
