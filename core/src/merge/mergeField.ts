import type { Rule } from '../definition/index.js';
import type { Lens } from '../mapping/index.js';
import {
  type FieldId,
  type FieldType,
  type Instant,
  type MemberId,
  normalise,
  type Outcome,
  type Present,
  type Raw,
  rawEqual,
  sameShared,
  type Shared,
  sharedKey,
} from '../record/index.js';
import type { Agreed, Ahead, Cause, Giver, Loss, LostValue, Tie } from './anchor.js';
import { type Change, combine } from './combine.js';
import { applyRule, type Candidate } from './rule.js';

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
  readonly lost: readonly Loss[];
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
  /** What the member's value was before; `undefined` for a newcomer. */
  readonly before: Shared | undefined;
  readonly at: Instant;
  readonly behind: boolean;
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
  const edits = readable.flatMap((read) => editOf(input, read) ?? []);
  const outcome =
    adopt && agreed === undefined && edits.length === 0 ? adoptEqual(input, readable) : settle(input, edits);

  if (outcome.held) {
    for (const { from } of edits) ahead.set(from.tie.member, stayAhead(input, from));
    return {
      agreed,
      held: outcome.held,
      lost: [],
      writes: [],
      problems,
      ahead,
      left: stillLeft(input),
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
function editOf(input: FieldMergeInput, { tie, value }: Read): Edit | undefined {
  const agreed = input.agreed?.value;
  const seen = tie.tie.seen[input.field];
  const before = seen === undefined ? undefined : tie.lens.inbound(seen, agreed);
  const newcomer = before === undefined;
  if (newcomer && input.adopt) return undefined;
  if (!isEdit(value, before, agreed)) return undefined;
  const noticed = noticedBefore(input, tie);
  const behind = !before?.ok || (tie.lens.writes && agreed !== undefined && !tie.lens.means(seen, agreed));
  return {
    from: tie,
    value: behind ? readAlone(tie.lens, tie.present as Raw, value) : value,
    before: !before?.ok ? undefined : behind ? readAlone(tie.lens, seen as Raw, before.value) : before.value,
    at: noticed ? (noticed.modifiedAt ?? noticed.noticedAt) : (tie.modifiedAt ?? input.now),
    behind,
  };
}

/** @param before what the value was; `undefined` for a newcomer */
function isEdit(value: Shared, before: Outcome<Shared> | undefined, agreed: Shared | undefined): boolean {
  if (!before) return value !== null && !sameShared(value, agreed);
  // What could not be read and now can be was changed, and be it to a blank.
  return !before.ok || !sameShared(value, before.value);
}

/**
 * What an edit says that was made without knowing the agreed value: read with it, a narrow member's value would be
 * completed with a rest that never belonged to it (`Oakridge N`, cut at ten, and `Fernhill Gardens` would make
 * `Oakridge Nrdens`).
 */
function readAlone(lens: Lens, raw: Raw, value: Shared): Shared {
  const alone = lens.inbound(raw, undefined);
  return alone.ok ? alone.value : value;
}

interface Settlement {
  readonly agreed: Agreed | undefined;
  readonly held?: Held;
  readonly lost: readonly Loss[];
}

function settle(input: FieldMergeInput, edits: readonly Edit[]): Settlement {
  const { agreed, rule, type } = input;
  if (edits.length === 0) return { agreed, lost: [] };
  if (rule.combine) {
    const combined = combineEdits(input, rule.combine, edits);
    if (combined) return combined;
  }
  const shadows = new Shadows(agreed, edits);
  const candidates = candidatesOf(agreed, edits, shadows);
  const only = candidates[0] as Candidate;
  if (candidates.length === 1) {
    return { agreed: agreedOn(agreed, only, edits, { kind: 'edit', members: only.editedIn }), lost: [] };
  }
  const outcome = applyRule(rule, type, candidates);
  const winner = outcome.candidates[0] as Candidate;
  if (outcome.candidates.length > 1 || !outcome.settledBy) {
    return { agreed, lost: [], held: { field: input.field, base: agreed, candidates, reason: heldBecause(rule) } };
  }
  const over = lostTo(winner, candidates, edits, shadows);
  const why: Cause = { kind: 'rule', rule: outcome.settledBy, members: membersOf(winner), over };
  return { agreed: agreedOn(agreed, winner, edits, why), lost: over.map((lost) => ({ ...lost, why })) };
}

function heldBecause(rule: Rule): string {
  if (rule.combine) return 'the edits could not be combined';
  return rule.steps.length === 1 ? 'the rule is to ask' : 'the rule could not settle it';
}

/** Step 3: the values of all edits, and the agreed one if any editing tie is behind; shadows drop out. */
function candidatesOf(agreed: Agreed | undefined, edits: readonly Edit[], shadows: Shadows): readonly Candidate[] {
  const groups = new Map<string, { value: Shared; edits: Edit[] }>();
  const putForward = edits.filter((edit) => !shadows.dropsOut(edit));
  for (const edit of putForward.length > 0 || shadows.agreedCompetes ? putForward : edits) {
    const group = groups.get(sharedKey(edit.value)) ?? { value: edit.value, edits: [] };
    group.edits.push(edit);
    groups.set(sharedKey(edit.value), group);
  }
  if (agreed && shadows.agreedCompetes && !groups.has(sharedKey(agreed.value)))
    groups.set(sharedKey(agreed.value), { value: agreed.value, edits: [] });
  // Edits come in the knot's order of members, and so do the groups and their givers; the agreed value is named last.
  return [...groups.values()]
    .map(({ value, edits: alike }): Candidate => {
      const isAgreed = agreed !== undefined && sameShared(agreed.value, value);
      const before = isAgreed ? [agreed.by, ...(agreed.also ?? [])] : [];
      const editedIn = alike.map(({ from }) => from.tie.member);
      const givers = [...editedIn.map((member): Giver => ({ kind: 'member', member })), ...before];
      return {
        value,
        givers: before.length === 0 ? givers : distinct(givers),
        at: Math.max(...alike.map(({ at }) => at), ...(isAgreed ? [agreed.at] : [])),
        isAgreed,
        editedIn,
      };
    })
    .toSorted((a, b) => Number(a.isAgreed) - Number(b.isAgreed));
}

/**
 * Which edits are shadows: their raw value already means another value that is put forward, because their member is
 * narrower. The shadow of a shadow is one too; two that are shadows of each other are none.
 */
class Shadows {
  /** Whether the value agreed before is put forward as well: an editing tie did not know it. */
  readonly agreedCompetes: boolean;
  readonly #agreed: Shared | undefined;
  readonly #edits: readonly Edit[];
  readonly #values: readonly Shared[];

  constructor(agreed: Agreed | undefined, edits: readonly Edit[]) {
    this.agreedCompetes = agreed !== undefined && edits.some(({ behind }) => behind);
    this.#agreed = this.agreedCompetes ? agreed?.value : undefined;
    this.#edits = edits;
    this.#values = [...edits.map(({ value }) => value), ...(this.#agreed === undefined ? [] : [this.#agreed])];
  }

  dropsOut(edit: Edit): boolean {
    return this.#values.some((value) => this.#shadows(edit, value) && !this.#isShadowedBack(edit, value));
  }

  /** Whether an edit stands for that value, itself or by way of others: then nothing is lost where it wins. */
  standsFor(edit: Edit, value: Shared): boolean {
    const looked = new Set<Edit>();
    const look = (from: Edit): boolean => {
      if (sameShared(from.value, value) || this.#shadows(from, value)) return true;
      looked.add(from);
      return this.#edits.some((other) => !looked.has(other) && this.#shadows(from, other.value) && look(other));
    };
    return look(edit);
  }

  #shadows({ value, from: { lens, present } }: Edit, other: Shared): boolean {
    return !sameShared(value, other) && lens.means(present, other);
  }

  /** Whether all who put that value forward show no more than a shadow of this edit's. */
  #isShadowedBack({ value }: Edit, by: Shared): boolean {
    if (this.#agreed !== undefined && sameShared(this.#agreed, by)) return false;
    return this.#edits.every((other) => !sameShared(other.value, by) || this.#shadows(other, value));
  }
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
  // A list that arrives adds its items; every other newcomer has to be chosen.
  if (kind !== 'union' && edits.some(({ before }) => before === undefined)) return undefined;
  const changes = edits.map(({ before, value }): Change => ({ from: before ?? null, to: value }));
  const combined = combine(kind, agreed ?? null, changes);
  if (!combined.ok) return undefined;
  const value = normalise(input.type, combined.value);
  if (!value.ok) return undefined;
  const why: Cause = { kind: 'combined', rule: kind, members: edits.map(({ from }) => from.tie.member) };
  return { agreed: { value: value.value, ...givenBy(edits), why }, lost: [] };
}

/**
 * Step 10: where all say the same it is agreed, and so in members that only receive; where they differ nothing is, so
 * that nothing is written until somebody edits.
 */
function adoptEqual({ agreed, ties, now }: FieldMergeInput, readable: readonly Read[]): Settlement {
  const first = readable[0];
  const givers = ties.filter(({ lens, present }) => lens.reads && present !== undefined);
  if (!first || readable.length < givers.length) return { agreed, lost: [] };
  const differs = ({ lens, present }: FieldTie): boolean =>
    present === undefined ? first.value !== null : !lens.means(present, first.value);
  if (ties.some(differs)) return { agreed, lost: [] };
  const edits = readable.map(({ tie }) => ({ from: tie, at: tie.modifiedAt ?? now }));
  const members = readable.map(({ tie }) => tie.tie.member);
  return { agreed: { value: first.value, ...givenBy(edits), why: { kind: 'equal', members } }, lost: [] };
}

/** Who gave a value, and when: of several givers the one that was last is named first. */
function givenBy(edits: readonly Pick<Edit, 'from' | 'at'>[]): Pick<Agreed, 'by' | 'also' | 'at'> {
  const at = Math.max(...edits.map((edit) => edit.at));
  const last = edits.find((edit) => edit.at === at) as Pick<Edit, 'from'>;
  const member = (edit: Pick<Edit, 'from'>): Giver => ({ kind: 'member', member: edit.from.tie.member });
  const also = edits.filter((edit) => edit !== last).map(member);
  return { by: member(last), at, ...(also.length > 0 ? { also } : {}) };
}

/** The value agreed on now. Who gives again what was agreed joins those who gave it before. */
function agreedOn(
  before: Agreed | undefined,
  { value, isAgreed, editedIn, givers }: Candidate,
  edits: readonly Edit[],
  why: Cause,
): Agreed {
  const given = edits.filter((edit) => editedIn.includes(edit.from.tie.member));
  if (!isAgreed || !before) return { value, ...givenBy(given), why };
  if (given.length === 0) return before;
  const { by, at } = givenBy(given);
  const isLater = at > before.at;
  const last = isLater ? by : before.by;
  return { ...before, by: last, at: isLater ? at : before.at, also: givers.filter((giver) => !sameGiver(giver, last)) };
}

function distinct(givers: readonly Giver[]): readonly Giver[] {
  return givers.filter((giver, place) => givers.findIndex((other) => sameGiver(giver, other)) === place);
}

function sameGiver(a: Giver, b: Giver): boolean {
  if (a.kind === 'member') return b.kind === 'member' && a.member === b.member;
  return a.kind === 'person' ? b.kind === 'person' && a.name === b.name : b.kind === 'formula';
}

function membersOf(candidate: Candidate): readonly MemberId[] {
  return candidate.givers.flatMap((giver) => (giver.kind === 'member' ? [giver.member] : []));
}

/** Values that did not win. What stands for the winner has lost nothing. */
function lostTo(
  winner: Candidate,
  candidates: readonly Candidate[],
  edits: readonly Edit[],
  shadows: Shadows,
): readonly LostValue[] {
  const lost = edits
    .filter((edit) => !shadows.standsFor(edit, winner.value))
    .map(({ value, from }): LostValue => ({ member: from.tie.member, value }));
  const beaten = candidates.find(({ isAgreed }) => isAgreed);
  return beaten && beaten !== winner && beaten.editedIn.length === 0 ? [...lost, { value: beaten.value }] : lost;
}

/** Steps 7 and 9: what each receiving tie must be written, and what is left as somebody edited it. */
function writesTo(input: FieldMergeInput, agreed: Agreed | undefined, unreadable: ReadonlySet<MemberId>) {
  const writes: FieldWrite[] = [];
  const unwritable: Problem[] = [];
  const left = new Map<MemberId, Shared>();
  for (const fieldTie of agreed ? input.ties : []) {
    const { tie, lens, present } = fieldTie;
    const { member } = tie;
    const value = (agreed as Agreed).value;
    // What cannot be read is not overwritten, and what it was told before stays told.
    if (unreadable.has(member)) {
      if (Object.hasOwn(tie.left, input.field)) left.set(member, tie.left[input.field] as Shared);
      continue;
    }
    if (!lens.writes || lens.means(present, value)) continue;
    // Systems that leave empty fields out say nothing when they say nothing.
    if (present === undefined && value === null) continue;
    if (isLeft(input, fieldTie, value)) {
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

/**
 * Whether a value stays there although it is not the agreed one: somebody edited it in a member that only receives and
 * is to be left alone, or it was there when its record was adopted. It stays until the agreed value is another.
 */
function isLeft({ field, adopt }: FieldMergeInput, { tie, lens, present, drift }: FieldTie, value: Shared): boolean {
  const isAloneByHand = !lens.reads && drift === 'leave';
  if (!adopt && !isAloneByHand) return false;
  const alreadyLeft = tie.left[field];
  if (alreadyLeft !== undefined) return sameShared(alreadyLeft, value);
  const seen = tie.seen[field];
  const isNewHere = seen === undefined && (present !== undefined || Object.keys(tie.seen).length === 0);
  if (adopt && isNewHere) return true;
  return isAloneByHand && seen !== undefined && !rawEqual(seen, present) && lens.means(seen, value);
}

/** What stays left while the field is held: the agreed value is as it was. */
function stillLeft(input: FieldMergeInput): ReadonlyMap<MemberId, Shared> {
  const { agreed, ties, field } = input;
  return new Map(
    ties.flatMap((fieldTie): [MemberId, Shared][] => {
      const { tie, lens, present } = fieldTie;
      if (Object.hasOwn(tie.left, field)) return [[tie.member, tie.left[field] as Shared]];
      const differs = agreed !== undefined && lens.writes && !lens.means(present, agreed.value);
      return differs && isLeft(input, fieldTie, agreed.value) ? [[tie.member, agreed.value]] : [];
    }),
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
