import type { AnchorId, MemberId, RecordKey } from '../record/index.js';

/** A record that has no tie yet. */
export interface Newcomer {
  readonly member: MemberId;
  readonly key: RecordKey;
  /** Its key under each rule, in the order of the rules. */
  readonly keys: readonly (string | undefined)[];
  /** False for records that may join an anchor but not start one: rejected, or of a member where nothing may start. */
  readonly canStart: boolean;
  /** A person said that it is a thing of its own: no rule applies. */
  readonly separate?: boolean;
}

/** What is known of existing anchors. */
export interface KnownAnchors {
  /** Anchors with that key, by the agreed values or the present values of any tie. */
  withKey(rule: number, key: string): readonly AnchorId[];
  /** The key of the record that an anchor is tied to in a member, gone ties included. */
  tiedKey(anchor: AnchorId, member: MemberId): RecordKey | undefined;
}

export type MatchDoubt =
  | {
      readonly kind: 'duplicate';
      readonly member: MemberId;
      readonly rule: string;
      readonly value: string;
      readonly keys: readonly RecordKey[];
      readonly tiedKey?: RecordKey | undefined;
      readonly anchor?: AnchorId | undefined;
    }
  | { readonly kind: 'keys disagree'; readonly member: MemberId; readonly key: RecordKey; readonly anchors: readonly AnchorId[] }
  | { readonly kind: 'several anchors'; readonly member: MemberId; readonly key: RecordKey; readonly anchors: readonly AnchorId[] };

export interface Matching {
  readonly ties: readonly { readonly newcomer: Newcomer; readonly anchor: AnchorId; readonly rule: string | undefined; readonly isNewAnchor: boolean }[];
  /** Records that wait for a person. They have no anchor and create nothing meanwhile. */
  readonly doubts: readonly MatchDoubt[];
  /** Records that neither match nor may start an anchor. */
  readonly unmatched: readonly Newcomer[];
  /** Members in which an anchor must not be created, because a doubt is open about a record there. */
  readonly blocked: ReadonlyMap<AnchorId, ReadonlySet<MemberId>>;
}

/**
 * Ties newcomers to anchors by keys: one rule over all records before the next rule begins. Two records of one member
 * that match the same anchor are reported as duplicates and never tied. The outcome does not depend on the order of
 * the newcomers, except for which new id goes to which new anchor.
 */
export function matchByKey(ruleNames: readonly string[], newcomers: readonly Newcomer[], known: KnownAnchors, nextId: () => AnchorId): Matching {
  const pass = new MatchingPass(ruleNames, known, nextId);
  const ordered = newcomers.toSorted((a, b) => compare(a.member, b.member) || compare(a.key, b.key));
  for (const rule of ruleNames.keys()) pass.applyRule(rule, ordered);
  return pass.finish(ordered);
}

function compare(a: string, b: string): number {
  return a < b ? -1 : a > b ? 1 : 0;
}

/** The state of one matching: which newcomer is tied, waits, or is still free. */
class MatchingPass {
  readonly #ruleNames: readonly string[];
  readonly #known: KnownAnchors;
  readonly #nextId: () => AnchorId;
  readonly #tied = new Map<Newcomer, { anchor: AnchorId; rule: number | undefined }>();
  readonly #waiting = new Set<Newcomer>();
  readonly #doubts: MatchDoubt[] = [];
  readonly #newAnchors = new Set<AnchorId>();
  /** Keys of anchors that this pass made or added to, per rule. */
  readonly #keysOfPass: Map<string, Set<AnchorId>>[];
  readonly #membersOfPass = new Map<AnchorId, Map<MemberId, RecordKey>>();
  readonly #blocked = new Map<AnchorId, Set<MemberId>>();
  /** Blocks on newcomers that have no anchor yet. */
  readonly #blockedLater = new Map<Newcomer, Set<MemberId>>();

  constructor(ruleNames: readonly string[], known: KnownAnchors, nextId: () => AnchorId) {
    this.#ruleNames = ruleNames;
    this.#known = known;
    this.#nextId = nextId;
    this.#keysOfPass = ruleNames.map(() => new Map<string, Set<AnchorId>>());
  }

  applyRule(rule: number, newcomers: readonly Newcomer[]): void {
    const groups = new Map<string, Newcomer[]>();
    for (const newcomer of newcomers) {
      const key = newcomer.separate || this.#tied.has(newcomer) || this.#waiting.has(newcomer) ? undefined : newcomer.keys[rule];
      if (key === undefined) continue;
      const group = groups.get(key);
      if (group) group.push(newcomer);
      else groups.set(key, [newcomer]);
    }
    for (const [value, group] of groups) this.#matchGroup(rule, value, group);
  }

  finish(newcomers: readonly Newcomer[]): Matching {
    const unmatched: Newcomer[] = [];
    for (const newcomer of newcomers) {
      if (this.#tied.has(newcomer) || this.#waiting.has(newcomer)) continue;
      if (newcomer.canStart) this.#tie(newcomer, this.#startAnchor(), undefined);
      else unmatched.push(newcomer);
    }
    for (const [newcomer, members] of this.#blockedLater) {
      const tied = this.#tied.get(newcomer);
      if (tied) for (const member of members) this.#block(tied.anchor, member);
    }
    const ties = [...this.#tied].map(([newcomer, { anchor, rule }]) => ({
      newcomer,
      anchor,
      rule: rule === undefined ? undefined : this.#ruleNames[rule],
      isNewAnchor: this.#newAnchors.has(anchor),
    }));
    return { ties, doubts: this.#doubts, unmatched, blocked: this.#blocked };
  }

  #matchGroup(rule: number, value: string, group: readonly Newcomer[]): void {
    const anchors = this.#anchorsWith(rule, value);
    if (anchors.length > 1) {
      for (const newcomer of group) this.#doubt(newcomer, { kind: 'several anchors', member: newcomer.member, key: newcomer.key, anchors });
      return;
    }
    const anchor = anchors[0];
    const agreeing = group.filter((newcomer) => !this.#keysDisagree(rule, newcomer, anchor));
    const singles: Newcomer[] = [];
    const doubtfulMembers = new Set<MemberId>(group.filter((newcomer) => this.#waiting.has(newcomer)).map(({ member }) => member));
    for (const [member, alike] of byMember(agreeing)) {
      const tiedKey = anchor === undefined ? undefined : this.#tiedKey(anchor, member);
      if (alike.length === 1 && tiedKey === undefined && !doubtfulMembers.has(member)) singles.push(alike[0] as Newcomer);
      else {
        doubtfulMembers.add(member);
        const doubt: MatchDoubt = { kind: 'duplicate', member, rule: this.#ruleNames[rule] as string, value, keys: alike.map(({ key }) => key), tiedKey, anchor };
        for (const newcomer of alike) this.#waiting.add(newcomer);
        this.#doubts.push(doubt);
      }
    }
    if (anchor !== undefined) {
      for (const newcomer of singles) this.#tie(newcomer, anchor, rule);
      for (const member of doubtfulMembers) this.#block(anchor, member);
    } else {
      this.#formAnchor(rule, singles, doubtfulMembers);
    }
  }

  /** Newcomers alone under this rule stay free: a later rule may still find them something. */
  #formAnchor(rule: number, singles: readonly Newcomer[], doubtfulMembers: ReadonlySet<MemberId>): void {
    if (singles.length >= 2 && singles.some(({ canStart }) => canStart)) {
      const made = this.#startAnchor();
      for (const newcomer of singles) this.#tie(newcomer, made, rule);
      for (const member of doubtfulMembers) this.#block(made, member);
      return;
    }
    for (const newcomer of singles) {
      const members = this.#blockedLater.get(newcomer) ?? new Set();
      for (const member of doubtfulMembers) members.add(member);
      this.#blockedLater.set(newcomer, members);
    }
  }

  /** Another rule's key that leads to another anchor than this rule's: a person must say which is right. */
  #keysDisagree(rule: number, newcomer: Newcomer, anchor: AnchorId | undefined): boolean {
    const others = new Set<AnchorId>();
    for (const [index, key] of newcomer.keys.entries()) {
      if (index === rule || key === undefined) continue;
      for (const other of this.#known.withKey(index, key)) if (other !== anchor) others.add(other);
    }
    // Without an anchor of this rule's own, a later rule that finds one is no disagreement but the next try.
    if (others.size === 0 || anchor === undefined) return false;
    this.#doubt(newcomer, { kind: 'keys disagree', member: newcomer.member, key: newcomer.key, anchors: [anchor, ...others].sort() });
    for (const one of [anchor, ...others]) this.#block(one, newcomer.member);
    return true;
  }

  #anchorsWith(rule: number, key: string): readonly AnchorId[] {
    return [...new Set([...this.#known.withKey(rule, key), ...(this.#keysOfPass[rule]?.get(key) ?? [])])].sort();
  }

  #tiedKey(anchor: AnchorId, member: MemberId): RecordKey | undefined {
    return this.#membersOfPass.get(anchor)?.get(member) ?? this.#known.tiedKey(anchor, member);
  }

  #startAnchor(): AnchorId {
    const anchor = this.#nextId();
    this.#newAnchors.add(anchor);
    return anchor;
  }

  #tie(newcomer: Newcomer, anchor: AnchorId, rule: number | undefined): void {
    this.#tied.set(newcomer, { anchor, rule });
    const members = this.#membersOfPass.get(anchor) ?? new Map<MemberId, RecordKey>();
    members.set(newcomer.member, newcomer.key);
    this.#membersOfPass.set(anchor, members);
    for (const [index, key] of newcomer.keys.entries()) {
      if (key === undefined || newcomer.separate) continue;
      const anchors = this.#keysOfPass[index]?.get(key) ?? new Set();
      anchors.add(anchor);
      this.#keysOfPass[index]?.set(key, anchors);
    }
  }

  #doubt(newcomer: Newcomer, doubt: MatchDoubt): void {
    this.#waiting.add(newcomer);
    this.#doubts.push(doubt);
    if ('anchors' in doubt) for (const anchor of doubt.anchors) this.#block(anchor, newcomer.member);
  }

  #block(anchor: AnchorId, member: MemberId): void {
    const members = this.#blocked.get(anchor) ?? new Set();
    members.add(member);
    this.#blocked.set(anchor, members);
  }
}

function byMember(newcomers: readonly Newcomer[]): Map<MemberId, Newcomer[]> {
  const groups = new Map<MemberId, Newcomer[]>();
  for (const newcomer of newcomers) groups.set(newcomer.member, [...(groups.get(newcomer.member) ?? []), newcomer]);
  return groups;
}
