import type { EvidenceField } from '../definition/index.js';
import type { FieldId, Shared } from '../record/index.js';
import { type Comparison, comparisonOf, type Prepared } from './comparison.js';

/** The values of one record that evidence looks at, by field; missing fields are missing. */
export type EvidenceRow = ReadonlyMap<FieldId, Shared> | Readonly<Record<FieldId, Shared | undefined>>;

function valueOf(row: EvidenceRow, field: FieldId): Shared | undefined {
  return row instanceof Map
    ? (row.get(field) as Shared | undefined)
    : (row as Readonly<Record<FieldId, Shared | undefined>>)[field];
}

/** What a record has for each part of the evidence, in their order; `null` where all fields of a part are blank. */
export type EvidenceTexts = readonly (string | null)[];

/** Fields of a part that has several are joined by a blank. */
export function evidenceTexts(evidence: readonly EvidenceField[], row: EvidenceRow): EvidenceTexts {
  return evidence.map(({ fields }) => {
    const parts = fields.flatMap((field) => {
      const value = valueOf(row, field);
      if (value === undefined || value === null) return [];
      const text = (Array.isArray(value) ? value.join(' ') : String(value)).trim();
      return text === '' ? [] : [text];
    });
    return parts.length === 0 ? null : parts.join(' ').slice(0, longestText);
  });
}

/** Nothing that tells records apart is longer; comparing takes time that grows with the length. */
const longestText = 500;

/** One part of the evidence with the values of all records that are compared, prepared. */
export interface EvidenceColumn {
  readonly comparison: Comparison;
  readonly values: readonly (Prepared | undefined)[];
}

/** Prepares records once, however many pairs they come in. Equal texts share what was prepared of them. */
export function prepareColumns(
  evidence: readonly EvidenceField[],
  records: readonly EvidenceTexts[],
): EvidenceColumn[] {
  return evidence.map(({ compare }, field): EvidenceColumn => {
    const comparison = comparisonOf(compare);
    const known = new Map<string, Prepared | undefined>();
    const values = records.map((texts) => {
      const text = texts[field];
      if (text === undefined || text === null) return undefined;
      if (!known.has(text)) known.set(text, comparison.prepare(text));
      return known.get(text);
    });
    return { comparison, values };
  });
}

/**
 * How the fields of a pair compare, as one number: for each field a digit, 0 where a side is missing, otherwise the
 * level
 * plus one, in base {@link levelBase}. The last field is the highest digit.
 */
export type PatternCode = number;
export const levelBase = 6;

export function patternOf(columns: readonly EvidenceColumn[], i: number, j: number): PatternCode {
  let code = 0;
  for (let field = columns.length - 1; field >= 0; field -= 1) {
    const { comparison, values } = columns[field] as EvidenceColumn;
    const a = values[i];
    const b = values[j];
    code = code * levelBase + (a === undefined || b === undefined ? 0 : comparison.level(a, b) + 1);
  }
  return code;
}

/** The digits of a pattern, by field: `undefined` where a side is missing, otherwise the level. */
export function levelsOf(code: PatternCode, fields: number): (number | undefined)[] {
  const levels: (number | undefined)[] = [];
  for (let rest = code, field = 0; field < fields; field += 1) {
    const digit = rest % levelBase;
    levels.push(digit === 0 ? undefined : digit - 1);
    rest = (rest - digit) / levelBase;
  }
  return levels;
}
