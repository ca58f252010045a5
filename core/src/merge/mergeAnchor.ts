import type { CompiledField, CompiledKnot, CompiledMember } from '../knot/index.js';
import {
  type FieldId,
  type Instant,
  isBlank,
  type MemberId,
  type Raw,
  rawEqual,
  sameShared,
  type Shared,
  sharedKey,
} from '../record/index.js';
import {
  type Agreed,
  type Ahead,
  type Anchor,
  type LostValue,
  presentOf,
  type Reading,
  type Tie,
  type TieEnd,
} from './anchor.js';
import { type FieldTie, type FieldWrite, type Held, mergeField, type Problem } from './mergeField.js';

export interface AnchorMergeInput {
  readonly knot: CompiledKnot;
  readonly anchor: Anchor;
  /** What was read in this run, by member. A tie that was not read counts as unchanged. */
  readonly readings: ReadonlyMap<MemberId, Reading>;
  readonly now: Instant;
}

export interface AnchorMerge {
  /**
   * The anchor as it is after the merge: agreed values settled, ties with what they have seen. Writes are not in it.
   */
  readonly anchor: Anchor;
  readonly writes: readonly FieldWrite[];
  readonly held: readonly Held[];
  readonly problems: readonly Problem[];
  readonly lost: readonly (LostValue & { readonly field: FieldId })[];
}

/** Merges all fields of an anchor. A held or unreadable field affects only itself. */
export function mergeAnchor({ knot, anchor, readings, now }: AnchorMergeInput): AnchorMerge {
  const order = new Map(knot.members.map(({ id }, index) => [id, index]));
  const current = withConsequences(
    knot,
    anchor.ties.map((tie) => withReading(tie, readings.get(tie.member), now)),
    readings,
  );
  const taking = current
    .filter((tie) => !tie.gone && !tie.rejected)
    .toSorted((a, b) => (order.get(a.member) ?? 0) - (order.get(b.member) ?? 0));

  const agreed: Record<FieldId, Agreed> = { ...anchor.agreed };
  const changes = new Map<
    MemberId,
    { seen: Record<FieldId, Raw>; ahead: Record<FieldId, Ahead>; left: Record<FieldId, Shared> }
  >(taking.map((tie) => [tie.member, { seen: { ...tie.seen }, ahead: {}, left: {} }]));
  const result = {
    writes: [] as FieldWrite[],
    held: [] as Held[],
    problems: [] as Problem[],
    lost: [] as (LostValue & { field: FieldId })[],
  };
  const merge = (field: CompiledField): void => {
    const ties = taking.flatMap((tie): FieldTie[] => {
      const mapping = field.mappings.get(tie.member);
      const reading = readings.get(tie.member);
      if (!mapping) return [];
      return [
        {
          tie,
          lens: mapping.lens,
          present: presentOf(tie, reading, field.id),
          modifiedAt: reading?.modifiedAt,
          drift: mapping.drift,
        },
      ];
    });
    if (ties.length === 0) return;
    const merged = mergeField({
      field: field.id,
      type: field.type,
      rule: field.rule,
      agreed: agreed[field.id],
      ties,
      now,
      adopt: knot.start === 'adopt',
    });
    if (merged.agreed) agreed[field.id] = merged.agreed;
    if (merged.held) result.held.push(merged.held);
    result.writes.push(...merged.writes);
    result.problems.push(...merged.problems);
    result.lost.push(...merged.lost.map((lost) => ({ ...lost, field: field.id })));
    for (const [member, raw] of merged.seen)
      (changes.get(member) as { seen: Record<FieldId, Raw> }).seen[field.id] = raw;
    for (const [member, ahead] of merged.ahead)
      (changes.get(member) as { ahead: Record<FieldId, Ahead> }).ahead[field.id] = ahead;
    for (const [member, left] of merged.left)
      (changes.get(member) as { left: Record<FieldId, Shared> }).left[field.id] = left;
  };
  const computed = new Map(knot.computed.map((one) => [one.id, one]));
  for (const field of knot.fields) if (!computed.has(field.id)) merge(field);
  // What is computed comes last, each after what it names: it follows what has been agreed, and no member edits it.
  const byId = new Map(knot.fields.map((field) => [field.id, field]));
  for (const [id, field] of computed) {
    const value = field.compute({ get: (name) => agreed[name]?.value });
    const before = agreed[id];
    if (!value.ok) {
      const [first] = taking;
      if (first)
        result.problems.push({
          member: first.member,
          field: id,
          kind: 'unreadable',
          raw: undefined,
          reason: value.reason,
        });
      continue;
    }
    if (before ? !sameShared(before.value, value.value) : value.value !== null)
      agreed[id] = {
        value: value.value,
        by: { kind: 'formula' },
        at: now,
        why: { kind: 'formula', of: [...field.names] },
      };
    merge(byId.get(id) as CompiledField);
  }
  const ties = current.map((tie) => ({ ...tie, ...changes.get(tie.member) }));
  return { anchor: { ...anchor, agreed, ties }, ...result };
}

/**
 * Takes up what was read: the version, and whether the record is rejected now. A rejected record's values wait ahead of
 * seen.
 */
function withReading(tie: Tie, reading: Reading | undefined, now: Instant): Tie {
  if (!reading) return tie;
  const { rejected: _, end: __, ...rest } = tie;
  const read: Tie = { ...rest, version: reading.version, gone: false };
  if (!reading.rejected || reading.rejected.length === 0) return read;
  const ahead: Record<FieldId, Ahead> = {};
  for (const [field, raw] of Object.entries(reading.fields)) {
    if (rawEqual(tie.seen[field], raw)) continue;
    const known = tie.ahead[field];
    ahead[field] = {
      raw,
      noticedAt: known?.noticedAt ?? now,
      modifiedAt: known ? known.modifiedAt : reading.modifiedAt,
    };
  }
  return { ...read, ahead, rejected: reading.rejected };
}

/**
 * What follows from a deletion is settled when it is first merged, by the definition as it is then: a later version
 * must
 * not remove what was left long ago. An edit elsewhere at the same time is for a person to weigh.
 */
function withConsequences(
  knot: CompiledKnot,
  ties: readonly Tie[],
  readings: ReadonlyMap<MemberId, Reading>,
): readonly Tie[] {
  const isNew = ({ gone, end }: Tie): boolean => gone === true && end === undefined;
  if (!ties.some(isNew)) return ties;
  const isEdited = ({ member, gone, seen }: Tie): boolean =>
    !gone &&
    Object.entries(readings.get(member)?.fields ?? {}).some(
      ([field, raw]) =>
        (seen[field] === undefined ? !isBlank(raw) : !rawEqual(seen[field], raw)) &&
        knot.fields.find(({ id }) => id === field)?.mappings.get(member)?.lens.reads === true,
    );
  const edited = ties.some(isEdited);
  return ties.map((tie) =>
    isNew(tie) ? { ...tie, end: endOf(knot.member(tie.member).whenDeleted ?? 'nothing', edited) } : tie,
  );
}

function endOf(follows: NonNullable<CompiledMember['whenDeleted']>, edited: boolean): TieEnd {
  if (follows === 'nothing') return 'keep others';
  if (follows === 'ask' || edited) return 'ask';
  return follows === 'archive' ? 'archive others' : 'delete others';
}

/** A stable text for what a held decision shows: when it differs, the values have changed meanwhile. */
export function heldFingerprint(held: Held): string {
  return JSON.stringify([
    held.base ? sharedKey(held.base.value) : null,
    held.candidates.map(({ value, givers }) => [sharedKey(value), givers]),
  ]);
}
