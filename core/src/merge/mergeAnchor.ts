import type { CompiledField, CompiledKnot, ComputedField } from '../definition/index.js';
import {
  anchorId,
  type FieldId,
  type Instant,
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
  isEdited,
  type Loss,
  presentOf,
  type Reading,
  type Tie,
} from './anchor.js';
import { withConsequences } from './deletions.js';
import type { FieldTie, FieldWrite, Held, Problem } from './fieldMerge.js';
import { mergeField } from './mergeField.js';
import { observe } from './observe.js';
import { referredNow } from './referredNow.js';

export interface AnchorMergeInput {
  readonly knot: CompiledKnot;
  readonly anchor: Anchor;
  /** What was read in this run, by member. A tie that was not read counts as unchanged. */
  readonly readings: ReadonlyMap<MemberId, Reading>;
  readonly now: Instant;
  /** The numbers that its fields take from their series, where they have none. */
  readonly numbers?: ReadonlyMap<FieldId, string> | undefined;
}

export interface AnchorMerge {
  /**
   * The anchor as it is after the merge: agreed values settled, ties with what they have seen. Writes are not in it.
   */
  readonly anchor: Anchor;
  readonly writes: readonly FieldWrite[];
  readonly held: readonly Held[];
  readonly problems: readonly Problem[];
  readonly lost: readonly FieldLoss[];
}

export interface FieldLoss extends Loss {
  readonly field: FieldId;
}

/** Merges all fields of an anchor. A held or unreadable field affects only itself. */
export function mergeAnchor(input: AnchorMergeInput): AnchorMerge {
  const merging = new AnchorMerging(input);
  const { knot } = input;
  const computed = new Set(knot.computed.map(({ id }) => id));
  const given = knot.fields.filter(({ id }) => !computed.has(id));
  for (const field of given) if (field.series === undefined) merging.merge(field);
  // Whether a thing takes a number may depend on what was edited of it.
  for (const field of given) if (field.series !== undefined) merging.number(field);
  // What is computed comes last, each after what it names: it follows what has been agreed, and no member edits it.
  const fieldOf = new Map(knot.fields.map((field) => [field.id, field]));
  for (const field of knot.computed) merging.compute(field, fieldOf.get(field.id) as CompiledField);
  return merging.result();
}

/** What the merge of its fields makes of one tie. */
interface TieChange {
  readonly seen: Record<FieldId, Raw>;
  readonly ahead: Record<FieldId, Ahead>;
  readonly left: Record<FieldId, Shared>;
}

class AnchorMerging {
  readonly #input: AnchorMergeInput;
  /** As they are after reading. */
  readonly #ties: readonly Tie[];
  /** Those that give and receive, in the knot's order of members. */
  readonly #taking: readonly Tie[];
  readonly #changes: ReadonlyMap<MemberId, TieChange>;
  readonly #agreed: Record<FieldId, Agreed>;
  readonly #writes: FieldWrite[] = [];
  readonly #held: Held[] = [];
  readonly #problems: Problem[] = [];
  readonly #lost: FieldLoss[] = [];

  constructor(input: AnchorMergeInput) {
    const { knot, readings, now } = input;
    const anchor = observe(knot, input.anchor, readings);
    this.#input = { ...input, anchor };
    const read = anchor.ties.map((tie) => withReading(tie, readings.get(tie.member), now));
    this.#ties = withConsequences(knot, anchor.ties, read, readings);
    const placeOf = ({ member }: Tie): number => knot.members.findIndex(({ id }) => id === member);
    this.#taking = this.#ties
      .filter((tie) => !tie.gone && !tie.rejected)
      .toSorted((one, other) => placeOf(one) - placeOf(other));
    this.#changes = new Map(
      this.#taking.map(({ member, seen, left }) => [member, { seen: { ...seen }, ahead: {}, left: { ...left } }]),
    );
    this.#agreed = { ...anchor.agreed };
  }

  /** Merges a field that takes its number from a series, where no member gives one. */
  number(field: CompiledField): void {
    this.merge(field);
    const number = this.#numberFor(field);
    if (number === undefined) return;
    this.#agreed[field.id] = {
      value: number,
      by: { kind: 'series' },
      at: this.#input.now,
      why: { kind: 'number', series: field.series as string },
    };
    this.merge(field);
  }

  /** The number that a field takes from its series now. One that somebody has emptied was given one before. */
  #numberFor({ id, series }: CompiledField): string | undefined {
    if (series === undefined || this.#agreed[id] !== undefined || this.#taking.length === 0) return undefined;
    const isOpen = [...this.#held, ...this.#problems].some(({ field }) => field === id);
    // What is rejected, or away, may hold one that nobody can see now.
    const isUnseen = this.#ties.some((tie) => tie.rejected && !tie.gone);
    if (isOpen || isUnseen) return undefined;
    if (this.#input.knot.start === 'adopt' && !Object.values(this.#agreed).some(isEdited)) return undefined;
    return this.#input.numbers?.get(id);
  }

  merge(field: CompiledField): void {
    const { knot, now } = this.#input;
    const ties = this.#tiesOf(field);
    if (ties.length === 0) return;
    const agreed = this.#agreed[field.id];
    const isReference = field.refersTo !== undefined;
    const merged = mergeField({
      field: field.id,
      type: field.type,
      rule: field.rule,
      agreed: isReference ? referredNow(field.id, agreed, ties, knot.references) : agreed,
      ties,
      now,
      adopt: knot.start === 'adopt',
      isCircle: field.levels ? this.#isCircle : undefined,
    });
    if (merged.agreed) this.#agreed[field.id] = merged.agreed;
    if (merged.held) this.#held.push(merged.held);
    this.#writes.push(...merged.writes);
    this.#problems.push(...merged.problems);
    this.#lost.push(...merged.lost.map((lost) => ({ ...lost, field: field.id })));
    for (const { tie, present } of ties) {
      const change = this.#changes.get(tie.member) as TieChange;
      const ahead = merged.ahead.get(tie.member);
      // An absent value leaves what was seen as it was.
      if (ahead !== undefined) change.ahead[field.id] = ahead;
      else if (present !== undefined) change.seen[field.id] = present;
      const left = merged.left.get(tie.member);
      if (left !== undefined) change.left[field.id] = left;
      else if (change.left[field.id] !== undefined) delete change.left[field.id];
    }
  }

  /** A formula that fails leaves its field as it is: what was agreed, and what ties were told, stays. */
  compute(computed: ComputedField, field: CompiledField): void {
    const { knot, now } = this.#input;
    const value = computed.compute({ get: (name) => this.#agreed[name]?.value });
    if (!value.ok) {
      const [first] = this.#taking;
      if (first)
        this.#problems.push({
          member: first.member,
          field: field.id,
          kind: 'unreadable',
          raw: undefined,
          reason: value.reason,
        });
      return;
    }
    const before = this.#agreed[field.id];
    const isNew = before ? !sameShared(before.value, value.value) : value.value !== null;
    if (isNew && !before && knot.start === 'adopt' && !this.#mayAdopt(computed, field, value.value)) return;
    if (isNew)
      this.#agreed[field.id] = {
        value: value.value,
        by: { kind: 'formula' },
        at: now,
        why: { kind: 'formula', of: [...computed.names] },
      };
    this.merge(field);
  }

  /** While nothing that a formula names was edited, what is there stays: it is agreed only where all say the same. */
  #mayAdopt({ names }: ComputedField, field: CompiledField, value: Shared): boolean {
    if ([...names].some((name) => isEdited(this.#agreed[name]))) return true;
    return this.#tiesOf(field).every(({ lens, present }) => lens.means(present, value));
  }

  readonly #isCircle = (above: Shared): boolean => {
    const { knot, anchor } = this.#input;
    return typeof above === 'string' && knot.levels?.isCircle(anchor.id, anchorId(above)) === true;
  };

  #tiesOf(field: CompiledField): FieldTie[] {
    const { readings } = this.#input;
    const ties: FieldTie[] = [];
    for (const tie of this.#taking) {
      const mapping = field.mappings.get(tie.member);
      if (!mapping) continue;
      const reading = readings.get(tie.member);
      const present = presentOf(tie, reading, field.id);
      ties.push({ tie, lens: mapping.lens, present, modifiedAt: reading?.modifiedAt, drift: mapping.drift });
    }
    return ties;
  }

  result(): AnchorMerge {
    const ties = this.#ties.map((tie) => ({ ...tie, ...this.#changes.get(tie.member) }));
    return {
      anchor: { ...this.#input.anchor, agreed: this.#agreed, ties },
      writes: this.#writes,
      held: this.#held,
      problems: this.#problems,
      lost: this.#lost,
    };
  }
}

/** Takes up what was read: the version, and whether the record is rejected now. A rejected record's values wait. */
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

/** A stable text for what a held decision shows: when it differs, the values have changed meanwhile. */
export function heldFingerprint(held: Held): string {
  return JSON.stringify([
    held.base ? sharedKey(held.base.value) : null,
    held.candidates.map(({ value, givers }) => [sharedKey(value), givers]),
  ]);
}
