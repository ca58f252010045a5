import {
  type AnchorId,
  type FieldId,
  type Found,
  type MemberId,
  type ReferenceBy,
  referenceKey,
  type References,
  type Substitute,
} from '../record/index.js';

/** What has to be looked up in one other knot before records that refer to it are translated. */
export interface KnotQuestions {
  /** Keys of records, by the member that has them. */
  readonly keys: ReadonlyMap<MemberId, ReadonlySet<string>>;
  /** Values, by the shared field that has them. */
  readonly values: ReadonlyMap<FieldId, ReadonlySet<string>>;
  /** Things that are referred to already. */
  readonly things: ReadonlySet<AnchorId>;
  /** The ways in which some system refers to its things. */
  readonly ways: readonly ReferenceBy[];
}

/** Notes what is asked while records are read: the same translation asks, and uses the answers later. */
export class Questions implements References {
  readonly #asked = new Map<
    string,
    { readonly knot: string; readonly by: ReferenceBy; readonly values: Set<string> }
  >();
  readonly #things = new Map<string, Set<AnchorId>>();

  find(knot: string, by: ReferenceBy, value: string): Found {
    this.way(knot, by).add(value);
    return { kind: 'not looked up' };
  }

  nameOf(): undefined {
    return undefined;
  }

  isToldAs(): boolean {
    return false;
  }

  hasToldAs(): boolean {
    return false;
  }

  isGone(): boolean {
    return false;
  }

  current(anchor: AnchorId): AnchorId {
    return anchor;
  }

  /** A way in which a system refers to things, though no value of its was met. */
  way(knot: string, by: ReferenceBy): Set<string> {
    const key = referenceKey(knot, by);
    const known = this.#asked.get(key) ?? { knot, by, values: new Set<string>() };
    this.#asked.set(key, known);
    return known.values;
  }

  thing(knot: string, anchor: AnchorId): void {
    this.#things.set(knot, (this.#things.get(knot) ?? new Set()).add(anchor));
  }

  /** By knot. */
  get asked(): ReadonlyMap<string, KnotQuestions> {
    const knots = new Set([...this.#things.keys(), ...[...this.#asked.values()].map(({ knot }) => knot)]);
    return new Map([...knots].map((knot) => [knot, this.#ofKnot(knot)]));
  }

  #ofKnot(knot: string): KnotQuestions {
    const asked = [...this.#asked.values()].filter((one) => one.knot === knot);
    return {
      keys: new Map(asked.flatMap(({ by, values }) => ('member' in by ? [[by.member, values]] : []))),
      values: new Map(asked.flatMap(({ by, values }) => ('field' in by ? [[by.field, values]] : []))),
      things: this.#things.get(knot) ?? new Set(),
      ways: asked.map(({ by }) => by),
    };
  }
}

/** Something that is known of a thing: by that value it is referred to there. */
export interface KnownName {
  readonly knot: string;
  readonly by: ReferenceBy;
  readonly value: string;
  readonly anchor: AnchorId;
  /** Its record is gone: a value still means it, and nobody is told of it any more. */
  readonly isGone?: boolean | undefined;
}

/** What is known of the things of a knot in one way of referring to them. */
interface KnownWay {
  readonly found: Map<string, AnchorId | 'several'>;
  readonly names: Map<AnchorId, string>;
  /** What is meant by values that nothing is known by. */
  readonly meant: Map<string, AnchorId | null>;
  /** As which other ones things are told that have no name. */
  readonly toldAs: Map<AnchorId, AnchorId>;
}

/** Look-ups that are filled from what was found. What is not among it is not there. */
export class LookUps implements References {
  /** By knot, then by member or field: no text is made for a look-up, of which there is one for each record. */
  readonly #byMember = new Map<string, Map<string, KnownWay>>();
  readonly #byField = new Map<string, Map<string, KnownWay>>();
  readonly #redirects: ReadonlyMap<AnchorId, AnchorId>;
  readonly #gone: ReadonlySet<AnchorId>;

  constructor(
    names: Iterable<KnownName>,
    redirects: ReadonlyMap<AnchorId, AnchorId> = new Map(),
    substitutes: Iterable<Substitute> = [],
    gone: ReadonlySet<AnchorId> = new Set(),
  ) {
    this.#redirects = redirects;
    this.#gone = gone;
    for (const { knot, by, value, anchor, isGone } of names) {
      const { found, names: known } = this.#wayToFill(knot, by);
      const before = found.get(value);
      found.set(value, before === undefined || before === anchor ? anchor : 'several');
      if (!isGone) known.set(anchor, value);
    }
    for (const { knot, by, of, stands } of substitutes) {
      const { meant, toldAs } = this.#wayToFill(knot, by);
      if ('value' in of) meant.set(of.value, stands);
      else if (stands !== null) toldAs.set(this.current(of.anchor), this.current(stands));
    }
  }

  find(knot: string, by: ReferenceBy, value: string): Found {
    const way = this.#way(knot, by);
    const found = way?.found.get(value) ?? way?.meant.get(value);
    if (found === undefined) return { kind: 'none' };
    if (found === null) return { kind: 'nobody' };
    return found === 'several' ? { kind: 'several' } : { kind: 'one', anchor: found };
  }

  nameOf(knot: string, by: ReferenceBy, anchor: AnchorId): string | undefined {
    const way = this.#way(knot, by);
    if (!way) return undefined;
    const own = way.names.get(anchor);
    if (own !== undefined || way.toldAs.size === 0) return own;
    const other = way.toldAs.get(anchor);
    return other && way.names.get(other);
  }

  isToldAs(knot: string, by: ReferenceBy, anchor: AnchorId, other: AnchorId): boolean {
    const way = this.#way(knot, by);
    return way !== undefined && !way.names.has(anchor) && way.toldAs.get(anchor) === other;
  }

  hasToldAs(knot: string, by: ReferenceBy): boolean {
    return (this.#way(knot, by)?.toldAs.size ?? 0) > 0;
  }

  isGone(anchor: AnchorId): boolean {
    return this.#gone.has(this.current(anchor));
  }

  current(anchor: AnchorId): AnchorId {
    return this.#redirects.get(anchor) ?? anchor;
  }

  /** The things of a knot that something here may refer to. */
  thingsOf(knot: string): readonly AnchorId[] {
    const ways = [this.#byMember, this.#byField].flatMap((each) => [...(each.get(knot)?.values() ?? [])]);
    const things = ways.flatMap(({ found, names, meant }) => [...found.values(), ...names.keys(), ...meant.values()]);
    return [...new Set(things.filter((thing): thing is AnchorId => thing !== 'several' && thing !== null))];
  }

  #way(knot: string, by: ReferenceBy): KnownWay | undefined {
    return 'member' in by ? this.#byMember.get(knot)?.get(by.member) : this.#byField.get(knot)?.get(by.field);
  }

  #wayToFill(knot: string, by: ReferenceBy): KnownWay {
    const [ways, name] = 'member' in by ? [this.#byMember, by.member] : [this.#byField, by.field];
    const ofKnot = ways.get(knot) ?? new Map<string, KnownWay>();
    ways.set(knot, ofKnot);
    const way = ofKnot.get(name) ?? { found: new Map(), names: new Map(), meant: new Map(), toldAs: new Map() };
    ofKnot.set(name, way);
    return way;
  }
}
