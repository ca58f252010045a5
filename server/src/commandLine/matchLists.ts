import { readFileSync, writeFileSync } from 'node:fs';
import { basename } from 'node:path';
import { parse } from 'csv-parse/sync';
import { type List, readList } from '@anchor-knot/connectors';
import { describeIssues, type MatchRules, matchRulesSchema } from '@anchor-knot/contracts';
import {
  anchorId,
  comparisonOf,
  defaultThresholds,
  type EvidenceField,
  type EvidenceTexts,
  evidenceTexts,
  finished,
  levelBits,
  type LikelyPairs,
  matchFree,
  ObjectSketcher,
  proposeEvidence,
  proposePairs,
  type Raw,
  RecordMatching,
  recordKey,
  scalarText,
  type Thresholds,
  Verdicts,
} from '@anchor-knot/core';
import { spreadsheetCsv } from '../api/spreadsheetCsv.js';
import { type Compared, compareRecords } from '../matching/compareRecords.js';

/** Something is wrong with what the command was given. */
export class BadMatchInput extends Error {}

export interface MatchCall {
  /** Two lists or more; one, to find duplicates within it. */
  readonly lists: readonly string[];
  readonly rules?: string | undefined;
  readonly out: string;
  readonly truth?: string | undefined;
  readonly onProgress?: ((done: number, total: number) => void) | undefined;
}

export interface MatchReport {
  /** How many records each list has. */
  readonly records: readonly number[];
  readonly evidence: readonly {
    readonly name: string;
    readonly compare: string;
    readonly learned: readonly string[];
  }[];
  readonly compared: number;
  readonly tied: number;
  readonly asked: number;
  /** Lines that could not be read. */
  readonly rejected: number;
  readonly out: string;
  readonly truth?:
    | { readonly pairs: number; readonly precision: number; readonly recall: number; readonly recallWithAsked: number }
    | undefined;
}

/** A pair by the places of its records among those of all lists. */
interface ListedPair {
  readonly left: number;
  readonly right: number;
  readonly judgement: 'tied' | 'asked';
  readonly isDisputed: boolean;
}

/** The records of all lists, one list after another. */
interface Listed {
  readonly texts: readonly EvidenceTexts[];
  readonly memberOf: readonly number[];
  readonly keys: readonly string[];
}

/**
 * Matches lists, or one with itself: writes the pairs with score, parts and decision, and measures them where the truth
 * is given.
 */
export async function matchLists({
  lists: paths,
  rules: rulesPath,
  out,
  truth,
  onProgress,
}: MatchCall): Promise<MatchReport> {
  const rules = rulesPath === undefined ? matchRulesSchema.parse({}) : readRules(rulesPath);
  const lists: List[] = [];
  for (const path of paths) lists.push(await readList(path));
  const parts = rules.fields ? fromRules(rules.fields, lists) : recognised(lists);
  if (parts.length === 0)
    throw new BadMatchInput(
      'No columns were found that tell whether two records are the same thing. Name them in a rules file: ' +
        '--rules RULES.json, with fields, each with left, right and compare.',
    );
  const evidence = parts.map(({ name, compare }, index): EvidenceField => ({ name, compare, fields: [String(index)] }));
  const thresholds = rules.thresholds ?? defaultThresholds;
  const listed: Listed = {
    texts: lists.flatMap((list, place) =>
      list.rows.map((row) =>
        evidenceTexts(
          evidence,
          Object.fromEntries(parts.map(({ columns }, index) => [String(index), textOf(row, columns[place] ?? [])])),
        ),
      ),
    ),
    memberOf: lists.flatMap((list, place) => list.rows.map(() => place)),
    keys: lists.flatMap((list, place) => keysOf(list, rules.keys[place === 0 ? 'left' : 'right'])),
  };
  const { texts, memberOf } = listed;
  const result = await compareRecords({
    evidence,
    texts,
    memberOf,
    members: lists.length,
    newcomers: texts.length,
    withinMembers: lists.length === 1,
    least: thresholds.lower,
    onProgress,
  });
  const pairs =
    lists.length === 1
      ? duplicatesOf(result.likely, thresholds)
      : tiesOf(result.likely, listed, lists.length, thresholds);
  const names = paths.map((path) => basename(path));
  writeFileSync(out, pairsCsv(pairs, result.likely, evidence, listed, names));
  return {
    records: lists.map(({ rows }) => rows.length),
    evidence: evidence.map(({ name, compare }, field) => ({
      name,
      compare,
      learned: learnedWords(result, compare, field),
    })),
    compared: result.compared,
    tied: pairs.filter(({ judgement }) => judgement === 'tied').length,
    asked: pairs.filter(({ judgement }) => judgement === 'asked').length,
    rejected: lists.reduce((sum, { rejected }) => sum + rejected.length, 0),
    out,
    ...(truth === undefined ? {} : { truth: measured(pairs, readTruth(truth), listed.keys) }),
  };
}

/** Within one list a thing may be there any number of times: each likely pair counts. */
function duplicatesOf({ pairs }: LikelyPairs, { upper }: Thresholds): ListedPair[] {
  return pairs
    .toSorted((a, b) => b.bits - a.bits || a.left - b.left || a.right - b.right)
    .map(({ left, right, bits }) => ({ left, right, judgement: bits >= upper ? 'tied' : 'asked', isDisputed: false }));
}

function tiesOf(likely: LikelyPairs, { memberOf }: Listed, lists: number, thresholds: Thresholds): ListedPair[] {
  const records = memberOf.map((member, place) => ({
    member: String(member),
    key: recordKey(String(place)),
    keys: [],
    canStart: true,
  }));
  const verdicts = new Verdicts([]);
  let next = 0;
  const matching = new RecordMatching(
    [],
    records,
    { withKey: () => [], tiedKey: () => undefined, anchorOf: () => undefined },
    () => anchorId(String((next += 1))),
    verdicts,
  );
  const { joined, doubts } = finished(
    matchFree({
      matching,
      members: Array.from({ length: lists }, (_, member) => String(member)),
      records,
      likely,
      thresholds,
      verdicts,
    }),
  );
  const asked = doubts.flatMap((doubt) => {
    const [best] = doubt.kind === 'unsure' ? doubt.candidates : [];
    return doubt.kind === 'unsure' && best
      ? [{ record: doubt.record, with: best.with, bits: best.bits, isDisputed: best.bits >= thresholds.upper }]
      : [];
  });
  const judged = (pairs: typeof joined, judgement: ListedPair['judgement']) =>
    pairs.map((pair) => ({ ...pair, judgement }));
  return [...judged(joined, 'tied'), ...judged(asked, 'asked')]
    .sort((a, b) => b.bits - a.bits || a.record - b.record)
    .map(({ record, with: other, judgement, isDisputed }) => ({ left: other, right: record, judgement, isDisputed }));
}

interface ColumnPart {
  readonly name: string;
  readonly compare: EvidenceField['compare'];
  /** By list: the columns that are compared as one text. */
  readonly columns: readonly (readonly string[])[];
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

function fromRules(fields: NonNullable<MatchRules['fields']>, lists: readonly List[]): ColumnPart[] {
  return fields.map(({ name, compare, left, right = left, others }) => {
    const columns = lists.map((_, place) =>
      place === 0 ? left : place === 1 ? right : (others?.[place - 2] ?? right),
    );
    for (const [place, list] of lists.entries()) {
      const missing = columns[place]?.find((column) => !list.columns.includes(column));
      const which = place === 0 ? 'left' : place === 1 ? 'right' : `${place + 1}th`.replace('3th', '3rd');
      if (missing !== undefined)
        throw new BadMatchInput(`The ${which} list has no column “${missing}”; it has ${list.columns.join(', ')}.`);
    }
    return { name: name ?? left.join(' '), compare, columns };
  });
}

/** Columns of the other lists are found by those of the first one. */
function recognised([first, ...others]: readonly List[]): ColumnPart[] {
  if (!first) return [];
  const sketch = (list: List) => {
    const sketcher = new ObjectSketcher();
    for (const row of list.rows) sketcher.add(row);
    return sketcher.sketch();
  };
  const own = sketch(first);
  const [second, ...more] = others.map((list) => {
    const there = sketch(list);
    return { there, pairs: proposePairs(own, there).pairs };
  });
  // Within one list each column corresponds to itself.
  const itself = first.columns
    .filter((column) => column !== first.key)
    .map((column) => ({ left: column, right: column, confidence: 1, reasons: [] }));
  return proposeEvidence(second?.pairs ?? itself, own, second?.there ?? own).map(({ name, compare, left, right }) => ({
    name,
    compare,
    columns: [
      left,
      right,
      ...more.map(({ pairs }) => left.flatMap((column) => pairs.find((pair) => pair.left === column)?.right ?? [])),
    ],
  }));
}

function textOf(row: Readonly<Record<string, Raw>>, columns: readonly string[]): string {
  return columns
    .map((column) => scalarText(row[column] ?? null) ?? '')
    .filter((text) => text.trim() !== '')
    .join(' ');
}

function keysOf(list: List, column: string | undefined): string[] {
  if (column !== undefined && !list.columns.includes(column))
    throw new BadMatchInput(
      `There is no column “${column}” that could be the key; there are ${list.columns.join(', ')}.`,
    );
  return list.rows.map((row, index) => scalarText(row[column ?? list.key] ?? null) ?? `row ${index + 1}`);
}

/**
 * The pairs as CSV, safe to open in a spreadsheet. The score is the prior, what related records take off, and the sum
 * of the parts. With more than two lists each key stands with its list.
 */
function pairsCsv(
  pairs: readonly ListedPair[],
  likely: LikelyPairs,
  evidence: readonly EvidenceField[],
  { keys, memberOf }: Listed,
  names: readonly string[],
): string {
  const inLists = (left: unknown, right: unknown): unknown[] => (names.length > 2 ? [left, right] : []);
  const header = [
    'left',
    'right',
    ...inLists('left list', 'right list'),
    'decision',
    'score',
    'probability',
    'prior',
    'related',
    ...evidence.flatMap(({ name }) => [name, `${name} says`]),
  ];
  const rows = pairs.map(({ left, right, judgement, isDisputed }) => {
    const { bits, probability, prior, related, parts } = likely.explain(left, right);
    return [
      keys[left],
      keys[right],
      ...inLists(names[memberOf[left] ?? 0], names[memberOf[right] ?? 0]),
      isDisputed ? `${judgement}: another is nearly as good` : judgement,
      bits.toFixed(2),
      probability.toFixed(6),
      prior.toFixed(2),
      related.toFixed(2),
      ...parts.flatMap(({ adds, says }) => [adds.toFixed(2), says]),
    ];
  });
  return spreadsheetCsv([header, ...rows]);
}

function learnedWords({ weights }: Compared, compare: EvidenceField['compare'], field: number): string[] {
  const bits = levelBits(weights)[field] ?? [];
  return comparisonOf(compare).levels.map((level, at) => `${level} ${(bits[at] ?? 0).toFixed(1)}`);
}

function readTruth(path: string): Set<string> {
  let rows: string[][];
  try {
    rows = parse(readFileSync(path, 'utf8').replace(/^\uFEFF/, ''), {
      skip_empty_lines: true,
      relax_column_count: true,
    }) as string[][];
  } catch (error) {
    throw new BadMatchInput(`${path} cannot be read: ${(error as Error).message}`);
  }
  const narrow = rows.findIndex((row) => row.length < 2);
  if (narrow >= 0)
    throw new BadMatchInput(`${path}, line ${narrow + 1}: a pair has two values, the left key and the right one.`);
  return new Set(rows.slice(1).map(([a = '', b = '']) => JSON.stringify([a, b])));
}

function measured(pairs: readonly ListedPair[], truth: ReadonlySet<string>, keys: readonly string[]) {
  const isTrue = ({ left, right }: ListedPair): boolean => {
    const [a = '', b = ''] = [keys[left], keys[right]];
    return truth.has(JSON.stringify([a, b])) || truth.has(JSON.stringify([b, a]));
  };
  const tied = pairs.filter(({ judgement }) => judgement === 'tied');
  const good = tied.filter(isTrue).length;
  const all = pairs.filter(isTrue).length;
  return {
    pairs: truth.size,
    precision: tied.length === 0 ? 1 : good / tied.length,
    recall: good / Math.max(1, truth.size),
    recallWithAsked: all / Math.max(1, truth.size),
  };
}
