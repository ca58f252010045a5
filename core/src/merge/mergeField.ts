import type { Rule } from '../definition/index.js';
import { type MemberId, normalise, sameShared } from '../record/index.js';
import type { Agreed, Ahead, Cause, Giver, Loss, LostValue } from './anchor.js';
import { candidatesOf, sameGiver, Shadows } from './candidates.js';
import { type Change, combine } from './combine.js';
import { type Edit, editOf, type Read, stayAhead } from './edits.js';
import {
  type FieldMerge,
  type FieldMergeInput,
  type FieldTie,
  type Held,
  type Problem,
  problemOf,
} from './fieldMerge.js';
import { stillLeft, writesTo } from './receiving.js';
import { applyRule, type Candidate } from './rule.js';

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
      problems.push(problemOf({ member: tie.tie.member, field: input.field, raw: tie.present }, 'unreadable', read));
      ahead.set(tie.tie.member, stayAhead(input, tie));
    }
  }
  const unreadable = new Set(problems.map(({ member }) => member));
  const edits = readable.flatMap((read) => editOf(input, read) ?? []);
  const wanted =
    adopt && agreed === undefined && edits.length === 0 ? adoptEqual(input, readable) : settle(input, edits);
  const outcome = wanted.agreed && input.isCircle?.(wanted.agreed.value) ? heldAsCircle(input, edits) : wanted;

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
  };
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
  // Where all say the same of what is new there is nothing to weigh: most fields of a first load are so.
  if (agreed === undefined && edits.every(({ value }) => sameShared(value, (edits[0] as Edit).value))) {
    const members = edits.map(({ from }) => from.tie.member);
    return { agreed: { value: (edits[0] as Edit).value, ...givenBy(edits), why: { kind: 'edit', members } }, lost: [] };
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

/** Two edits may each be right alone: one thing moved under another, that one under it elsewhere. */
function heldAsCircle({ agreed, field }: FieldMergeInput, edits: readonly Edit[]): Settlement {
  const candidates = candidatesOf(agreed, edits, new Shadows(agreed, edits));
  return {
    agreed,
    lost: [],
    held: { field, base: agreed, candidates, reason: 'it would stand under itself', isCircle: true },
  };
}

function heldBecause(rule: Rule): string {
  if (rule.combine) return 'the edits could not be combined';
  return rule.steps.length === 1 ? 'the rule is to ask' : 'the rule could not settle it';
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
