import type { AnchorId, MemberId, RecordKey } from '../record/index.js';
import type { EvidenceOutcome } from './matchByEvidence.js';
import type { KnownAnchors, MatchCandidate, MatchDoubt, Matching, Newcomer, TieReason } from './matching.js';
import { inOneStep, type Steps } from './steps.js';
import { recordId, type RecordName, Verdicts } from './verdict.js';

/**
 * Ties newcomers to anchors: first by what people have said, then by keys, one rule over all records before the next
 * rule begins, then by evidence, which is worked out outside in between. Two records of one member that match the same
 * anchor are reported as duplicates and never tied. The outcome does not depend on the order of the newcomers, except
 * for which new id goes to which new anchor.
 */
export class RecordMatching {
  readonly #ruleNames: readonly string[];
  readonly #newcomers: readonly Newcomer[];
  readonly #known: KnownAnchors;
  readonly #nextId: () => AnchorId;
  readonly #verdicts: Verdicts;
  readonly #byId: ReadonlyMap<string, Newcomer>;
  readonly #tied = new Map<Newcomer, { anchor: AnchorId; why: TieReason | undefined }>();
  readonly #waiting = new Set<Newcomer>();
  readonly #doubts: MatchDoubt[] = [];
  readonly #newAnchors = new Set<AnchorId>();
  /** Keys of anchors that this matching made or added to, per rule. */
  readonly #keysOfPass: Map<string, Set<AnchorId>>[];
  readonly #membersOfPass = new Map<AnchorId, Map<MemberId, Newcomer>>();
  readonly #blocked = new Map<AnchorId, Map<MemberId, Set<RecordKey>>>();
  /** Blocks on newcomers that have no anchor yet. */
  readonly #blockedLater = new Map<Newcomer, RecordName[]>();

  constructor(
    ruleNames: readonly string[],
    newcomers: readonly Newcomer[],
    known: KnownAnchors,
    nextId: () => AnchorId,
    verdicts: Verdicts = new Verdicts([]),
  ) {
    this.#ruleNames = ruleNames;
    this.#newcomers = newcomers.toSorted((a, b) => compare(a.member, b.member) || compare(a.key, b.key));
    this.#known = known;
    this.#nextId = nextId;
    this.#verdicts = verdicts;
    this.#byId = new Map(newcomers.map((newcomer) => [recordId(newcomer), newcomer]));
    this.#keysOfPass = ruleNames.map(() => new Map<string, Set<AnchorId>>());
  }

  /** What people have said, then the key rules. */
  applyKeys(): this {
    this.#applyVerdicts();
    for (const rule of this.#ruleNames.keys()) this.#applyRule(rule);
    return this;
  }

  /**
   * The key rules once more, for what is free still: a record that evidence has tied brings its keys along, and others
   * may be found by them.
   */
  applyKeysAgain(): this {
    for (const rule of this.#ruleNames.keys()) this.#applyRule(rule);
    return this;
  }

  /** The newcomers that are neither tied nor waiting, in order of member and key. */
  free(): readonly Newcomer[] {
    return this.#newcomers.filter((newcomer) => this.#isFree(newcomer));
  }

  /** The newcomers that were put together with others, by anchor. */
  together(): ReadonlyMap<AnchorId, readonly Newcomer[]> {
    return new Map([...this.#membersOfPass].map(([anchor, members]) => [anchor, [...members.values()]]));
  }

  /**
   * Takes over what evidence says of the newcomers that were free.
   * @param recordAt the record at each place of the list that was compared
   * @param anchors the anchors of the units that were given, in their order
   */
  *applyEvidence(
    { units, joined, doubts }: EvidenceOutcome,
    recordAt: (place: number) => RecordName,
    anchors: readonly AnchorId[],
  ): Steps<void> {
    const newcomerAt = (place: number): Newcomer => this.#byId.get(recordId(recordAt(place))) as Newcomer;
    const why = new Map(
      joined.map(({ record, with: other, bits }) => [
        record,
        { kind: 'evidence' as const, with: nameOf(recordAt(other)), bits },
      ]),
    );
    const anchorOf: (AnchorId | undefined)[] = units.map(({ records, waits }, index) => {
      const given = anchors[index];
      if (given !== undefined || waits) return given;
      // One that could not start an anchor, alone, stays unmatched.
      return records.some((place) => newcomerAt(place).canStart) ? this.#startAnchor() : undefined;
    });
    for (const [index, { records }] of units.entries()) {
      if (index % inOneStep === 0) yield;
      const anchor = anchorOf[index];
      if (anchor === undefined) continue;
      for (const place of records) {
        const newcomer = this.#byId.get(recordId(recordAt(place)));
        if (!newcomer || !this.#isFree(newcomer)) continue;
        this.#tie(newcomer, anchor, why.get(place));
      }
    }
    for (const doubt of doubts) {
      if (doubt.kind === 'unsure') {
        const { member, key } = recordAt(doubt.record);
        const candidates = doubt.candidates.map((candidate): MatchCandidate => ({
          anchor: anchorOf[candidate.unit],
          records: (units[candidate.unit]?.records ?? [])
            .filter((place) => place !== doubt.record)
            .map((place) => nameOf(recordAt(place))),
          with: nameOf(recordAt(candidate.with)),
        }));
        this.#waiting.add(newcomerAt(doubt.record));
        this.#doubts.push({ kind: 'evidence', member, key, candidates });
        for (const { anchor } of candidates) if (anchor !== undefined) this.#block(anchor, { member, key });
      } else {
        const records = doubt.records.map(recordAt);
        const { member } = records[0] as RecordName;
        const anchor = doubt.unit === undefined ? undefined : anchorOf[doubt.unit];
        for (const place of doubt.records) this.#waiting.add(newcomerAt(place));
        this.#doubts.push({
          kind: 'duplicate',
          member,
          keys: records.map(({ key }) => key),
          tiedKey: doubt.tied === undefined ? undefined : recordAt(doubt.tied).key,
          anchor,
        });
        if (anchor !== undefined) for (const record of records) this.#block(anchor, record);
      }
    }
  }

  finish(): Matching {
    const unmatched: Newcomer[] = [];
    for (const newcomer of this.free()) {
      if (newcomer.canStart) this.#tie(newcomer, this.#startAnchor(), undefined);
      else unmatched.push(newcomer);
    }
    for (const [newcomer, records] of this.#blockedLater) {
      const tied = this.#tied.get(newcomer);
      if (tied) for (const record of records) this.#block(tied.anchor, record);
    }
    const ties = [...this.#tied].map(([newcomer, { anchor, why }]) => ({
      newcomer,
      anchor,
      why,
      isNewAnchor: this.#newAnchors.has(anchor),
    }));
    return { ties, doubts: this.#doubts, unmatched, blocked: this.#blocked };
  }

  #isFree(newcomer: Newcomer): boolean {
    return !this.#tied.has(newcomer) && !this.#waiting.has(newcomer);
  }

  /** Records of which somebody said that they are the same come together before any rule is asked. */
  #applyVerdicts(): void {
    for (const first of this.#newcomers) {
      if (!this.#isFree(first)) continue;
      const { newcomers, anchors } = this.#saidToBeSame(first);
      if (newcomers.length === 1 && anchors.length === 0) continue;
      if (anchors.length > 1) {
        for (const newcomer of newcomers)
          this.#doubt(newcomer, { kind: 'several anchors', member: newcomer.member, key: newcomer.key, anchors });
        continue;
      }
      const [anchor] = anchors;
      const singles: Newcomer[] = [];
      for (const [member, alike] of byMember(newcomers)) {
        const tiedKey = anchor === undefined ? undefined : this.#tiedKey(anchor, member);
        if (alike.length === 1 && tiedKey === undefined) singles.push(alike[0] as Newcomer);
        else {
          for (const newcomer of alike) this.#waiting.add(newcomer);
          this.#doubts.push({ kind: 'duplicate', member, keys: alike.map(({ key }) => key), tiedKey, anchor });
          if (anchor !== undefined) for (const newcomer of alike) this.#block(anchor, newcomer);
        }
      }
      const to =
        anchor ?? (singles.length > 1 && singles.some(({ canStart }) => canStart) ? this.#startAnchor() : undefined);
      if (to !== undefined) for (const newcomer of singles) this.#tie(newcomer, to, { kind: 'verdict' });
    }
  }

  #saidToBeSame(first: Newcomer): { readonly newcomers: Newcomer[]; readonly anchors: AnchorId[] } {
    const newcomers = new Set([first]);
    const anchors = new Set<AnchorId>();
    for (const newcomer of newcomers) {
      for (const other of this.#verdicts.same(newcomer)) {
        const same = this.#byId.get(recordId(other));
        const anchor = same ? this.#tied.get(same)?.anchor : this.#known.anchorOf(other);
        if (anchor !== undefined) anchors.add(anchor);
        else if (same && this.#isFree(same)) newcomers.add(same);
      }
    }
    return {
      newcomers: [...newcomers].sort((a, b) => compare(a.member, b.member) || compare(a.key, b.key)),
      anchors: [...anchors].sort(),
    };
  }

  #applyRule(rule: number): void {
    const groups = new Map<string, Newcomer[]>();
    for (const newcomer of this.#newcomers) {
      const key = this.#isFree(newcomer) ? newcomer.keys[rule] : undefined;
      if (key === undefined) continue;
      const group = groups.get(key);
      if (group) group.push(newcomer);
      else groups.set(key, [newcomer]);
    }
    for (const [value, group] of groups) this.#matchGroup(rule, value, this.#withoutTheDifferent(rule, value, group));
  }

  /** Sets apart the newcomers of which somebody said that they are not the same as another one with this key. */
  #withoutTheDifferent(rule: number, value: string, group: readonly Newcomer[]): readonly Newcomer[] {
    const parted = group.filter((record) => group.some((other) => this.#verdicts.areDifferent(record, other)));
    const mayJoin = new Map(
      parted.map((newcomer) => [
        newcomer,
        this.#anchorsWith(rule, value).filter((anchor) => this.#mayJoin(newcomer, anchor)),
      ]),
    );
    // Where two that are different could both join one anchor, a person says which of them it is.
    for (const [newcomer, anchors] of mayJoin) {
      const isContested = parted.some(
        (other) =>
          this.#verdicts.areDifferent(newcomer, other) &&
          anchors.some((anchor) => mayJoin.get(other)?.includes(anchor)),
      );
      if (isContested)
        this.#doubt(newcomer, { kind: 'several anchors', member: newcomer.member, key: newcomer.key, anchors });
    }
    for (const newcomer of parted) {
      if (!this.#isFree(newcomer)) continue;
      const anchors = this.#anchorsWith(rule, value).filter((anchor) => this.#mayJoin(newcomer, anchor));
      if (anchors.length === 0 && newcomer.canStart) this.#tie(newcomer, this.#startAnchor(), undefined);
    }
    // Those that may start nothing are not put together by what they share with a third: it is asked about when that
    // one is tied.
    const apart = parted.filter(
      (newcomer) =>
        this.#isFree(newcomer) &&
        parted.some((other) => this.#isFree(other) && this.#verdicts.areDifferent(newcomer, other)),
    );
    return group.filter((newcomer) => {
      if (!this.#isFree(newcomer) || apart.includes(newcomer)) return false;
      const all = this.#anchorsWith(rule, value);
      const allowed = all.filter((anchor) => this.#mayJoin(newcomer, anchor));
      if (allowed.length === all.length) return true;
      // Of the anchors that are left, one alone is clear as long as its place is free; without any, a later rule may
      // find one.
      const [anchor] = allowed;
      if (allowed.length > 1)
        this.#doubt(newcomer, {
          kind: 'several anchors',
          member: newcomer.member,
          key: newcomer.key,
          anchors: allowed,
        });
      else if (anchor !== undefined && this.#tiedKey(anchor, newcomer.member) === undefined)
        this.#tie(newcomer, anchor, { kind: 'key rule', rule: this.#ruleNames[rule] as string });
      return false;
    });
  }

  #mayJoin(newcomer: Newcomer, anchor: AnchorId): boolean {
    return !this.#verdicts.different(newcomer).some((other) => {
      const there = this.#byId.get(recordId(other));
      return (there ? this.#tied.get(there)?.anchor : this.#known.anchorOf(other)) === anchor;
    });
  }

  #matchGroup(rule: number, value: string, group: readonly Newcomer[]): void {
    const anchors = this.#anchorsWith(rule, value);
    if (anchors.length > 1) {
      for (const newcomer of group)
        this.#doubt(newcomer, { kind: 'several anchors', member: newcomer.member, key: newcomer.key, anchors });
      return;
    }
    const anchor = anchors[0];
    const agreeing = group.filter((newcomer) => !this.#keysDisagree(rule, newcomer, anchor));
    const singles: Newcomer[] = [];
    const doubtful = group.filter((newcomer) => this.#waiting.has(newcomer));
    for (const [member, alike] of byMember(agreeing)) {
      const tiedKey = anchor === undefined ? undefined : this.#tiedKey(anchor, member);
      const isDoubtful = doubtful.some((newcomer) => newcomer.member === member);
      if (alike.length === 1 && tiedKey === undefined && !isDoubtful) singles.push(alike[0] as Newcomer);
      else {
        doubtful.push(...alike);
        const doubt: MatchDoubt = {
          kind: 'duplicate',
          member,
          rule: this.#ruleNames[rule] as string,
          value,
          keys: alike.map(({ key }) => key),
          tiedKey,
          anchor,
        };
        for (const newcomer of alike) this.#waiting.add(newcomer);
        this.#doubts.push(doubt);
      }
    }
    if (anchor !== undefined) {
      for (const newcomer of singles)
        this.#tie(newcomer, anchor, { kind: 'key rule', rule: this.#ruleNames[rule] as string });
      for (const newcomer of doubtful) this.#block(anchor, newcomer);
    } else {
      this.#formAnchor(rule, singles, doubtful);
    }
  }

  /** Newcomers alone under this rule stay free: a later rule may still find them something. */
  #formAnchor(rule: number, singles: readonly Newcomer[], doubtful: readonly Newcomer[]): void {
    if (singles.length >= 2 && singles.some(({ canStart }) => canStart)) {
      const made = this.#startAnchor();
      for (const newcomer of singles)
        this.#tie(newcomer, made, { kind: 'key rule', rule: this.#ruleNames[rule] as string });
      for (const newcomer of doubtful) this.#block(made, newcomer);
      return;
    }
    for (const newcomer of singles) {
      this.#blockedLater.set(newcomer, [...(this.#blockedLater.get(newcomer) ?? []), ...doubtful]);
    }
  }

  /** Another rule's key that leads to another anchor than this rule's: a person must say which is right. */
  #keysDisagree(rule: number, newcomer: Newcomer, anchor: AnchorId | undefined): boolean {
    const others = new Set<AnchorId>();
    for (const [index, key] of newcomer.keys.entries()) {
      if (index === rule || key === undefined) continue;
      for (const other of this.#known.withKey(index, key))
        if (other !== anchor && this.#mayJoin(newcomer, other)) others.add(other);
    }
    // Without an anchor of this rule's own, a later rule that finds one is no disagreement but the next try.
    if (others.size === 0 || anchor === undefined) return false;
    this.#doubt(newcomer, {
      kind: 'keys disagree',
      member: newcomer.member,
      key: newcomer.key,
      anchors: [anchor, ...others].sort(),
    });
    for (const each of [anchor, ...others]) this.#block(each, newcomer);
    return true;
  }

  #anchorsWith(rule: number, key: string): readonly AnchorId[] {
    return [...new Set([...this.#known.withKey(rule, key), ...(this.#keysOfPass[rule]?.get(key) ?? [])])].sort();
  }

  #tiedKey(anchor: AnchorId, member: MemberId): RecordKey | undefined {
    return this.#membersOfPass.get(anchor)?.get(member)?.key ?? this.#known.tiedKey(anchor, member);
  }

  #startAnchor(): AnchorId {
    const anchor = this.#nextId();
    this.#newAnchors.add(anchor);
    return anchor;
  }

  #tie(newcomer: Newcomer, anchor: AnchorId, why: TieReason | undefined): void {
    this.#tied.set(newcomer, { anchor, why });
    const members = this.#membersOfPass.get(anchor) ?? new Map<MemberId, Newcomer>();
    members.set(newcomer.member, newcomer);
    this.#membersOfPass.set(anchor, members);
    for (const [index, key] of newcomer.keys.entries()) {
      if (key === undefined) continue;
      const anchors = this.#keysOfPass[index]?.get(key) ?? new Set();
      anchors.add(anchor);
      this.#keysOfPass[index]?.set(key, anchors);
    }
  }

  #doubt(newcomer: Newcomer, doubt: MatchDoubt): void {
    this.#waiting.add(newcomer);
    this.#doubts.push(doubt);
    if ('anchors' in doubt) for (const anchor of doubt.anchors) this.#block(anchor, newcomer);
  }

  #block(anchor: AnchorId, { member, key }: RecordName): void {
    const members = this.#blocked.get(anchor) ?? new Map<MemberId, Set<RecordKey>>();
    members.set(member, (members.get(member) ?? new Set()).add(key));
    this.#blocked.set(anchor, members);
  }
}

function compare(a: string, b: string): number {
  return a < b ? -1 : a > b ? 1 : 0;
}

const nameOf = ({ member, key }: RecordName): RecordName => ({ member, key });

function byMember(newcomers: readonly Newcomer[]): Map<MemberId, Newcomer[]> {
  const groups = new Map<MemberId, Newcomer[]>();
  for (const newcomer of newcomers) groups.set(newcomer.member, [...(groups.get(newcomer.member) ?? []), newcomer]);
  return groups;
}
