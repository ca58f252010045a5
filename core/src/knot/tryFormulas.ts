import { readFormula, sharedVariable } from '../expression/index.js';
import { failed, type FieldId, good, type Instant, isBlank, type MemberId, type Outcome, type Raw, readPath, type Shared } from '../record/index.js';
import { compileMapping, filterNames, filterValues } from './compileKnot.js';
import { compileComputed, withComputed } from './computed.js';
import type { Knot } from './knot.js';

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

/** Which records of a member would pass a check, over their shared values. Fails when the check is no formula. */
export function tryCheck(knot: Pick<Knot, 'fields' | 'crosswalks'>, source: string, member: MemberId, records: readonly Fields[]): Outcome<Passing> {
  const formula = readFormula(
    source,
    knot.fields.map(({ id }) => id),
  );
  if (!formula.ok) return failed(formula.reason);
  const mapped = knot.fields.map((field) => {
    const mapping = field.mappings[member];
    const lens = mapping && mapping.direction !== 'to' ? compileMapping(field.type, member, mapping, knot.crosswalks) : undefined;
    return { field, mapping, lens: lens && lens.problems.length === 0 ? lens.lens : undefined };
  });
  const computed = compileComputed(knot, () => undefined);
  let trouble: string | undefined;
  const passes = records.map((record) => {
    const values = new Map<FieldId, Shared>();
    for (const { field, mapping, lens } of mapped) {
      const raw = mapping ? readPath(record, mapping.field) : undefined;
      const value = lens && raw !== undefined && !isBlank(raw) ? lens.inbound(raw, undefined) : undefined;
      if (value?.ok) values.set(field.id, value.value);
    }
    withComputed(computed, values);
    const variables = Object.fromEntries(knot.fields.map(({ id, type }) => [id, sharedVariable(values.get(id), type === 'number')]));
    const result = formula.value.evaluate(variables);
    if (!result.ok) trouble ??= result.reason;
    return result.ok && result.value === true;
  });
  return good({ passes, trouble });
}
