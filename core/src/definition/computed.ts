import { type Formula, namesIn, rawResult, readFormula, sharedVariable } from '../expression/index.js';
import { failed, type FieldId, type FieldType, good, normalise, type Outcome, type Shared } from '../record/index.js';
import type { Knot, SharedField } from './knot.js';
import type { Report } from './knotProblem.js';

type Values = { get(field: FieldId): Shared | undefined };

/** A shared field that no member gives: its value is computed from other shared fields. */
export interface ComputedField {
  readonly id: FieldId;
  readonly type: FieldType;
  /** The shared fields that its formula names. */
  readonly names: ReadonlySet<FieldId>;
  /** The value, from those of the fields that it names; a field that has none yet counts as blank. */
  compute(values: Values): Outcome<Shared>;
}

/**
 * The computed fields of a definition, each after those that it names.
 * @param report is told of formulas that are none, and of fields that would depend on themselves; these are left out
 */
export function compileComputed({ fields }: Pick<Knot, 'fields'>, report: Report): readonly ComputedField[] {
  const ids = fields.map(({ id }) => id);
  const types = new Map(fields.map(({ id, type }) => [id, type]));
  const compiled = new Map<FieldId, ComputedField>();
  for (const field of fields) {
    if (field.formula === undefined) continue;
    const formula = readFormula(field.formula, ids);
    if (formula.ok) compiled.set(field.id, computedField(field, formula.value, namesIn(field.formula, ids), types));
    else report(`fields.${field.id}.formula`, formula.reason);
  }
  const ordered: ComputedField[] = [];
  const state = new Map<FieldId, 'under way' | 'done'>();
  const visit = (field: ComputedField, path: readonly FieldId[]): void => {
    if (state.get(field.id) === 'done') return;
    if (state.get(field.id) === 'under way') {
      report(
        `fields.${field.id}.formula`,
        `it depends on itself: ${[...path.slice(path.indexOf(field.id)), field.id].join(', ')}`,
      );
      return;
    }
    state.set(field.id, 'under way');
    for (const name of field.names) {
      const named = compiled.get(name);
      if (named) visit(named, [...path, field.id]);
    }
    state.set(field.id, 'done');
    ordered.push(field);
  };
  for (const field of compiled.values()) visit(field, []);
  return ordered;
}

function computedField(
  { id, type }: SharedField,
  formula: Formula,
  names: ReadonlySet<FieldId>,
  types: ReadonlyMap<FieldId, FieldType>,
): ComputedField {
  return {
    id,
    type,
    names,
    compute(values) {
      const variables = Object.fromEntries(
        [...types].map(([name, of]) => [
          name,
          names.has(name) ? sharedVariable(values.get(name), of === 'number') : null,
        ]),
      );
      const result = formula.evaluate(variables);
      if (!result.ok) return result;
      const raw = rawResult(result.value);
      if (!raw.ok) return raw;
      const value =
        typeof raw.value === 'object' && raw.value !== null && '$number' in raw.value
          ? (raw.value as { $number: string }).$number
          : raw.value;
      const normal = normalise(type, value);
      return normal.ok ? good(normal.value) : failed(`the formula gives a value of another type: ${normal.reason}`);
    },
  };
}

/** The values with those of the computed fields added; fields that cannot be computed are left out, and told. */
export function withComputed(
  computed: readonly ComputedField[],
  values: Map<FieldId, Shared>,
): readonly { readonly field: FieldId; readonly reason: string }[] {
  return computed.flatMap((field) => {
    const value = field.compute(values);
    if (value.ok) values.set(field.id, value.value);
    return value.ok ? [] : [{ field: field.id, reason: value.reason }];
  });
}
