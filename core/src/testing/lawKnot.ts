import fc from 'fast-check';
import type { Knot, Mapping, Member, Rule, SharedField } from '../definition/index.js';
import type { Direction, Step } from '../mapping/index.js';
import type { Raw } from '../record/index.js';
import type { Happening, PersonAct } from './history.js';
import { type WriteFate, writeFates } from './played.js';
import { mapping as plainMapping } from './mapping.js';

export const lawMembers = ['a', 'b', 'c', 'd'] as const;

const mapping = (
  field: string,
  direction: Direction,
  steps: readonly Step[] = [],
  drift: Mapping['drift'] = 'put back',
): Mapping => ({ ...plainMapping(field, direction, steps), drift });

const directions = fc.constantFrom<Direction[]>('both ways', 'both ways', 'both ways', 'from', 'to');
const order: Rule['steps'][number] = { step: 'order', members: [...lawMembers] };
const textRules = fc.constantFrom<Rule[]>(
  { steps: [{ step: 'newest' }, order] },
  { steps: [order] },
  { steps: [{ step: 'ask' }] },
  { steps: [{ step: 'present' }, { step: 'longest' }, { step: 'ask' }] },
  { steps: [{ step: 'newest', toleranceSeconds: 60 }, { step: 'greatest' }, order] },
);
const noteRules = fc.constantFrom<Rule[]>(
  { combine: 'text', steps: [{ step: 'ask' }] },
  { combine: 'text', steps: [{ step: 'newest' }, order] },
  { steps: [{ step: 'longest' }, { step: 'newest' }, { step: 'ask' }] },
);
const listRules = fc.constantFrom<Rule[]>({ combine: 'union', steps: [{ step: 'ask' }] }, { steps: [order] });
const numberRules = fc.constantFrom<Rule[]>(
  { steps: [{ step: 'newest' }, order] },
  { steps: [{ step: 'least' }, order] },
  { steps: [{ step: 'ask' }] },
  { combine: 'sum', steps: [{ step: 'newest' }, order] },
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

interface Choices {
  readonly count: number;
  readonly start: Knot['start'];
  readonly textRule: Rule;
  readonly numberRule: Rule;
  readonly noteRule: Rule;
  readonly listRule: Rule;
  readonly directions: readonly Direction[];
  readonly steps: readonly (readonly Step[])[];
  readonly mayCreate: readonly boolean[];
  readonly drift: Mapping['drift'];
  readonly whenDeleted: Member['whenDeleted'];
  readonly checked: boolean;
  readonly filtered: boolean;
  readonly startsElsewhere: boolean;
  /** The second member's name is kept in another of its fields. */
  readonly moved: boolean;
  /** The first member is told what became of its things in the second, and the third in the first. */
  readonly told: 'nothing' | 'state' | 'all';
  readonly acknowledged: boolean;
}

const fixed = {
  count: fc.constantFrom(3, 4),
  start: fc.constantFrom<Knot['start'][]>('merge', 'merge', 'merge', 'adopt'),
};
const variable = {
  textRule: textRules,
  numberRule: numberRules,
  noteRule: noteRules,
  listRule: listRules,
  directions: fc.array(directions, { minLength: 16, maxLength: 16 }),
  steps: fc.array(lossy, { minLength: 4, maxLength: 4 }),
  mayCreate: fc.array(fc.boolean(), { minLength: 4, maxLength: 4 }),
  drift: fc.constantFrom<Mapping['drift'][]>('put back', 'leave'),
  whenDeleted: fc.constantFrom<Member['whenDeleted'][]>('nothing', 'archive', 'delete', 'ask'),
  checked: fc.boolean(),
  filtered: fc.constantFrom(false, false, true),
  startsElsewhere: fc.constantFrom(false, false, true),
  moved: fc.constantFrom(false, false, false, true),
  told: fc.constantFrom<Choices['told'][]>('nothing', 'state', 'all'),
  acknowledged: fc.constantFrom(false, false, true),
};

/**
 * Knots with three or four members, random directions, rules (combining ones too), deletions, checks, filters and lossy
 * translations; merging or adopting at the beginning. The key is read from everywhere.
 */
export const lawKnots: fc.Arbitrary<Knot> = fc.record({ ...fixed, ...variable }).map(knotOf);

/** Two definitions of the same knot: the second is what somebody puts in force later. */
export const lawVersions: fc.Arbitrary<readonly [Knot, Knot]> = fc
  .tuple(fc.record(fixed), fc.record(variable), fc.record(variable))
  .map(([same, first, second]) => [knotOf({ ...same, ...first }), knotOf({ ...same, ...second })]);

function knotOf(choices: Choices): Knot {
  const { count, directions: ways, steps, drift } = choices;
  const members = lawMembers.slice(0, count);
  const each = (make: (index: number) => Mapping) =>
    Object.fromEntries(members.map((member, index) => [member, make(index)]));
  const inKnot = (rule: Rule): Rule => ({
    ...rule,
    steps: rule.steps.map((step) => (step.step === 'order' ? { ...step, members } : step)),
  });
  const way = (place: number, index: number): Direction => ways[place * 4 + index] as Direction;
  return {
    id: 'laws',
    name: 'Laws',
    thing: 'thing',
    titleField: 'key',
    start: choices.start,
    members: members.map((id, index) => ({
      id,
      system: id,
      object: 'things',
      may: { create: choices.mayCreate[index] ?? true, update: true, archive: true, delete: true },
      startsAnchors: !(choices.startsElsewhere && index === 1),
      required: [],
      guards: {},
      whenDeleted: choices.whenDeleted,
      ...outcomesOf(choices, index),
      ...(choices.filtered && index === 2 ? { filter: 'record.name != "out"' } : {}),
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
        inKnot(choices.textRule),
        each((index) => mapping(choices.moved && index === 1 ? 'alias' : 'name', way(0, index), steps[index], drift)),
      ),
      field(
        'amount',
        'number',
        inKnot(choices.numberRule),
        each((index) => mapping('amount', way(1, index), index === 1 ? [{ kind: 'number', places: 0 }] : [], drift)),
      ),
      field(
        'note',
        'note',
        inKnot(choices.noteRule),
        each((index) => mapping('note', way(2, index), index === 0 ? [{ kind: 'cut', length: 5 }] : [], drift)),
      ),
      field(
        'tags',
        'list',
        inKnot(choices.listRule),
        each((index) => mapping('tags', way(3, index), index === 1 ? [{ kind: 'list', separator: ',' }] : [], drift)),
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
    checks: choices.checked
      ? [{ id: 'small', says: 'the amount is below 25', onFail: 'reject', formula: 'amount == null || amount < 25' }]
      : [],
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
}

/** The word that stands for *ready* in the laws' systems. */
export const readyWord = 'again';

function outcomesOf({ told, acknowledged }: Choices, index: number): Pick<Member, 'outcomes' | 'acknowledges'> {
  const acknowledges = acknowledged && index === 1 ? { acknowledges: { field: 'booked', lateAfter: 1 } } : {};
  const of = index === 0 ? lawMembers[1] : index === 2 ? lawMembers[0] : undefined;
  if (told === 'nothing' || of === undefined) return acknowledges;
  const state = { field: 'state', done: 'fine', failed: 'wrong', pending: 'soon', ready: readyWord };
  const all = { words: 'words', time: 'told at', key: 'there', link: 'page' };
  return { ...acknowledges, outcomes: [{ of, state, ...(told === 'all' ? all : {}) }] };
}

const values: Readonly<Record<string, fc.Arbitrary<Raw>>> = {
  // Somebody sets a record back, or writes something else there; and a system acknowledges.
  state: fc.constantFrom<Raw[]>(readyWord, readyWord, 'mine', null),
  booked: fc.constantFrom<Raw[]>('yes', 'yes', null),
  name: fc.constantFrom('1', 'I', 'II', 'abcdef', 'abcdxx', 'ABC', 'one', 'two', ' x ', 'abc', 'out', '', null),
  amount: fc.oneof(
    fc.integer({ min: 0, max: 300 }).map((tenths) => tenths / 10),
    fc.constant(null),
  ),
  note: fc.constantFrom('a\nb\nc\nd\ne', 'a\nb\nC\nd\ne', 'X\nb\nc', 'x', 'a\nb\nc\nd\ne\nf', null),
  tags: fc.constantFrom<Raw[]>(['p'], ['p', 'q'], ['q'], null),
};

/** What somebody types into a field of some record. */
export const lawEdits = fc
  .constantFrom('name', 'name', 'amount', 'note', 'tags', 'state', 'booked')
  .chain((path) =>
    fc
      .record({ member: fc.nat(3), record: fc.nat(2), value: values[path] as fc.Arbitrary<Raw> })
      .map((edit) => ({ kind: 'edit' as const, path, ...edit })),
  );

/** Two people type into the same field of the same thing, in different systems; a run finds both. */
const clashes = fc.constantFrom('name', 'amount', 'note', 'note', 'tags').chain((path) => {
  const value = values[path] as fc.Arbitrary<Raw>;
  return fc.tuple(fc.nat(3), fc.nat(2), value, value).map(([member, record, first, second]): Happening[] => [
    { kind: 'edit', member, record, path, value: first },
    { kind: 'edit', member: member + 1, record, path, value: second },
  ]);
});

const acts: fc.Arbitrary<PersonAct> = fc.oneof(
  fc.record({ kind: fc.constant('settle' as const), choice: fc.nat(5) }),
  fc.record({ kind: fc.constant('untie' as const), member: fc.nat(3), record: fc.nat(2) }),
  fc.record({
    kind: fc.constant('say what follows' as const),
    end: fc.constantFrom('keep others' as const, 'archive others' as const, 'delete others' as const),
  }),
  fc.record({ kind: fc.constant('put in force' as const), version: fc.nat(1) }),
);

const fates = fc.array(fc.constantFrom<WriteFate[]>('ok', 'ok', 'ok', ...writeFates), { minLength: 6, maxLength: 6 });
const runs = fc.record({
  kind: fc.constant('run' as const),
  fates,
  race: fc.record({ path: fc.constantFrom('name', 'note'), value: fc.constantFrom('race', 'race 2', null) }),
  meanwhile: fc.option(fc.record({ moment: fc.constantFrom('planned' as const, 'writing' as const), act: acts }), {
    nil: undefined,
    freq: 3,
  }),
  missing: fc.option(fc.nat(3), { nil: undefined, freq: 6 }),
});

const alone = (happening: Happening): Happening[] => [happening];

/** Each member has each record, with something in every field, and a run has tied them. */
const begun: fc.Arbitrary<Happening[]> = fc
  .tuple(...['name', 'amount', 'note', 'tags'].map((path) => values[path] as fc.Arbitrary<Raw>))
  .map((chosen): Happening[] => [
    ...['name', 'amount', 'note', 'tags'].flatMap((path, place) =>
      [0, 1, 2].flatMap((member) =>
        [0, 1].map((record) => ({ kind: 'edit' as const, member, record, path, value: chosen[place] ?? null })),
      ),
    ),
    { kind: 'run' },
  ]);

/** Everything that happens to an installation, in any order; half of them begin with records that are tied. */
export const lawHistories: fc.Arbitrary<Happening[]> = fc
  .tuple(
    fc.option(begun, { nil: [], freq: 1 }),
    fc.array(
      fc.oneof(
        { weight: 4, arbitrary: lawEdits.map(alone) },
        { weight: 2, arbitrary: clashes },
        {
          weight: 1,
          arbitrary: fc
            .record({ kind: fc.constant('delete' as const), member: fc.nat(3), record: fc.nat(2) })
            .map(alone),
        },
        { weight: 1, arbitrary: acts.map((act) => alone({ kind: 'act', act })) },
        { weight: 3, arbitrary: runs.map(alone) },
      ),
      { minLength: 2, maxLength: 24 },
    ),
  )
  .map(([first, then]) => [...first, ...then.flat()]);
