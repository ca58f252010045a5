import { type Formula, sharedVariable } from '../expression/index.js';
import type { Lens } from '../mapping/index.js';
import {
  type FieldId,
  type FieldType,
  isBlank,
  type Raw,
  readPath,
  type Shared,
  sharedKey,
  type SourceRecord,
  storable,
} from '../record/index.js';
import { type ComputedField, withComputed } from './computed.js';
import { type FormulaCheck, type Mapping, recordKeyPath, type UniqueCheck } from './knot.js';

/**
 * How records become shared values. There is one way, whoever asks: runs, surveys, trials, reviews and identity.
 */

/** A mapping of a member, ready to read; unfinished ones are left out by who asks. */
export interface ReadableField {
  readonly field: FieldId;
  readonly mapping: Pick<Mapping, 'field' | 'absentMeansBlank'>;
  readonly lens: Lens;
  /** Reads the value for comparing records alone, whatever the mapping's direction. */
  readonly comparing: Lens | undefined;
}

/** What one record says in shared fields. */
export interface SharedReading {
  readonly values: Map<FieldId, Shared>;
  /** Fields that hold something that cannot be read, with the reason. */
  readonly unreadable: ReadonlyMap<FieldId, string>;
}

/** A record as a system gave it; its key may be unknown while a definition is tried. */
export type ReadableRecord = Pick<SourceRecord, 'fields'> & Partial<Pick<SourceRecord, 'key'>>;

/** What a record holds in the place of a mapping; `undefined` where the system did not send it. */
export function rawOf({ field, absentMeansBlank }: ReadableField['mapping'], record: ReadableRecord): Raw | undefined {
  const raw = field === recordKeyPath && record.key !== undefined ? record.key : readPath(record.fields, field);
  if (raw !== undefined) return storable(raw);
  return absentMeansBlank ? null : undefined;
}

/** The raw values of mapped fields, by shared field; what the system did not send is missing. */
export function rawFieldsOf(mapped: readonly ReadableField[], record: ReadableRecord): Record<FieldId, Raw> {
  const raws: Record<FieldId, Raw> = {};
  for (const { field, mapping } of mapped) {
    const raw = rawOf(mapping, record);
    if (raw !== undefined) raws[field] = raw;
  }
  return raws;
}

type RawFields = Readonly<Record<FieldId, Raw>>;

/** The shared values that a record gives: of all fields that its mappings read, or of some. */
export function readShared(
  mapped: readonly ReadableField[],
  raws: RawFields,
  only?: ReadonlySet<FieldId>,
): SharedReading {
  return readThrough(mapped, raws, only, ({ lens }) => (lens.reads ? lens : undefined));
}

/**
 * What a record can be compared by: all that can be read of it, also where the knot only writes. Nothing of it is an
 * edit.
 */
export function readComparable(
  mapped: readonly ReadableField[],
  raws: RawFields,
  only?: ReadonlySet<FieldId>,
): SharedReading {
  return readThrough(mapped, raws, only, ({ lens, comparing }) => (lens.reads ? lens : comparing));
}

function readThrough(
  mapped: readonly ReadableField[],
  raws: RawFields,
  only: ReadonlySet<FieldId> | undefined,
  lensOf: (field: ReadableField) => Lens | undefined,
): SharedReading {
  const values = new Map<FieldId, Shared>();
  const unreadable = new Map<FieldId, string>();
  for (const mapping of mapped) {
    const raw = raws[mapping.field];
    if (raw === undefined || (only && !only.has(mapping.field))) continue;
    const value = lensOf(mapping)?.inbound(raw, undefined);
    if (value?.ok) values.set(mapping.field, value.value);
    else if (value && !isBlank(raw)) unreadable.set(mapping.field, value.reason);
  }
  return { values, unreadable };
}

/** A check over one record, ready to judge. */
export interface ReadyCheck extends FormulaCheck {
  readonly compiled: Formula;
  /** The shared fields that the formula names. */
  readonly names: ReadonlySet<FieldId>;
}

/**
 * What a check makes of a record. *Skipped*: a field that it looks at cannot be read; that is said of the field, and a
 * check must not call it empty on top of that.
 */
export type Verdict = { readonly kind: 'passes' | 'fails' | 'skipped' } | { readonly kind: 'broken'; reason: string };

/** Judges the records of one member by checks. */
export class CheckJudge {
  readonly #mapped: readonly ReadableField[];
  readonly #fields: readonly { readonly id: FieldId; readonly type: FieldType }[];
  readonly #computed: readonly ComputedField[];

  constructor(
    mapped: readonly ReadableField[],
    fields: readonly { readonly id: FieldId; readonly type: FieldType }[],
    computed: readonly ComputedField[],
  ) {
    this.#mapped = mapped;
    this.#fields = fields;
    this.#computed = computed;
  }

  /** What each of the checks makes of a record, in their order. */
  judge(checks: readonly Pick<ReadyCheck, 'compiled' | 'names'>[], raws: RawFields): readonly Verdict[] {
    if (checks.length === 0) return [];
    const needed = new Set(checks.flatMap(({ names }) => [...this.#lookedAt(names)]));
    const { values, unreadable } = readShared(this.#mapped, raws, needed);
    withComputed(this.#computed, values);
    const variables = Object.fromEntries(
      this.#fields.map(({ id, type }) => [id, sharedVariable(values.get(id), type === 'number')]),
    );
    return checks.map(({ compiled, names }): Verdict => {
      if ([...this.#lookedAt(names)].some((id) => unreadable.has(id))) return { kind: 'skipped' };
      const result = compiled.evaluate(variables);
      if (!result.ok) return { kind: 'broken', reason: result.reason };
      return { kind: result.value === true ? 'passes' : 'fails' };
    });
  }

  /** The value of a record under a unique check, as text; `undefined` for blank and unreadable. */
  uniqueValue({ unique }: Pick<UniqueCheck, 'unique'>, raws: RawFields): string | undefined {
    const value = readShared(this.#mapped, raws, new Set([unique])).values.get(unique);
    return value === undefined || value === null ? undefined : sharedKey(value);
  }

  /** The fields that a formula names, and those that the computed ones among them name. */
  #lookedAt(names: ReadonlySet<FieldId>): ReadonlySet<FieldId> {
    const all = new Set(names);
    // Each computed field comes after those that it names.
    for (const field of this.#computed.toReversed())
      if (all.has(field.id)) for (const name of field.names) all.add(name);
    return all;
  }
}
