import type { Lens } from '../mapping/index.js';
import {
  type FieldId,
  type FieldType,
  good,
  type Instant,
  type MemberId,
  normalise,
  type Present,
  type Raw,
  rawEqual,
  sameShared,
  type Shared,
  sharedKey,
} from '../record/index.js';
import type { Agreed, Ahead, Cause, Giver, LostValue, Tie } from './anchor.js';
import { type Change, combine } from './combine.js';
import { applyRule, type Candidate, type Rule } from './rule.js';

/** One tie's part in the merge of one field. */
export interface FieldTie {
  readonly tie: Tie;
  readonly lens: Lens;
  readonly present: Present;
  /** The record's modification time, corrected, when it was read in this run. */
  readonly modifiedAt?: Instant | undefined;
  /** What to do when a member that only receives was edited by hand. */
  readonly drift: 'put back' | 'leave';
}

export interface FieldMergeInput {
  readonly field: FieldId;
  readonly type: FieldType;
  readonly rule: Rule;
  readonly agreed: Agreed | undefined;
  /** In the knot's order of members. The result does not depend on the order in which they were read. */
  readonly ties: readonly FieldTie[];
  readonly now: Instant;
  /** Start by adopting: what is there stays, and fields that differ have no agreed value until somebody edits. */
  readonly adopt: boolean;
}

export interface Problem {
  readonly member: MemberId;
  readonly field: FieldId;
  readonly kind: 'unreadable' | 'unwritable';
  readonly raw: Present;
  readonly reason: string;
}

export interface FieldWrite {
  readonly member: MemberId;
  readonly field: FieldId;
  readonly before: Present;
  readonly after: Raw;
}

/** A field that a person must settle. `base` is what was agreed before. */
export interface Held {
  readonly field: FieldId;
  readonly base: Agreed | undefined;
  readonly candidates: readonly Candidate[];
  readonly reason: string;
}

export interface FieldMerge {
  readonly agreed: Agreed | undefined;
  readonly held?: Held;
  readonly lost: readonly LostValue[];
  readonly writes: readonly FieldWrite[];
  readonly problems: readonly Problem[];
  /** What each tie has seen after this merge; a member that is missing keeps what it had. */
  readonly seen: ReadonlyMap<MemberId, Raw>;
  /** Present values that stay ahead of seen. */
  readonly ahead: ReadonlyMap<MemberId, Ahead>;
  readonly left: ReadonlyMap<MemberId, Shared>;
}

interface Edit {
  readonly from: FieldTie;
  readonly value: Shared;
  readonly at: Instant;
  readonly behind: boolean;
  readonly newcomer: boolean;
}

interface Read {
  readonly tie: FieldTie;
  readonly value: Shared;
}

/** Merges one field of one anchor over its ties: the steps 1 to 10 of the engine's page. */
export function mergeField(input: FieldMergeInput): FieldMerge {
  const { ties, agreed, adopt } = input;
  const problems: Problem[] = [];
  const ahead = new Map<MemberId, Ahead>();
  const readable: Read[] = [];
  for (const tie of ties) {
    if (!tie.lens.reads || tie.present === undefined) continue;
    const read = tie.lens.inbound(tie.present, agreed?.value);
    if (read.ok) readable.push({ tie, value: read.value });
    else {
      problems.push({
        member: tie.tie.member,
        field: input.field,
        kind: 'unreadable',
        raw: tie.present,
        reason: read.reason,
      });
      ahead.set(tie.tie.member, stayAhead(input, tie));
    }
  }
  const unreadable = new Set(problems.map(({ member }) => member));
  const adopted = adopt && agreed === undefined;
  const edits = readable.flatMap((read) => editOf(input, read, adopted) ?? []);
  const outcome = adopted && edits.length === 0 ? adoptEqual(input, readable) : settle(input, edits);

  if (outcome.held) {
    for (const { from } of edits) ahead.set(from.tie.member, stayAhead(input, from));
    return {
      agreed,
      held: outcome.held,
      lost: [],
      writes: [],
      problems,
      ahead,
      left: keepLeft(input),
      seen: seenAfter(ties, ahead),
    };
  }
  const { writes, left, unwritable } = writesTo(input, outcome.agreed, unreadable);
  return {
    agreed: outcome.agreed,
    lost: outcome.lost,
    writes,
    problems: [...problems, ...unwritable],
    ahead,
    left,
    seen: seenAfter(ties, ahead),
  };
}

/** Step 1 and 2: whether a tie has an edit, and whether that edit was made without knowing the agreed value. */
function editOf(input: FieldMergeInput, { tie, value }: Read, adopted: boolean): Edit | undefined {
  const agreed = input.agreed?.value;
  const seen = tie.tie.seen[input.field];
  const before = seen === undefined ? undefined : tie.lens.inbound(seen, agreed);
  // What can no longer be read (the mapping changed meanwhile) tells nothing: such a tie is a newcomer.
  const newcomer = !before?.ok;
  if (newcomer && adopted) return undefined;
  const edited = before?.ok ? !sameShared(value, before.value) : value !== null && !sameShared(value, agreed);
  if (!edited) return undefined;
  const noticed = noticedBefore(input, tie);
  const behind = newcomer || (tie.lens.writes && agreed !== undefined && !tie.lens.means(seen, agreed));
  return {
    from: tie,
    value: behind ? readAlone(tie, value) : value,
    newcomer,
    at: noticed ? (noticed.modifiedAt ?? noticed.noticedAt) : (tie.modifiedAt ?? input.now),
    behind,
  };
}

/**
 * What an edit says that was made without knowing the agreed value: read with it, a narrow member's value would be
 * completed with a rest that never belonged to it (`Oakridge N`, cut at ten, and `Fernhill Gardens` would make
 * `Oakridge Nrdens`).
 */
function readAlone({ lens, present }: FieldTie, value: Shared): Shared {
  const alone = lens.inbound(present as Raw, undefined);
  return alone.ok ? alone.value : value;
}

interface Settlement {
  readonly agreed: Agreed | undefined;
  readonly lost: readonly LostValue[];
  readonly held?: Held;
}

/** Steps 3 to 6. */
function settle(input: FieldMergeInput, edits: readonly Edit[]): Settlement {
  const { agreed, rule, type } = input;
  if (edits.length === 0) return { agreed, lost: [] };
  if (rule.combine) {
    const combined = combineEdits(input, rule.combine, edits);
    if (combined) return combined;
  }
  const candidates = candidatesOf(input, edits);
  const only = candidates[0] as Candidate;
  if (candidates.length === 1) {
    const lost = lostTo(only, edits, agreed, false);
    return { agreed: only.isAgreed ? agreed : agreedFrom(only, { kind: 'edit', members: membersOf(only) }), lost };
  }
  const outcome = applyRule(rule, type, candidates);
  const winner = outcome.candidates[0] as Candidate;
  if (outcome.candidates.length > 1 || !outcome.settledBy) {
    return { agreed, lost: [], held: { field: input.field, base: agreed, candidates, reason: heldBecause(rule) } };
  }
  const lost = lostTo(winner, edits, agreed, true);
  const why: Cause = { kind: 'rule', rule: outcome.settledBy, members: membersOf(winner), over: lost };
  return { agreed: winner.isAgreed ? agreed : agreedFrom(winner, why), lost };
}

function heldBecause(rule: Rule): string {
  if (rule.combine) return 'the edits could not be combined';
  return rule.steps.length === 1 ? 'the rule is to ask' : 'the rule could not settle it';
}

/** Step 3: the values of all edits, and the agreed one if any editing tie is behind; shadows drop out. */
function candidatesOf({ agreed }: FieldMergeInput, edits: readonly Edit[]): readonly Candidate[] {
  const values: { value: Shared; edit?: Edit }[] = edits.map((edit) => ({ value: edit.value, edit }));
  if (agreed && edits.some(({ behind }) => behind)) values.push({ value: agreed.value });
  const first = values[0] as { value: Shared };
  const inConflict = values.some(({ value }) => !sameShared(value, first.value));
  const isShadow = (of: { value: Shared; edit?: Edit }, other: { value: Shared }): boolean =>
    of.edit !== undefined &&
    !sameShared(of.value, other.value) &&
    of.edit.from.lens.means(of.edit.from.present, other.value);
  const survivors = !inConflict
    ? values
    : values.filter((one) => !values.some((other) => isShadow(one, other) && !isShadow(other, one)));

  const groups = new Map<string, { value: Shared; edits: Edit[]; isAgreed: boolean }>();
  for (const { value, edit } of survivors.length > 0 ? survivors : values) {
    const group = groups.get(sharedKey(value)) ?? { value, edits: [], isAgreed: false };
    if (edit) group.edits.push(edit);
    else group.isAgreed = true;
    groups.set(sharedKey(value), group);
  }
  // Edits come in the knot's order of members, and so do the groups and their givers; the agreed value is named last.
  return [...groups.values()]
    .map(({ value, edits: alike, isAgreed }): Candidate => {
      if (isAgreed && agreed) return { value, givers: [agreed.by], at: agreed.at, isAgreed: true };
      return {
        value,
        givers: alike.map(({ from }) => ({ kind: 'member', member: from.tie.member })),
        at: Math.max(...alike.map(({ at }) => at)),
        isAgreed: false,
      };
    })
    .toSorted((a, b) => Number(a.isAgreed) - Number(b.isAgreed));
}

/** Step 5. Newcomers have no seen of their own to be combined against: for them the steps of the rule decide. */
function combineEdits(
  input: FieldMergeInput,
  kind: NonNullable<Rule['combine']>,
  edits: readonly Edit[],
): Settlement | undefined {
  const agreed = input.agreed?.value;
  // Without a value to start from, only lists have a natural beginning: the empty one.
  if (agreed === undefined && kind !== 'union') return undefined;
  const changes: Change[] = [];
  for (const { from, value, newcomer } of edits) {
    const seen = from.tie.seen[input.field];
    // A list that arrives adds its items; every other newcomer has to be chosen.
    if (newcomer && kind !== 'union') return undefined;
    const before = newcomer || seen === undefined ? good(null) : from.lens.inbound(seen, agreed);
    if (!before.ok) return undefined;
    changes.push({ from: before.value, to: value });
  }
  const combined = combine(kind, agreed ?? null, changes);
  if (!combined.ok) return undefined;
  const value = normalise(input.type, combined.value);
  if (!value.ok) return undefined;
  const members = edits.map(({ from }) => from.tie.member);
  const by: Giver = { kind: 'member', member: members[0] as MemberId };
  return {
    agreed: {
      value: value.value,
      by,
      at: Math.max(...edits.map(({ at }) => at)),
      why: { kind: 'combined', rule: kind, members },
    },
    lost: [],
  };
}

/** Step 10: where all say the same it is agreed; where they differ nothing is. */
function adoptEqual({ agreed, now }: FieldMergeInput, readable: readonly Read[]): Settlement {
  const first = readable[0];
  if (!first || !readable.every(({ value }) => sameShared(value, first.value))) return { agreed, lost: [] };
  const members = readable.map(({ tie }) => tie.tie.member);
  const by: Giver = { kind: 'member', member: first.tie.tie.member };
  return {
    agreed: { value: first.value, by, at: first.tie.modifiedAt ?? now, why: { kind: 'equal', members } },
    lost: [],
  };
}

function agreedFrom(candidate: Candidate, why: Cause): Agreed {
  return { value: candidate.value, by: candidate.givers[0] as Giver, at: candidate.at, why };
}

function membersOf(candidate: Candidate): readonly MemberId[] {
  return candidate.givers.flatMap((giver) => (giver.kind === 'member' ? [giver.member] : []));
}

/** Edits whose value did not win. A shadow of the winner has lost nothing. */
function lostTo(
  winner: Candidate,
  edits: readonly Edit[],
  agreed: Agreed | undefined,
  inConflict: boolean,
): readonly LostValue[] {
  const lost: LostValue[] = edits
    .filter(({ value, from }) => !sameShared(value, winner.value) && !from.lens.means(from.present, winner.value))
    .map(({ value, from }) => ({ member: from.tie.member, value }));
  const agreedCompeted = inConflict && agreed && !winner.isAgreed && edits.some(({ behind }) => behind);
  return agreedCompeted && !sameShared(agreed.value, winner.value) ? [...lost, { value: agreed.value }] : lost;
}

/** Steps 7 and 9: what each receiving tie must be written, and what is left as somebody edited it. */
function writesTo(input: FieldMergeInput, agreed: Agreed | undefined, unreadable: ReadonlySet<MemberId>) {
  const writes: FieldWrite[] = [];
  const unwritable: Problem[] = [];
  const left = new Map<MemberId, Shared>();
  for (const { tie, lens, present, drift } of agreed ? input.ties : []) {
    const { member } = tie;
    const value = (agreed as Agreed).value;
    if (!lens.writes || unreadable.has(member) || lens.means(present, value)) continue;
    // Systems that leave empty fields out say nothing when they say nothing.
    if (present === undefined && value === null) continue;
    if (drift === 'leave' && isLeft(input, tie, lens, present, value)) {
      left.set(member, value);
      continue;
    }
    const raw = lens.outbound(value, present);
    if (!raw.ok) unwritable.push({ member, field: input.field, kind: 'unwritable', raw: present, reason: raw.reason });
    else if (!rawEqual(raw.value, present))
      writes.push({ member, field: input.field, before: present, after: raw.value });
  }
  return { writes, unwritable, left };
}

function isLeft(input: FieldMergeInput, tie: Tie, lens: Lens, present: Present, value: Shared): boolean {
  if (lens.reads) return false;
  const alreadyLeft = tie.left[input.field];
  if (alreadyLeft !== undefined) return sameShared(alreadyLeft, value);
  const seen = tie.seen[input.field];
  return seen !== undefined && !rawEqual(seen, present) && lens.means(seen, value);
}

function keepLeft({ ties, field }: FieldMergeInput): ReadonlyMap<MemberId, Shared> {
  return new Map(
    ties.flatMap(({ tie }) => (Object.hasOwn(tie.left, field) ? [[tie.member, tie.left[field] as Shared]] : [])),
  );
}

/** When this edit was first noticed. A value that could not be read was no edit yet. */
function noticedBefore(
  { field, agreed }: FieldMergeInput,
  { tie, lens }: Pick<FieldTie, 'tie' | 'lens'>,
): Ahead | undefined {
  const ahead = tie.ahead[field];
  return ahead && lens.reads && lens.inbound(ahead.raw, agreed?.value).ok ? ahead : undefined;
}

function stayAhead(input: FieldMergeInput, { tie, lens, present, modifiedAt }: FieldTie): Ahead {
  const known = noticedBefore(input, { tie, lens });
  return {
    raw: present as Raw,
    noticedAt: known?.noticedAt ?? input.now,
    modifiedAt: known ? known.modifiedAt : modifiedAt,
  };
}

/** Seen becomes the present value of every tie that is not ahead. Absent values leave it as it was. */
function seenAfter(ties: readonly FieldTie[], ahead: ReadonlyMap<MemberId, Ahead>): ReadonlyMap<MemberId, Raw> {
  const seen = new Map<MemberId, Raw>();
  for (const { tie, present } of ties) {
    if (present !== undefined && !ahead.has(tie.member)) seen.set(tie.member, present);
  }
  return seen;
}
