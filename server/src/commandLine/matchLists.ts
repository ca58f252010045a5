import { readFileSync, writeFileSync } from 'node:fs';
import { parse } from 'csv-parse/sync';
import { stringify } from 'csv-stringify/sync';
import { type List, readList } from '@anchor-knot/connectors';
import { describeIssues, type MatchRules, matchRulesSchema } from '@anchor-knot/contracts';
import { comparisonOf, type EvidenceField, type EvidenceRow, ObjectSketcher, proposeEvidence, proposePairs, type Raw, scalarText } from '@anchor-knot/core';
import { defaultThresholds, matchInThreads, type MatchResult } from '../matching/matchInThreads.js';

/** Something is wrong with what the command was given. */
export class BadMatchInput extends Error {}

export interface MatchCall {
  readonly left: string;
  /** Left out to find duplicates within one list. */
  readonly right?: string | undefined;
  readonly rules?: string | undefined;
  readonly out: string;
  readonly truth?: string | undefined;
  readonly onProgress?: ((done: number, total: number) => void) | undefined;
}

export interface MatchReport {
  readonly left: number;
  readonly right: number;
  readonly evidence: readonly { readonly name: string; readonly compare: string; readonly learned: readonly string[] }[];
  readonly compared: number;
  readonly tied: number;
  readonly asked: number;
  /** Lines that could not be read. */
  readonly rejected: number;
  readonly out: string;
  readonly truth?: { readonly pairs: number; readonly precision: number; readonly recall: number; readonly recallWithAsked: number } | undefined;
}

/** Matches two lists, or one with itself: writes the pairs with score, parts and decision, and measures them where the truth is given. */
export async function matchLists({ left: leftPath, right: rightPath, rules: rulesPath, out, truth, onProgress }: MatchCall): Promise<MatchReport> {
  const rules = rulesPath === undefined ? matchRulesSchema.parse({}) : readRules(rulesPath);
  const left = await readList(leftPath);
  const right = rightPath === undefined ? left : await readList(rightPath);
  const pairs = rules.fields ? fromRules(rules, left, right) : recognised(left, right);
  if (pairs.length === 0)
    throw new BadMatchInput(
      'No columns were found that tell whether two records are the same thing. Name them in a rules file: --rules RULES.json, with fields, each with left, right and compare.',
    );
  const evidence = pairs.map(({ name, compare }, index): EvidenceField => ({ name, compare, fields: [String(index)] }));
  const thresholds = rules.thresholds ?? defaultThresholds;
  const rowsOf = (list: List, side: 'left' | 'right'): EvidenceRow[] =>
    list.rows.map((row) => Object.fromEntries(pairs.map((pair, index) => [String(index), textOf(row, pair[side])])));
  const result = await matchInThreads({
    evidence,
    left: rowsOf(left, 'left'),
    ...(rightPath === undefined ? {} : { right: rowsOf(right, 'right') }),
    thresholds,
    onProgress,
  });
  const keys = { left: keysOf(left, rules.keys.left), right: keysOf(right, rightPath === undefined ? rules.keys.left : rules.keys.right) };
  writeFileSync(out, pairsCsv(result, evidence, keys));
  return {
    left: left.rows.length,
    right: right.rows.length,
    evidence: evidence.map(({ name, compare }, field) => ({ name, compare, learned: learnedWords(result, compare, field) })),
    compared: result.compared,
    tied: result.pairs.filter(({ judgement }) => judgement === 'tied').length,
    asked: result.pairs.filter(({ judgement }) => judgement === 'asked').length,
    rejected: left.rejected.length + (rightPath === undefined ? 0 : right.rejected.length),
    out,
    ...(truth === undefined ? {} : { truth: measured(result, readTruth(truth), keys) }),
  };
}

interface ColumnPair {
  readonly name: string;
  readonly compare: EvidenceField['compare'];
  readonly left: readonly string[];
  readonly right: readonly string[];
}

function readRules(path: string): MatchRules {
  let json: unknown;
  try {
    json = JSON.parse(readFileSync(path, 'utf8').replace(/^\uFEFF/, ''));
  } catch (error) {
    throw new BadMatchInput(`${path} cannot be read: ${(error as Error).message}`);
  }
  const parsed = matchRulesSchema.safeParse(json);
  if (parsed.success) return parsed.data;
  throw new BadMatchInput(
    `${path} is no rules file:\n${describeIssues(parsed.error)
      .map(({ at, says }) => `  ${at}: ${says}`)
      .join('\n')}`,
  );
}

function fromRules({ fields = [] }: MatchRules, left: List, right: List): ColumnPair[] {
  const check = (list: List, columns: readonly string[], side: string): void => {
    const missing = columns.find((column) => !list.columns.includes(column));
    if (missing !== undefined) throw new BadMatchInput(`The ${side} list has no column “${missing}”; it has ${list.columns.join(', ')}.`);
  };
  return fields.map(({ name, compare, left: lefts, right: rights = lefts }) => {
    check(left, lefts, 'left');
    check(right, rights, 'right');
    return { name: name ?? lefts.join(' '), compare, left: lefts, right: rights };
  });
}

function recognised(left: List, right: List): ColumnPair[] {
  const sketch = (list: List) => {
    const sketcher = new ObjectSketcher();
    for (const row of list.rows) sketcher.add(row);
    return sketcher.sketch();
  };
  const [first, second] = [sketch(left), sketch(right)];
  // Within one list each column corresponds to itself.
  const pairs = left === right ? left.columns.map((column) => ({ left: column, right: column, confidence: 1, reasons: [] })) : proposePairs(first, second).pairs;
  return proposeEvidence(
    pairs.filter((pair) => left !== right || pair.left !== left.key),
    first,
    second,
  );
}

function textOf(row: Readonly<Record<string, Raw>>, columns: readonly string[]): string {
  return columns
    .map((column) => scalarText(row[column] ?? null) ?? '')
    .filter((text) => text.trim() !== '')
    .join(' ');
}

function keysOf(list: List, column: string | undefined): string[] {
  if (column !== undefined && !list.columns.includes(column))
    throw new BadMatchInput(`There is no column “${column}” that could be the key; there are ${list.columns.join(', ')}.`);
  return list.rows.map((row, index) => scalarText(row[column ?? list.key] ?? null) ?? `row ${index + 1}`);
}

/** The pairs as CSV, safe to open in a spreadsheet. The score is the prior and the sum of the parts. */
function pairsCsv(result: MatchResult, evidence: readonly EvidenceField[], keys: { left: readonly string[]; right: readonly string[] }): string {
  const header = ['left', 'right', 'decision', 'score', 'probability', 'prior', ...evidence.flatMap(({ name }) => [name, `${name} says`])];
  const rows = result.pairs.map((pair) => {
    const { bits, probability, prior, parts } = result.explain(pair);
    const decision = pair.rival === undefined ? pair.judgement : `${pair.judgement}: another is nearly as good`;
    return [
      keys.left[pair.left],
      keys.right[pair.right],
      decision,
      bits.toFixed(2),
      probability.toFixed(6),
      prior.toFixed(2),
      ...parts.flatMap(({ adds, says }) => [adds.toFixed(2), says]),
    ];
  });
  // Numbers may be negative: only texts are kept from being formulas.
  return stringify([header, ...rows.map((row) => row.map((cell) => (typeof cell === 'string' && /^[=+@\t\r]|^-(?![\d.]+$)/.test(cell) ? `'${cell}` : cell)))]);
}

function learnedWords({ weights }: MatchResult, compare: EvidenceField['compare'], field: number): string[] {
  const { m = [], u = [] } = weights.fields[field] ?? {};
  return comparisonOf(compare).levels.map((level, at) => `${level} ${Math.log2((m[at] ?? 1) / (u[at] ?? 1)).toFixed(1)}`);
}

function readTruth(path: string): Set<string> {
  let rows: string[][];
  try {
    rows = parse(readFileSync(path, 'utf8').replace(/^\uFEFF/, ''), { skip_empty_lines: true, relax_column_count: true }) as string[][];
  } catch (error) {
    throw new BadMatchInput(`${path} cannot be read: ${(error as Error).message}`);
  }
  const narrow = rows.findIndex((row) => row.length < 2);
  if (narrow >= 0) throw new BadMatchInput(`${path}, line ${narrow + 1}: a pair has two values, the left key and the right one.`);
  return new Set(rows.slice(1).map(([a = '', b = '']) => JSON.stringify([a, b])));
}

function measured(result: MatchResult, truth: ReadonlySet<string>, keys: { left: readonly string[]; right: readonly string[] }) {
  const isTrue = ({ left, right }: { left: number; right: number }): boolean => {
    const [a = '', b = ''] = [keys.left[left], keys.right[right]];
    return truth.has(JSON.stringify([a, b])) || (keys.left === keys.right && truth.has(JSON.stringify([b, a])));
  };
  const tied = result.pairs.filter(({ judgement }) => judgement === 'tied');
  const good = tied.filter(isTrue).length;
  const all = result.pairs.filter(isTrue).length;
  return { pairs: truth.size, precision: tied.length === 0 ? 1 : good / tied.length, recall: good / Math.max(1, truth.size), recallWithAsked: all / Math.max(1, truth.size) };
}
