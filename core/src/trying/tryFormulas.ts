import {
  type Check,
  CheckJudge,
  compileComputed,
  filterNames,
  filterValues,
  type FormulaCheck,
  type Knot,
  rawFieldsOf,
  type ReadyCheck,
} from '../definition/index.js';
import { namesIn, readFormula } from '../expression/index.js';
import { failed, good, type Instant, type MemberId, type Outcome, type Raw } from '../record/index.js';
import { readableFields } from './readableFields.js';

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
  const mapped = readableFields(knot, member);
  const rawFields = records.map((fields) => rawFieldsOf(mapped, { fields }));
  const judge = judgeOf(knot, member);
  if ('unique' in check) {
    const values = rawFields.map((raws) => judge.uniqueValue(check, raws));
    const counts = new Map<string, number>();
    for (const value of values) if (value !== undefined) counts.set(value, (counts.get(value) ?? 0) + 1);
    return good({ passes: values.map((value) => value === undefined || counts.get(value) === 1), trouble: undefined });
  }
  const ready = readyCheck(knot, check);
  if (!ready.ok) return ready;
  const verdicts = rawFields.map((raws) => judge.judge([ready.value], raws)[0]);
  const broken = verdicts.find((verdict) => verdict?.kind === 'broken');
  return good({
    passes: verdicts.map((verdict) => verdict?.kind === 'passes' || verdict?.kind === 'skipped'),
    trouble: broken?.kind === 'broken' ? broken.reason : undefined,
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
): Outcome<(rawFields: Fields) => number> {
  const judge = judgeOf(knot, member);
  if ('unique' in check) {
    const seen = new Map<string, 'once' | 'again'>();
    return good((rawFields) => {
      const value = judge.uniqueValue(check, rawFields);
      if (value === undefined) return 0;
      const before = seen.get(value);
      seen.set(value, before === undefined ? 'once' : 'again');
      return before === undefined ? 0 : before === 'once' ? 2 : 1;
    });
  }
  const ready = readyCheck(knot, check);
  if (!ready.ok) return ready;
  return good((rawFields) => {
    const verdict = judge.judge([ready.value], rawFields)[0];
    return verdict?.kind === 'fails' || verdict?.kind === 'broken' ? 1 : 0;
  });
}

function judgeOf(knot: Pick<Knot, 'fields' | 'crosswalks'>, member: MemberId): CheckJudge {
  const computed = compileComputed(knot, () => undefined);
  return new CheckJudge(readableFields(knot, member), knot.fields, computed);
}

function readyCheck({ fields }: Pick<Knot, 'fields'>, check: FormulaCheck): Outcome<ReadyCheck> {
  const ids = fields.map(({ id }) => id);
  const formula = readFormula(check.formula, ids);
  if (!formula.ok) return failed(formula.reason);
  return good({ ...check, compiled: formula.value, names: namesIn(check.formula, ids) });
}
