import { type MemberId, rawEqual, sameShared, type Shared } from '../record/index.js';
import type { Agreed } from './anchor.js';
import { type FieldMergeInput, type FieldTie, type FieldWrite, type Problem, problemOf } from './fieldMerge.js';

/** Steps 7 and 9: what each receiving tie must be written, and what is left as somebody edited it. */
export function writesTo(input: FieldMergeInput, agreed: Agreed | undefined, unreadable: ReadonlySet<MemberId>) {
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
    if (!raw.ok) unwritable.push(problemOf({ member, field: input.field, raw: present }, 'unwritable', raw));
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
export function stillLeft(input: FieldMergeInput): ReadonlyMap<MemberId, Shared> {
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
