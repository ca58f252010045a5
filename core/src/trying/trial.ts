import { compileComputed, compileMapping, type Knot, rawOf } from '../definition/index.js';
import {
  type FieldId,
  failed,
  type MemberId,
  notLookedUp,
  type Outcome,
  type Present,
  type Raw,
  rawEqual,
  type References,
  type Shared,
} from '../record/index.js';

/** What one mapping does with one record. */
export interface TrialCell {
  readonly raw: Present;
  /** What the record's value means; missing where the mapping only writes. */
  readonly means?: Outcome<Shared>;
  /** What would be written, where that differs from what is there; a failure with its reason. */
  readonly written?: Outcome<Raw>;
}

/** What a definition makes of records that are the same thing. */
export interface Trial {
  /** The shared values as the first member that gives one says; missing where none does. */
  readonly shared: Readonly<Record<FieldId, Shared>>;
  /** Why a computed field has no value. */
  readonly failed: Readonly<Record<FieldId, string>>;
  readonly cells: Readonly<Record<FieldId, Readonly<Record<MemberId, TrialCell>>>>;
}

/**
 * Tries a definition, also an unfinished one, on one record of each member. Nothing is agreed yet, so the first member
 * in the knot's order that gives a value says what is.
 * @param references what is known of other knots
 */
export function tryRecords(
  knot: Pick<Knot, 'members' | 'fields' | 'crosswalks'>,
  records: Readonly<Record<MemberId, Readonly<Record<string, Raw>> | undefined>>,
  references: References = notLookedUp,
): Trial {
  const shared: Record<FieldId, Shared> = {};
  const reasons: Record<FieldId, string> = {};
  const cells: Record<FieldId, Record<MemberId, TrialCell>> = {};
  const computed = new Map(
    compileComputed(knot, (at, says) => (reasons[at.split('.')[1] ?? ''] = says)).map((field) => [field.id, field]),
  );
  const byId = new Map(knot.fields.map((field) => [field.id, field]));
  // What is computed comes last, each after what it names.
  const inOrder = [
    ...knot.fields.filter(({ id }) => !computed.has(id)),
    ...[...computed.keys()].flatMap((id) => byId.get(id) ?? []),
  ];
  for (const field of inOrder) {
    const row: Record<MemberId, TrialCell> = {};
    cells[field.id] = row;
    const mapped = knot.members.flatMap(({ id }) => {
      const mapping = field.mappings[id];
      return mapping ? [{ id, mapping, ...compileMapping(field, id, mapping, knot.crosswalks, references) }] : [];
    });
    const value = computed.get(field.id)?.compute({ get: (id) => shared[id] });
    if (value?.ok) shared[field.id] = value.value;
    else if (value) reasons[field.id] = value.reason;
    for (const { id, mapping, lens, problems } of mapped) {
      const record = records[id];
      const raw: Present = record === undefined ? undefined : rawOf(mapping, { fields: record });
      const problem = problems[0];
      row[id] = { raw };
      if (!lens.reads || raw === undefined || field.formula !== undefined) continue;
      const means = problem ? failed(problem.says) : lens.inbound(raw, undefined);
      row[id] = { raw, means };
      if (means.ok && means.value !== null && !Object.hasOwn(shared, field.id)) shared[field.id] = means.value;
    }
    const settled = shared[field.id];
    if (settled === undefined) continue;
    for (const { id, lens, problems } of mapped) {
      const cell = row[id];
      if (!cell || !lens.writes || records[id] === undefined) continue;
      const written = problems[0] ? failed(problems[0].says) : lens.outbound(settled, cell.raw);
      if (!written.ok || !rawEqual(written.value, cell.raw)) row[id] = { ...cell, written };
    }
  }
  return { shared, failed: reasons, cells };
}
