import fc from 'fast-check';
import type { Knot, Mapping } from '../definition/index.js';
import { type KnownName, LookUps } from '../mapping/index.js';
import { isAlive } from '../merge/index.js';
import { type AnchorId, type ReferenceBy, recordKey, type Substitute } from '../record/index.js';
import type { PlayedInstallation, PlayedWrite, WriteFate } from './played.js';
import { smallKnot } from './smallKnot.js';
import { World } from './world.js';

/** Two knots whose things refer to each other, in a circle. */

const members = ['a', 'b', 'c'] as const;
type MemberName = (typeof members)[number];
export const referringKnots = ['orders', 'buyers'] as const;
export const other = { orders: 'buyers', buyers: 'orders' } as const;
export type KnotName = keyof typeof other;

export interface ReferenceChoices {
  readonly rule: 'ask' | 'order' | 'newest';
  readonly directions: readonly Mapping['direction'][];
  readonly notFound: 'wait' | 'blank';
  /** The last member refers by a value of the other knot, and not by a key of its own. */
  readonly lastByValue: boolean;
  /** Nothing is created in the first member without what it refers to. */
  readonly isRequired: boolean;
  /** One thing of each knot has no record in one member any more. */
  readonly oneHasLeft: boolean;
  /** Orders are archived where the buyer that they refer to has no record left. */
  readonly archivedWith: boolean;
}

/** All both ways, asked about, and waited for. */
export const plainReferences: ReferenceChoices = {
  rule: 'ask',
  directions: ['both ways', 'both ways', 'both ways'],
  notFound: 'wait',
  lastByValue: true,
  isRequired: false,
  oneHasLeft: false,
  archivedWith: false,
};

export function referringKnot(
  id: KnotName,
  { rule, directions, notFound, lastByValue, isRequired, archivedWith }: ReferenceChoices,
): Knot {
  const order = { step: 'order', members: [...members] } as const;
  const knot = smallKnot({
    members: members.length,
    rule: { steps: rule === 'ask' ? [{ step: 'ask' }] : rule === 'newest' ? [{ step: 'newest' }, order] : [order] },
  });
  const [key, field] = knot.fields;
  if (!key || !field) throw new Error('the small knot has no fields');
  const byOf = (member: MemberName): ReferenceBy => (member === 'c' && lastByValue ? { field: 'key' } : { member });
  const mappings = members.map((member, place): [string, Mapping] => {
    const known = field.mappings[member] as Mapping;
    const step = { kind: 'reference', by: byOf(member), ...(notFound === 'blank' ? { notFound } : {}) } as const;
    return [member, { ...known, field: 'ref', direction: directions[place] ?? 'both ways', steps: [step] }];
  });
  return {
    ...knot,
    id,
    name: id,
    members: knot.members.map((member) => ({
      ...member,
      required: isRequired && member.id === 'a' && id === 'orders' ? ['ref'] : [],
    })),
    fields: [
      key,
      {
        ...field,
        id: 'ref',
        name: 'Reference',
        type: 'reference',
        refersTo: other[id],
        ...(archivedWith && id === 'orders' ? { archivedWith } : {}),
        mappings: Object.fromEntries(mappings),
      },
    ],
  };
}

/** What every system can be told, or can tell, of the things of a knot. */
function namesIn(knot: KnotName, { anchors }: PlayedInstallation): KnownName[] {
  return [...anchors.values()].flatMap((anchor): KnownName[] => {
    const key = anchor.agreed.key?.value;
    const isAlive = anchor.ties.some(({ gone }) => !gone);
    return [
      ...anchor.ties.map((tie): KnownName => ({
        knot,
        by: { member: tie.member },
        value: tie.key,
        anchor: anchor.id,
        isGone: tie.gone,
      })),
      ...(typeof key === 'string' && isAlive ? [{ knot, by: { field: 'key' }, value: key, anchor: anchor.id }] : []),
    ];
  });
}

type RunOf<Installation extends PlayedInstallation> = Awaited<ReturnType<Installation['run']>>;

/** Two installations, of which each keeps the things of one knot. */
export class Both<Installation extends PlayedInstallation = PlayedInstallation> {
  readonly of: Readonly<Record<KnotName, Installation>>;
  /** References that were written to something that is not there, in words. */
  readonly faults: string[] = [];
  /** What somebody has said, the last word on each. */
  readonly #substitutes = new Map<string, Substitute>();
  readonly #keep: (substitute: Substitute) => void | Promise<void>;

  /** @param keep stores what somebody says, where it is stored */
  constructor(
    of: Readonly<Record<KnotName, Installation>>,
    keep: (substitute: Substitute) => void | Promise<void> = () => undefined,
  ) {
    this.of = of;
    this.#keep = keep;
  }

  /** All by which the things of both are known. */
  names(): LookUps {
    return new LookUps(
      referringKnots.flatMap((knot) => namesIn(knot, this.of[knot])),
      new Map(),
      this.#substitutes.values(),
      new Set(
        referringKnots.flatMap((knot) =>
          [...this.of[knot].anchors.values()].flatMap((thing) => (isAlive(thing) ? [] : [thing.id])),
        ),
      ),
    );
  }

  async say(substitute: Substitute): Promise<void> {
    const { knot, by, of } = substitute;
    this.#substitutes.set(JSON.stringify([knot, by, of]), substitute);
    await this.#keep(substitute);
  }

  async run(knot: KnotName, fates: readonly WriteFate[] = []): Promise<RunOf<Installation>> {
    let write = 0;
    const outcome = await this.of[knot].run({
      fate: (written) => {
        this.#checkReference(knot, written);
        return fates[(write += 1) % Math.max(1, fates.length)] ?? 'ok';
      },
    });
    return outcome as RunOf<Installation>;
  }

  /** *Ordered*: what is written refers to something that is there. */
  #checkReference(knot: KnotName, { kind, member, values }: PlayedWrite): void {
    const value = values?.get('ref');
    if ((kind !== 'create' && kind !== 'update') || value === undefined || value === null) return;
    const there = namesIn(other[knot], this.of[other[knot]]);
    if (!there.some((name) => name.value === value && !name.isGone))
      this.faults.push(`${JSON.stringify(value)} was written to ${member} of ${knot}, and nothing is known by it`);
  }

  async settle(): Promise<Record<KnotName, RunOf<Installation>>> {
    for (let round = 0; round < 3; round += 1) {
      await this.run('buyers');
      await this.run('orders');
    }
    return { buyers: await this.run('buyers'), orders: await this.run('orders') };
  }

  /**
   * Two things of each knot, each with a record in two members, so that there is something to refer to.
   * @param oneHasLeft the record of one of them is gone in one member
   */
  async begin({ oneHasLeft }: Pick<ReferenceChoices, 'oneHasLeft'>): Promise<this> {
    for (const installation of Object.values(this.of))
      for (const record of ['1', '2'])
        for (const name of ['a', 'b'] as const) installation.edit(name, record, 'key', `k${record}`);
    for (const knot of referringKnots) await this.run(knot);
    if (!oneHasLeft) return this;
    for (const knot of referringKnots) {
      this.of[knot].delete('b', '2');
      await this.run(knot);
    }
    return this;
  }

  async play(history: readonly ReferenceHappening[]): Promise<this> {
    for (const step of history) {
      if (step.does === 'run') await this.run(step.knot, step.fates);
      else await this.#happen(step);
    }
    return this;
  }

  async #happen(step: Exclude<ReferenceHappening, { does: 'run' }>): Promise<void> {
    const installation = this.of[step.knot];
    if (step.does === 'say') return this.#sayOf(step);
    if (step.does === 'vanish') return this.#vanish(step);
    if (step.does === 'untie') {
      const thing = [...installation.anchors.values()][step.thing];
      if ((thing?.ties.filter(({ gone }) => !gone).length ?? 0) > 1)
        await installation.untie(thing?.id as AnchorId, step.member);
      return;
    }
    const key = recordKey(step.record);
    const isThere = installation.records.get(step.member)?.has(key) === true;
    if (step.does === 'edit') installation.edit(step.member, step.record, 'key', step.key);
    else if (isThere && step.does === 'delete') installation.delete(step.member, step.record);
    else if (step.does === 'refer') {
      // Any record of the member, also one that was made for a thing of another.
      const there = [...(installation.records.get(step.member)?.keys() ?? [])];
      const referring = there[Number(step.record) % Math.max(1, there.length)];
      if (referring !== undefined)
        installation.edit(step.member, referring, 'ref', this.#named(step.knot, step.member, step.to));
    }
  }

  /** All records of a thing are deleted, everywhere. */
  #vanish({ knot, thing: place }: Extract<ReferenceHappening, { does: 'vanish' }>): void {
    const installation = this.of[knot];
    const thing = [...installation.anchors.values()].toSorted((one, other) => (one.id < other.id ? -1 : 1))[place];
    for (const { member, key } of thing?.ties ?? [])
      if (installation.records.get(member)?.has(key)) installation.delete(member, key);
  }

  /** What nothing is known by, or a thing that has no name somewhere, is said to be another one, or nobody. */
  async #sayOf({ knot, member, byValue, ofThing, of, stands }: SayHappening): Promise<void> {
    const ways: readonly ReferenceBy[] = [...members.map((name) => ({ member: name })), { field: 'key' }];
    const things = [...this.of[knot].anchors.keys()].toSorted();
    const other = things[stands] ?? null;
    if (!ofThing) {
      const by = member === 'c' && byValue ? { field: 'key' } : { member };
      return this.say({ knot, by, of: { value: String(of) }, stands: other });
    }
    const names = this.names();
    const nameless = ways.flatMap((by) =>
      things.flatMap((anchor) => (names.nameOf(knot, by, anchor) === undefined ? [{ by, anchor }] : [])),
    );
    const { by, anchor } = nameless[of % Math.max(1, nameless.length)] ?? {};
    if (by && anchor && other) await this.say({ knot, by, of: { anchor }, stands: other });
  }

  /** What is named may be there, may come later, or never. */
  #named(knot: KnotName, member: MemberName, to: number): string | null {
    if (member === 'c' && to % 2 === 0) return ['k1', 'k2', 'k3'][to % 3] ?? null;
    return [...(this.of[other[knot]].records.get(member)?.keys() ?? [])][to] ?? String(to);
  }
}

/** In worlds, which know the names of each other. */
export function bothWorlds(choices: ReferenceChoices): Both<World> {
  const both: Both<World> = new Both({
    orders: new World(referringKnot('orders', choices), () => both.names()),
    buyers: new World(referringKnot('buyers', choices), () => both.names()),
  });
  return both;
}

const keys = fc.constantFrom('k1', 'k2', 'k3');
const recordNumber = fc.constantFrom('1', '2', '3');
const knots = fc.constantFrom<KnotName[]>('orders', 'buyers');
const member = fc.constantFrom(...members);
const sayHappening = fc.record({
  does: fc.constant('say' as const),
  knot: knots,
  member,
  byValue: fc.boolean(),
  ofThing: fc.boolean(),
  of: fc.nat(5),
  stands: fc.nat(3),
});
type SayHappening = typeof sayHappening extends fc.Arbitrary<infer T> ? T : never;
const referenceHappening = fc.oneof(
  {
    weight: 4,
    arbitrary: fc.record({ does: fc.constant('edit' as const), knot: knots, member, record: recordNumber, key: keys }),
  },
  // What it names may be there, may come later, or never.
  {
    weight: 6,
    arbitrary: fc.record({
      does: fc.constant('refer' as const),
      knot: knots,
      member,
      record: recordNumber,
      to: fc.nat(5),
    }),
  },
  {
    weight: 2,
    arbitrary: fc.record({ does: fc.constant('delete' as const), knot: knots, member, record: recordNumber }),
  },
  { weight: 2, arbitrary: fc.record({ does: fc.constant('vanish' as const), knot: knots, thing: fc.nat(3) }) },
  { weight: 1, arbitrary: fc.record({ does: fc.constant('untie' as const), knot: knots, member, thing: fc.nat(3) }) },
  { weight: 4, arbitrary: sayHappening },
  {
    weight: 5,
    arbitrary: fc.record({
      does: fc.constant('run' as const),
      knot: knots,
      fates: fc.array(fc.constantFrom<WriteFate>('ok', 'ok', 'fails', 'refused', 'silent'), { maxLength: 3 }),
    }),
  },
);
export type ReferenceHappening = typeof referenceHappening extends fc.Arbitrary<infer T> ? T : never;

export const referenceChoices: fc.Arbitrary<ReferenceChoices> = fc.record({
  rule: fc.constantFrom<ReferenceChoices['rule'][]>('ask', 'order', 'newest'),
  directions: fc.tuple(
    fc.constantFrom<Mapping['direction'][]>('both ways', 'from'),
    fc.constantFrom<Mapping['direction'][]>('both ways', 'both ways', 'from', 'to'),
    fc.constantFrom<Mapping['direction'][]>('both ways', 'to'),
  ),
  notFound: fc.constantFrom<ReferenceChoices['notFound'][]>('wait', 'wait', 'blank'),
  lastByValue: fc.boolean(),
  isRequired: fc.boolean(),
  oneHasLeft: fc.boolean(),
  archivedWith: fc.boolean(),
});

/** Creations, deletions, partings of what is referred to, and edits of references that nothing is known by yet. */
export const referenceHistories = fc.array(referenceHappening, { minLength: 4, maxLength: 30 });
