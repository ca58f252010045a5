import { type Knot, type SharedField } from './definition/index.js';
/** The laws of the engine, as properties over random knots, edit histories and failing writes. */
import fc from 'fast-check';
import type { Operation } from './plan/index.js';
import { type FieldId, type MemberId, type RecordKey, sameShared, type Shared } from './record/index.js';
import { lawEdits, lawKnots, lawMembers, type LawEdit } from './testing/lawKnot.js';
import { type RunOutcome, World, type WriteFate } from './testing/world.js';

type Round = { readonly edits: readonly LawEdit[]; readonly fates: readonly WriteFate[] };

const fates = fc.array(fc.constantFrom<WriteFate[]>('ok', 'ok', 'ok', 'fails', 'raced', 'refused', 'altered'), {
  minLength: 6,
  maxLength: 6,
});
const rounds: fc.Arbitrary<Round[]> = fc.array(fc.record({ edits: fc.array(lawEdits, { maxLength: 5 }), fates }), {
  minLength: 1,
  maxLength: 5,
});
const history = fc.record({ knot: lawKnots, rounds });
const runs = { numRuns: Number(process.env.LAW_RUNS ?? 400) };

function recordOf(world: World, edit: LawEdit): { member: MemberId; key: RecordKey } {
  const member = lawMembers[edit.member % world.knot.members.length] as MemberId;
  const known = [...world.of(member).values()].find(({ fields }) => fields.key === `k${edit.record}`);
  return { member, key: known?.key ?? (`${member}${edit.record}` as RecordKey) };
}

function apply(world: World, edit: LawEdit): void {
  const { member, key } = recordOf(world, edit);
  if (!world.of(member).has(key)) world.edit(member, key, 'key', `k${edit.record}`);
  if (edit.field === 'amount' && typeof edit.value === 'string') return;
  world.edit(
    member,
    key,
    edit.field,
    edit.field === 'name' && typeof edit.value === 'number' ? String(edit.value) : edit.value,
  );
}

function play(world: World, { edits, fates: ends }: Round): RunOutcome {
  for (const edit of edits) apply(world, edit);
  let count = 0;
  return world.run({
    fate: () => ends[(count += 1) % ends.length] as WriteFate,
    race: (operation: Operation) => {
      if (operation.kind === 'update') world.edit(operation.member, operation.key, 'name', `race${count}`);
    },
  });
}

function worldAfter(knot: Knot, all: readonly Round[]): World {
  const world = new World(knot);
  for (const round of all) play(world, round);
  return world;
}

test('Quiet and No echo: after runs whose writes succeed, a run without edits does nothing and sees no edit', () => {
  let wrote = 0;
  fc.assert(
    fc.property(history, ({ knot, rounds: all }) => {
      const world = worldAfter(knot, all);
      // Also a system that keeps something else than it was given must not be written for ever.
      for (let run = 0; run < 2; run += 1) wrote += world.run({ fate: () => 'altered' }).operations.length;
      const before = world.portrait();
      const quiet = world.run();
      expect(quiet.operations).toEqual([]);
      expect(quiet.lost).toEqual([]);
      expect(world.portrait()).toBe(before);
    }),
    runs,
  );
  expect(wrote).toBeGreaterThan(100);
});

test('Converge: two runs after the last edit, every both-ways value means the agreed one', () => {
  fc.assert(
    fc.property(history, ({ knot, rounds: all }) => {
      const world = worldAfter(knot, all);
      world.run();
      const last = world.run();
      const exempt = new Set([...last.held.map(({ anchor, field }) => `${anchor}/${field}`)]);
      for (const anchor of world.anchors.values()) {
        for (const tie of anchor.ties) {
          if (tie.parked) continue;
          const record = world.of(tie.member).get(tie.key);
          const raws = record ? world.knot.rawFields(tie.member, record) : {};
          for (const field of world.knot.fields) {
            const lens = field.mappings.get(tie.member)?.lens;
            const agreed = anchor.agreed[field.id];
            if (!lens?.reads || !lens.writes || !agreed || exempt.has(`${anchor.id}/${field.id}`)) continue;
            if (last.problems.some((problem) => problem.member === tie.member && problem.field === field.id)) continue;
            const present = raws[field.id];
            expect(present === undefined ? agreed.value === null : lens.means(present, agreed.value)).toBe(true);
          }
        }
      }
    }),
    runs,
  );
});

/** What a record means: as it is now, or as the last merge saw it. An edit back to what was seen is none. */
function meaning(
  world: World,
  when: 'now' | 'seen',
  member: MemberId,
  key: RecordKey,
  field: FieldId,
): Shared | undefined {
  const record = world.of(member).get(key);
  const anchor = [...world.anchors.values()].find(({ ties }) =>
    ties.some((tie) => tie.member === member && tie.key === key),
  );
  const lens = world.knot.fields.find(({ id }) => id === field)?.mappings.get(member)?.lens;
  const raw =
    when === 'seen'
      ? anchor?.ties.find((tie) => tie.member === member)?.seen[field]
      : record && world.knot.rawFields(member, record)[field];
  if (!lens?.reads || raw === undefined) return undefined;
  const value = lens.inbound(raw, anchor?.agreed[field]?.value);
  return value.ok ? value.value : undefined;
}

test('No lost edit: each edit was agreed, lost to a named rule, is shadowed, or is held and stays so', () => {
  let edited = 0;
  fc.assert(
    fc.property(history, lawEdits, fates, ({ knot, rounds: all }, edit, ends) => {
      const world = worldAfter(knot, all);
      const { member, key } = recordOf(world, edit);
      const before = meaning(world, 'seen', member, key, edit.field);
      apply(world, edit);
      const after = meaning(world, 'now', member, key, edit.field);
      if (after === undefined || after === null || sameShared(before ?? null, after)) return;
      edited += 1;
      const raw = world.knot.rawFields(member, world.of(member).get(key) as never)[edit.field] as string;
      const anchorsBefore = new Map(world.anchors);
      const outcome = play(world, { edits: [], fates: ends });
      const anchor = [...world.anchors.values()].find(({ ties }) =>
        ties.some((tie) => tie.member === member && tie.key === key),
      );
      const lens = world.knot.fields.find(({ id }) => id === edit.field)?.mappings.get(member)?.lens;
      const agreed = anchor?.agreed[edit.field];
      const known = anchorsBefore.get(anchor?.id as never)?.agreed[edit.field]?.value;
      // A newcomer that says what is agreed already has no edit of its own.
      if (before === undefined && known !== undefined && lens?.means(raw, known)) return;
      // What the record says depends on what it knew: by itself, or with the value that was agreed before.
      const says = [undefined, known].map((agreedThen) => lens?.inbound(raw, agreedThen));
      const isSaid = (value: Shared): boolean =>
        says.some((said) => said?.ok === true && sameShared(said.value, value));
      const won = agreed !== undefined && (isSaid(agreed.value) || lens?.means(raw, agreed.value));
      const lost = outcome.lost.some((one) => one.field === edit.field && one.member === member && isSaid(one.value));
      // A shadow of a value that is held stands for it.
      const isHeld = (run: RunOutcome) =>
        run.held.some(
          (held) =>
            held.anchor === anchor?.id &&
            held.field === edit.field &&
            held.candidates.some(({ value }) => isSaid(value) || lens?.means(raw, value)),
        );
      // A write that raced came with another edit, which may well have settled it.
      if (isHeld(outcome) && !ends.includes('raced')) expect(isHeld(world.run())).toBe(true);
      expect(won || lost || isHeld(outcome)).toBe(true);
    }),
    runs,
  );
  expect(edited).toBeGreaterThan(50);
});

test('No lost edit: an edit on top of a value that had not arrived competes with it', () => {
  fc.assert(
    fc.property(lawKnots, fc.constantFrom<WriteFate[]>('fails', 'refused'), (knot, fate) => {
      const both = knot.members
        .filter(({ id }) => knot.fields[2]?.mappings[id]?.direction === 'both ways')
        .map(({ id }) => id);
      if (both.length < 2) return;
      const [one, other] = both as [string, string];
      const world = new World(knot);
      for (const member of [one, other]) {
        world.edit(member, 'x', 'key', 'k');
        world.edit(member, 'x', 'amount', 1);
      }
      world.run();
      world.edit(one, 'x', 'amount', 5);
      world.run({ fate: () => fate });
      world.edit(other, 'x', 'amount', 9);
      const outcome = world.run();
      const agreed = [...world.anchors.values()][0]?.agreed.amount?.value;
      const fiveIsKept = agreed === '5' || outcome.lost.some(({ value }) => value === '5') || outcome.held.length > 0;
      const nineIsKept = agreed === '9' || outcome.lost.some(({ value }) => value === '9') || outcome.held.length > 0;
      expect([fiveIsKept, nineIsKept]).toEqual([true, true]);
    }),
    runs,
  );
});

test('Order-free: nothing depends on the order in which members and records are read', () => {
  fc.assert(
    fc.property(history, ({ knot, rounds: all }) => {
      const forward = new World(knot);
      const backward = new World(knot);
      for (const { edits } of all) {
        for (const edit of edits) {
          apply(forward, edit);
          apply(backward, edit);
        }
        const planned = forward.run({ fate: (operation) => (operation.kind === 'create' ? 'fails' : 'ok') });
        const reversed = backward.run({
          shuffle: (items) => items.toReversed(),
          fate: (operation) => (operation.kind === 'create' ? 'fails' : 'ok'),
        });
        expect(reversed.operations.map(({ fingerprint, member }) => member + fingerprint).sort()).toEqual(
          planned.operations.map(({ fingerprint, member }) => member + fingerprint).sort(),
        );
        expect(backward.portrait()).toBe(forward.portrait());
      }
    }),
    runs,
  );
});

test('Alone: a held field stops nothing else, and a failing member stops no other', () => {
  fc.assert(
    fc.property(lawKnots, (definition) => {
      const knot = {
        ...definition,
        fields: definition.fields.flatMap((field): SharedField[] =>
          field.formula !== undefined
            ? []
            : [
                {
                  ...field,
                  ...(field.id === 'name' ? { rule: { steps: [{ step: 'ask' as const }] } } : {}),
                  mappings: Object.fromEntries(
                    Object.entries(field.mappings).map(([member, mapping]) => [
                      member,
                      { ...mapping, direction: 'both ways' as const, ...(field.id === 'name' ? { steps: [] } : {}) },
                    ]),
                  ),
                },
              ],
        ),
      };
      const world = new World(knot);
      const [a, b, c] = knot.members.map(({ id }) => id) as [string, string, string];
      for (const member of [a, b, c]) world.edit(member, 'x', 'key', 'k');
      world.edit(a, 'x', 'name', 'one thing');
      world.edit(b, 'x', 'name', 'another thing');
      world.edit(a, 'x', 'amount', 7);
      const outcome = world.run({ fate: ({ member }) => (member === b ? 'fails' : 'ok') });
      expect(outcome.held.map(({ field }) => field)).toEqual(['name']);
      expect(world.value(c, 'x', 'amount')).toBe(7);
      expect(world.value(c, 'x', 'name')).toBeUndefined();
      expect(world.value(b, 'x', 'amount')).toBeUndefined();
    }),
    { numRuns: 50 },
  );
});
