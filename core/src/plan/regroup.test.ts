/** Anchors that people split and join: no record and no value is lost on the way. */
import fc from 'fast-check';
import type { Anchor, Tie } from '../merge/index.js';
import { anchorId, recordKey } from '../record/index.js';
import { joinAnchors, lastReading, newTie, splitAnchor } from './regroup.js';

const members = ['a', 'b', 'c', 'd'];
const ties = fc
  .tuple(
    fc.uniqueArray(fc.constantFrom(...members), { minLength: 1 }),
    fc.infiniteStream(fc.record({ seen: fc.option(fc.string()), ahead: fc.option(fc.string()), gone: fc.boolean() })),
  )
  .map(([own, values]) =>
    own.map((member): Tie => {
      const { seen, ahead, gone } = values.next().value as { seen: string | null; ahead: string | null; gone: boolean };
      return {
        member,
        key: recordKey(`${member}1`),
        seen: seen === null ? {} : { name: seen },
        ahead: ahead === null ? {} : { name: { raw: ahead, noticedAt: 1 } },
        left: {},
        version: 'v1',
        ...(gone ? { gone } : {}),
      };
    }),
  );
const anchorOf = (own: readonly Tie[]): Anchor => ({
  id: anchorId('x'),
  agreed: {},
  ties: own,
  beganIn: ['a'],
  parkedCreates: {},
});
/** What is known of the records that are there. */
const held = (anchor: Anchor) =>
  anchor.ties
    .filter(({ gone }) => !gone)
    .map((tie) => [tie.member, tie.key, lastReading(tie)])
    .sort(([a], [b]) => ((a as string) < (b as string) ? -1 : 1));

test(
  'what is split and joined again has the records and the values that it had; no side is ever ' + 'without a record',
  () => {
    fc.assert(
      fc.property(ties, fc.subarray(members, { minLength: 1 }), (own, parted) => {
        const anchor = anchorOf(own);
        const split = splitAnchor(anchor, new Set(parted), 5);
        const there = own.filter(({ gone }) => !gone).map(({ member }) => member);
        const possible =
          parted.every((member) => there.includes(member)) && there.some((member) => !parted.includes(member));
        expect(split !== undefined).toBe(possible);
        if (!split) return;
        expect([held(split.rest).length > 0, held(split.parted).map(([member]) => member)]).toEqual([
          true,
          [...parted].sort(),
        ]);
        // What comes to another place knows of nothing there: all that it holds is an edit.
        expect(split.parted.ties.every(({ seen }) => Object.keys(seen).length === 0)).toBe(true);
        const back = joinAnchors(split.rest, split.parted, 6);
        expect('joined' in back && held(back.joined)).toEqual(held(anchor));
      }),
    );
  },
);

test(
  'two things that have a record in the same system are not joined, and it is said where; a gone ' + 'one makes room',
  () => {
    fc.assert(
      fc.property(ties, ties, (one, two) => {
        const there = (own: readonly Tie[]) => own.filter(({ gone }) => !gone).map(({ member }) => member);
        const both = there(two).filter((member) => there(one).includes(member));
        const joined = joinAnchors(anchorOf(one), anchorOf(two), 5);
        if (both.length > 0) return expect(joined).toEqual({ both });
        expect('joined' in joined && held(joined.joined).length).toBe(there(one).length + there(two).length);
        const places = 'joined' in joined ? joined.joined.ties.map(({ member }) => member) : [];
        expect(new Set(places).size).toBe(places.length);
        // What is gone in one of them, and nowhere there, stays remembered.
        expect([...new Set([...one, ...two].map(({ member }) => member))].sort()).toEqual(places.sort());
      }),
    );
  },
);

test('a rejected record stays rejected where it comes to', () => {
  const tie = newTie('a', recordKey('1'), { fields: { name: 'x' }, version: 'v', rejected: ['no name'] }, 5);
  expect(tie).toMatchObject({ rejected: ['no name'], ahead: { name: { raw: 'x', noticedAt: 5 } }, version: 'v' });
  expect(lastReading(tie)).toEqual({ fields: { name: 'x' }, version: 'v', rejected: ['no name'] });
});
