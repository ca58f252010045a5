/**
 * The laws of the engine, as properties over random knots and histories: edits at any time, deletions, failing and odd
 * writes, people who decide in the middle, new versions, members that cannot be read. `LAW_RUNS` says how many.
 */
import fc from 'fast-check';
import type { SharedField } from './definition/index.js';
import { mergeAnchor } from './merge/index.js';
import type { MemberId, Raw } from './record/index.js';
import { howMany } from './testing/howMany.js';
import { type Happening, playInWorld, type Versions } from './testing/history.js';
import { lawHistories, lawKnots, lawVersions, readyWord } from './testing/lawKnot.js';
import type { WriteFate } from './testing/played.js';
import { World } from './testing/world.js';

const runs = howMany(process.env.LAW_RUNS, 400);

test('No lost edit, No echo, Accounted: every edit has an end that is told, and every value a giver', async () => {
  const ends = { agreed: 0, lost: 0, held: 0, combined: 0, waiting: 0 };
  await fc.assert(
    fc.asyncProperty(lawVersions, lawHistories, async (versions, history) => {
      const play = await playInWorld(versions).play(history);
      await play.run();
      await play.run();
      expect(play.faults).toEqual([]);
      for (const [end, count] of Object.entries(play.ledger.counts)) ends[end as keyof typeof ends] += count;
    }),
    runs,
  );
  for (const [end, count] of Object.entries(ends)) expect([end, count > 0]).toEqual([end, true]);
});

test('Quiet: after runs whose writes succeed, a run without edits does nothing and sees no edit', async () => {
  let wrote = 0;
  await fc.assert(
    fc.asyncProperty(
      lawVersions,
      lawHistories,
      fc.constantFrom<WriteFate[]>('ok', 'altered', 'emptied', 'replaced'),
      async (versions, history, fate) => {
        const play = await playInWorld(versions).play(history);
        // Also a system that keeps something else than it was given must not be written for ever.
        for (let run = 0; run < 3; run += 1) wrote += (await play.run({ fates: [fate] })).operations.length;
        const before = play.installation.portrait();
        const quiet = await play.run();
        expect(quiet.operations).toEqual([]);
        expect(quiet.lost).toEqual([]);
        expect(play.installation.portrait()).toBe(before);
      },
    ),
    runs,
  );
  expect(wrote).toBeGreaterThan(runs.numRuns / 4);
});

test('Converge: two runs after the last edit, every both-ways value means the agreed one', async () => {
  const compared = { values: 0, exempt: 0 };
  await fc.assert(
    fc.asyncProperty(lawVersions, lawHistories, async (versions, history) => {
      const { differing, ...counted } = await convergedAfter(versions, history);
      expect(differing).toEqual([]);
      compared.values += counted.values;
      compared.exempt += counted.exempt;
    }),
    runs,
  );
  expect(compared.values).toBeGreaterThan(runs.numRuns * 2);
  expect(compared.exempt).toBeLessThan(compared.values / 2);
});

/** Values that do not mean what was agreed after two runs, and how many were looked at. */
async function convergedAfter(versions: Versions, history: readonly Happening[]) {
  const { installation: world } = await playInWorld(versions).play(history);
  await world.run();
  const last = await world.run();
  const differing: string[] = [];
  let [values, exempt] = [0, 0];
  const isOpen = (anchor: string, member: MemberId, field: string): boolean =>
    last.held.some((held) => held.anchor === anchor && held.field === field) ||
    last.problems.some((one) => one.anchor === anchor && one.member === member && one.field === field);
  for (const anchor of world.anchors.values()) {
    for (const tie of anchor.ties) {
      if (tie.gone) continue;
      const record = world.of(tie.member).get(tie.key);
      const raws = record ? world.knot.rawFields(tie.member, record) : {};
      for (const field of world.knot.fields) {
        const lens = field.mappings.get(tie.member)?.lens;
        const agreed = anchor.agreed[field.id];
        if (!lens?.reads || !lens.writes || !agreed) continue;
        if (tie.parked || tie.rejected || tie.left[field.id] !== undefined || isOpen(anchor.id, tie.member, field.id)) {
          exempt += 1;
          continue;
        }
        const present = raws[field.id];
        // What a system does not send is not known to differ.
        if (present === undefined && tie.seen[field.id] !== undefined) {
          exempt += 1;
          continue;
        }
        values += 1;
        if (present === undefined ? agreed.value !== null : !lens.means(present, agreed.value))
          differing.push(
            `${tie.member}/${field.id}: ${JSON.stringify(present)} is not ${JSON.stringify(agreed.value)}`,
          );
      }
    }
  }
  return { differing, values, exempt };
}

test('Told: two runs after the last change a record says how its thing stands in the other member', async () => {
  const ends = { done: 0, failed: 0, pending: 0, 'taken again': 0 };
  await fc.assert(
    fc.asyncProperty(lawVersions, lawHistories, async (versions, history) => {
      const play = await playInWorld(versions).play(history);
      const { installation: world } = play;
      ends['taken again'] += tellingsOf(world).filter(({ state, told }) => told && state === readyWord).length;
      await play.run();
      const last = await play.run();
      expect(play.faults).toEqual([]);
      for (const { tie, of, there, isWanting, told, state, key } of tellingsOf(world)) {
        const isOpen =
          last.held.length + last.problems.length + last.withheld.filter(({ member }) => member === of).length > 0;
        if (told && !told.refused) {
          // What somebody else writes there stands, and what its system has made of what it was told.
          const kept = (said: string): Raw[] => [said, said.slice(0, 2), 'other', null];
          const word = { done: 'fine', failed: 'wrong', pending: 'soon' }[told.state];
          expect([...kept(word), 'mine']).toContain(state);
          if (told.key !== undefined && key !== undefined) expect(kept(told.key)).toContain(key);
          ends[told.state] += 1;
        }
        if (!there || there.gone) continue;
        // What was refused once is no failure when nobody wants it written any more, or its field is held by now.
        const isRefused = there.parked !== undefined && isWanting;
        const expected = tie.rejected || there.rejected || isRefused ? 'failed' : 'done';
        const isWaited = there.unacknowledgedSince !== undefined;
        if (expected === 'failed') expect(told?.state).toBe(isRefused && !told ? undefined : 'failed');
        else if (told && !isOpen) expect(told.state).toBe(isWaited ? 'pending' : 'done');
      }
    }),
    runs,
  );
  for (const [end, count] of Object.entries(ends)) expect([end, count > 0]).toEqual([end, true]);
});

/** Records that are told of another member: what they were told, and what they hold of it. */
function tellingsOf(world: World) {
  return [...world.anchors.values()].flatMap((anchor) => {
    const { writes } = mergeAnchor({ knot: world.knot, anchor, readings: new Map(), now: world.now });
    return anchor.ties.flatMap((tie) =>
      (tie.gone ? [] : (world.knot.member(tie.member).outcomes ?? [])).map(({ of, key }) => ({
        tie,
        of,
        there: anchor.ties.find(({ member }) => member === of),
        isWanting: writes.some(({ member }) => member === of),
        told: tie.outcomes?.[of]?.told,
        state: world.value(tie.member, tie.key, 'state') ?? null,
        key: key === undefined ? undefined : (world.value(tie.member, tie.key, key) ?? null),
      })),
    );
  });
}

test('No lost edit: an edit on top of a value that had not arrived competes with it', async () => {
  let tried = 0;
  await fc.assert(
    fc.asyncProperty(lawKnots, fc.constantFrom<WriteFate[]>('fails', 'refused'), async (knot, fate) => {
      const both = knot.members
        .filter(({ id }) => knot.fields[2]?.mappings[id]?.direction === 'both ways')
        .map(({ id }) => id);
      if (both.length < 2 || knot.start === 'adopt') return;
      tried += 1;
      const [one, other] = both as [string, string];
      const world = new World(knot);
      for (const member of [one, other]) {
        world.edit(member, 'x', 'key', 'k');
        world.edit(member, 'x', 'amount', 1);
      }
      await world.run();
      world.edit(one, 'x', 'amount', 5);
      await world.run({ fate: () => fate });
      world.edit(other, 'x', 'amount', 9);
      const outcome = await world.run();
      const { value: agreed, why } = [...world.anchors.values()][0]?.agreed.amount ?? {};
      const isKept = (amount: string): boolean =>
        agreed === amount ||
        why?.kind === 'combined' ||
        outcome.lost.some(({ value }) => value === amount) ||
        outcome.held.length > 0;
      expect([isKept('5'), isKept('9')]).toEqual([true, true]);
    }),
    runs,
  );
  expect(tried).toBeGreaterThan(runs.numRuns / 4);
});

test('Order-free: nothing depends on the order in which members and records are read', async () => {
  await fc.assert(
    fc.asyncProperty(lawKnots, lawHistories, async (knot, history) => {
      const forward = playInWorld([knot]);
      const backward = playInWorld([knot]);
      for (const happening of history) {
        // Which write is raced or fails depends on the order of writing, which is no order of reading.
        if (happening.kind !== 'run') {
          await forward.play([happening]);
          await backward.play([happening]);
          continue;
        }
        const fate = ({ kind }: { readonly kind: string }): WriteFate => (kind === 'create' ? 'fails' : 'ok');
        const planned = await forward.installation.run({ fate });
        const reversed = await backward.installation.run({ fate, shuffle: (items) => items.toReversed() });
        const names = (of: typeof planned) =>
          of.operations.map(({ member, kind, changes }) => JSON.stringify([member, kind, changes]));
        expect(names(reversed).sort()).toEqual(names(planned).sort());
        expect(backward.installation.portrait()).toBe(forward.installation.portrait());
      }
    }),
    runs,
  );
});

test('Alone: a held field stops nothing else, and a failing member stops no other', async () => {
  await fc.assert(
    fc.asyncProperty(lawKnots, async (definition) => {
      const knot = {
        ...definition,
        start: 'merge' as const,
        members: definition.members.map(({ filter: _, ...member }) => ({ ...member, startsAnchors: true })),
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
                      {
                        ...mapping,
                        field: field.id,
                        direction: 'both ways' as const,
                        ...(field.id === 'name' ? { steps: [] } : {}),
                      },
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
      const outcome = await world.run({ fate: ({ member }) => (member === b ? 'fails' : 'ok') });
      expect(outcome.held.map(({ field }) => field)).toEqual(['name']);
      expect(world.value(c, 'x', 'amount')).toBe(7);
      expect(world.value(c, 'x', 'name')).toBeUndefined();
      expect(world.value(b, 'x', 'amount')).toBeUndefined();
    }),
    { numRuns: 50 },
  );
});
