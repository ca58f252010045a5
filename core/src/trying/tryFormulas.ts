import {
  compileComputed,
  compileMapping,
  filterNames,
  filterValues,
  type Check,
  type FormulaCheck,
  type Knot,
  type UniqueCheck,
  withComputed,
} from '../definition/index.js';
import { readFormula, sharedVariable } from '../expression/index.js';
import {
  failed,
  type FieldId,
  good,
  type Instant,
  isBlank,
  type MemberId,
  type Outcome,
  type Raw,
  readPath,
  type Shared,
  sharedKey,
} from '../record/index.js';

type Fields = Readonly<Record<string, Raw>>;

/** For each record whether it passes; a record on which the formula fails counts as one that does not. */
export interface Passing {
  readonly passes: readonly boolean[];
  /** Why the formula could not be worked out, for the first record on which it could not. */
  readonly trouble: string | undefined;
}

/** Which records would take part under a filter on that day. Fails when the filter is no formula. */
export function tryFilter(filter: string, records: readonly Fields[], now: Instant): Outcome<Passing> {
  const formula = readFormula(filter, filterNames);
  if (!formula.ok) return formula;
  let trouble: string | undefined;
  const passes = records.map((record) => {
    const result = formula.value.evaluate(filterValues(record, now));
    if (!result.ok) trouble ??= result.reason;
    return result.ok && result.value === true;
  });
  return good({ passes, trouble });
}

/** Which records of a member would pass a check, over their shared values. Fails when the check's formula is none. */
export function tryCheck(
  knot: Pick<Knot, 'fields' | 'crosswalks'>,
  check: Check,
  member: MemberId,
  records: readonly Fields[],
): Outcome<Passing> {
  const valuesOf = sharedValuesOf(knot, member);
  if ('unique' in check) {
    const values = records.map((record) => comparable(valuesOf(record), check));
    const counts = new Map<string, number>();
    for (const value of values) if (value !== undefined) counts.set(value, (counts.get(value) ?? 0) + 1);
    return good({ passes: values.map((value) => value === undefined || counts.get(value) === 1), trouble: undefined });
  }
  const passesFormula = formulaJudge(knot, check);
  if (!passesFormula.ok) return passesFormula;
  const judged = records.map((record) => passesFormula.value(valuesOf(record)));
  const trouble = judged.find((one) => !one.ok);
  return good({
    passes: judged.map((one) => one.ok && one.value),
    trouble: trouble?.ok === false ? trouble.reason : undefined,
  });
}

/**
 * Judges the records of a member one after another. What it gives tells how many records fail now that did not before:
 * of equal values the first record fails only when the second one comes.
 */
export function checkCounter(
  knot: Pick<Knot, 'fields' | 'crosswalks'>,
  check: Check,
  member: MemberId,
): Outcome<(record: Fields) => number> {
  const valuesOf = sharedValuesOf(knot, member);
  if ('unique' in check) {
    const seen = new Map<string, 'once' | 'again'>();
    return good((record) => {
      const value = comparable(valuesOf(record), check);
      if (value === undefined) return 0;
      const before = seen.get(value);
      seen.set(value, before === undefined ? 'once' : 'again');
      return before === undefined ? 0 : before === 'once' ? 2 : 1;
    });
  }
  const passesFormula = formulaJudge(knot, check);
  if (!passesFormula.ok) return passesFormula;
  return good((record) => {
    const judged = passesFormula.value(valuesOf(record));
    return judged.ok && judged.value ? 0 : 1;
  });
}

function comparable(values: ReadonlyMap<FieldId, Shared>, { unique }: UniqueCheck): string | undefined {
  const value = values.get(unique);
  return value === undefined || value === null ? undefined : sharedKey(value);
}

function formulaJudge(
  { fields }: Pick<Knot, 'fields'>,
  check: FormulaCheck,
): Outcome<(values: ReadonlyMap<FieldId, Shared>) => Outcome<boolean>> {
  const formula = readFormula(
    check.formula,
    fields.map(({ id }) => id),
  );
  if (!formula.ok) return failed(formula.reason);
  return good((values) => {
    const result = formula.value.evaluate(
      Object.fromEntries(fields.map(({ id, type }) => [id, sharedVariable(values.get(id), type === 'number')])),
    );
    return result.ok ? good(result.value === true) : result;
  });
}

/**
 * Gives the shared values of one record of a member after another, with those that are computed; also under an
 * unfinished definition.
 */
function sharedValuesOf(
  knot: Pick<Knot, 'fields' | 'crosswalks'>,
  member: MemberId,
): (record: Fields) => Map<FieldId, Shared> {
  const mapped = knot.fields.map((field) => {
    const mapping = field.mappings[member];
    const lens =
      mapping && mapping.direction !== 'to' ? compileMapping(field.type, member, mapping, knot.crosswalks) : undefined;
    return { field, mapping, lens: lens && lens.problems.length === 0 ? lens.lens : undefined };
  });
  const computed = compileComputed(knot, () => undefined);
  return (record) => {
    const values = new Map<FieldId, Shared>();
    for (const { field, mapping, lens } of mapped) {
      const raw = mapping ? readPath(record, mapping.field) : undefined;
      const value = lens && raw !== undefined && !isBlank(raw) ? lens.inbound(raw, undefined) : undefined;
      if (value?.ok) values.set(field.id, value.value);
    }
    withComputed(computed, values);
    return values;
  };
}
