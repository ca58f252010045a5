import { type FieldPath, type Raw, readPath, scalarText } from '../record/index.js';
import { joinedRows, type FieldSketch, type ObjectSketch, type Row } from './sketch.js';
import { numberIn, type ReadValue, readValue } from './valueForms.js';

/** What two fields hold in records that are the same thing. */
export interface TiedComparison {
  /** Tied records in which both fields are filled, and in how many of them the values are equal. */
  readonly of: number;
  readonly equal: number;
  /** The share that would be equal if the records were not tied. */
  readonly chance: number;
  /** How far one value tells the other, though they are not equal: 0 not at all, 1 wholly (a crosswalk). */
  readonly tells: number;
  /** How sure that is: mutual information in nats, times the number of records. */
  readonly information: number;
  /** The one side is always so many times the other. */
  readonly factor: number | undefined;
}

/** The factors between units that people use: pence, thousands, minutes, seconds. */
const unitFactors = [10, 100, 1000, 60, 3600, 24, 12];
const fewestTied = 8;
const candidates = 6;
const mostChoices = 30;

interface Column {
  readonly values: readonly (ReadValue | undefined)[];
  readonly raws: readonly (Raw | undefined)[];
}

/** Records of two objects that are the same thing, as a key that both have shows; and what their fields hold. */
export class TiedRecords {
  readonly count: number;
  /** The fields by which they are tied. */
  readonly by: readonly [FieldPath, FieldPath] | undefined;
  /** The tied records, left and right. */
  readonly rows: readonly (readonly [Row, Row])[];
  readonly #left: ReadonlyMap<FieldPath, Column>;
  readonly #right: ReadonlyMap<FieldPath, Column>;

  constructor(left: ObjectSketch, right: ObjectSketch) {
    const found = bestKey(left, right);
    this.rows = found?.rows ?? [];
    this.count = this.rows.length;
    this.by = found?.by;
    this.#left = columns(left.fields, found?.rows.map(([row]) => row) ?? []);
    this.#right = columns(right.fields, found?.rows.map(([, row]) => row) ?? []);
  }

  compare(left: FieldPath, right: FieldPath): TiedComparison | undefined {
    const [a, b] = [this.#left.get(left), this.#right.get(right)];
    if (!a || !b || this.count < fewestTied) return undefined;
    return compareColumns(a, b);
  }

  /**
   * The length at which the right field cuts what the left one holds whole: no value there is longer, and what is
   * longer
   * on the left begins with what stands on the right. `undefined` where nothing shows a cut.
   */
  cutAt(left: FieldPath, right: FieldPath): number | undefined {
    const texts = (this.#right.get(right)?.raws ?? []).map(
      (raw, index) => [this.#left.get(left)?.raws[index], raw] as const,
    );
    const longest = Math.max(0, ...texts.map(([, raw]) => (typeof raw === 'string' ? [...raw].length : 0)));
    const isCut = ([whole, part]: readonly [Raw | undefined, Raw | undefined]): boolean =>
      // A blank at the end of what fits is left out.
      typeof whole === 'string' &&
      typeof part === 'string' &&
      [...part].length >= longest - 1 &&
      whole.trim().length > part.length &&
      whole.trim().startsWith(part.trimEnd());
    return longest > 0 && texts.some(isCut) ? longest : undefined;
  }

  /** For each value of the right field, with which values of the left one it comes, and how often. */
  together(left: FieldPath, right: FieldPath): Map<string, Map<string, number>> {
    const found = new Map<string, Map<string, number>>();
    for (const [index, raw] of (this.#right.get(right)?.raws ?? []).entries()) {
      const other = scalarText(this.#left.get(left)?.raws[index]);
      const value = scalarText(raw);
      if (value === undefined || other === undefined) continue;
      const partners = found.get(value) ?? new Map<string, number>();
      partners.set(other, (partners.get(other) ?? 0) + 1);
      found.set(value, partners);
    }
    return found;
  }
}

function columns(fields: readonly FieldSketch[], rows: readonly Row[]): Map<FieldPath, Column> {
  return new Map(
    fields.map(({ path }) => {
      const raws = rows.map((row) => readPath(row, path));
      return [path, { raws, values: raws.map((raw) => (raw === undefined ? undefined : readValue(raw))) }];
    }),
  );
}

/**
 * The two fields whose equal values tie most records, if those records then agree in other fields too: running numbers
 * are the same in many objects and mean nothing.
 */
function bestKey(
  left: ObjectSketch,
  right: ObjectSketch,
): { readonly by: readonly [FieldPath, FieldPath]; readonly rows: (readonly [Row, Row])[] } | undefined {
  const isKeyLike = ({ distinct, filled }: FieldSketch): boolean => filled >= fewestTied && distinct >= filled * 0.8;
  const found = left.fields
    .filter(isKeyLike)
    .flatMap((a) =>
      right.fields.filter(isKeyLike).map((b) => ({ by: [a.path, b.path] as const, rows: oneToOne(joinedRows(a, b)) })),
    )
    .filter(({ rows }) => rows.length >= fewestTied)
    .toSorted((a, b) => b.rows.length - a.rows.length)
    .slice(0, candidates)
    .map((candidate) => ({ ...candidate, agreement: agreement(left, right, candidate) }))
    .filter(({ agreement: fields }) => fields > 0)
    .toSorted((a, b) => b.agreement - a.agreement || b.rows.length - a.rows.length);
  return found[0];
}

function oneToOne(rows: readonly (readonly [Row, Row])[]): (readonly [Row, Row])[] {
  const [lefts, rights] = [new Set<Row>(), new Set<Row>()];
  return rows.filter(([a, b]) => {
    if (lefts.has(a) || rights.has(b)) return false;
    lefts.add(a);
    rights.add(b);
    return true;
  });
}

/** How many other fields agree when records are tied so. */
function agreement(
  left: ObjectSketch,
  right: ObjectSketch,
  { by, rows }: { readonly by: readonly [FieldPath, FieldPath]; readonly rows: readonly (readonly [Row, Row])[] },
): number {
  const some = rows.slice(0, 40);
  const lefts = columns(
    left.fields,
    some.map(([row]) => row),
  );
  const rights = columns(
    right.fields,
    some.map(([, row]) => row),
  );
  let agreeing = 0;
  for (const [path, a] of lefts) {
    if (path === by[0]) continue;
    const agrees = [...rights].some(([other, b]) => {
      if (other === by[1]) return false;
      const { of, equal, chance } = compareColumns(a, b);
      return of >= Math.min(fewestTied, some.length) && equal / of > 0.6 && chance < 0.35;
    });
    if (agrees) agreeing += 1;
  }
  return agreeing;
}

const sameValue = (a: ReadValue, b: ReadValue): boolean => a.forms.some((form) => b.forms.includes(form));

function compareColumns(a: Column, b: Column): TiedComparison {
  const both = a.values.flatMap((value, index) => (value && b.values[index] ? [index] : []));
  const of = both.length;
  const pair = (i: number, j: number): boolean => sameValue(a.values[i] as ReadValue, b.values[j] as ReadValue);
  const equal = both.filter((index) => pair(index, index)).length;
  let byChance = 0;
  const shifts = [1, 2, 3, 5].filter((shift) => shift < of);
  for (const shift of shifts)
    byChance += both.filter((index, at) => pair(index, both[(at + shift) % of] as number)).length;
  const chance = of === 0 || shifts.length === 0 ? 0 : byChance / (of * shifts.length);
  return { of, equal, chance, ...mutual(a, b, both), factor: equal < of * 0.8 ? factorOf(a, b, both) : undefined };
}

/** How far the values of one side tell those of the other, where both are choices among few. */
function mutual(
  a: Column,
  b: Column,
  both: readonly number[],
): { readonly tells: number; readonly information: number } {
  const none = { tells: 0, information: 0 };
  const lefts = new Map<string, number>();
  const rights = new Map<string, number>();
  const pairs = new Map<string, number>();
  const bump = (map: Map<string, number>, key: string): void => void map.set(key, (map.get(key) ?? 0) + 1);
  for (const index of both) {
    const [x, y] = [a.values[index]?.forms[0] ?? '', b.values[index]?.forms[0] ?? ''];
    bump(lefts, x);
    bump(rights, y);
    bump(pairs, `${x}\u0000${y}`);
    if (lefts.size > mostChoices || rights.size > mostChoices) return none;
  }
  const n = both.length;
  if (lefts.size < 2 || rights.size < 2 || n < lefts.size * 3) return none;
  const entropy = (counts: Iterable<number>): number =>
    [...counts].reduce((sum, count) => sum - (count / n) * Math.log(count / n), 0);
  const [left, right, joint] = [entropy(lefts.values()), entropy(rights.values()), entropy(pairs.values())];
  const shared = left + right - joint;
  return { tells: shared / Math.max(left, right), information: shared * n };
}

/** The unit factor between two columns of numbers, if there is one. */
function factorOf(a: Column, b: Column, both: readonly number[]): number | undefined {
  const numbers = both.flatMap((index) => {
    const [x, y] = [numberIn(a.raws[index] ?? null), numberIn(b.raws[index] ?? null)];
    return x !== undefined && y !== undefined && x !== 0 && y !== 0 ? [[x, y] as const] : [];
  });
  if (numbers.length < fewestTied || new Set(numbers.map(([x]) => x)).size < 4) return undefined;
  const ratios = numbers.map(([x, y]) => y / x).sort((x, y) => x - y);
  const median = ratios[ratios.length >> 1] as number;
  const factor = unitFactors.flatMap((unit) => [unit, 1 / unit]).find((unit) => Math.abs(median / unit - 1) < 0.02);
  if (factor === undefined) return undefined;
  // Rounded on one side: a hundredth there may be off by half of its last place.
  const fitting = numbers.filter(
    ([x, y]) => Math.abs(y - x * factor) <= Math.max(Math.abs(y) * 0.005, 0.51 * Math.min(1, factor)),
  ).length;
  return fitting >= numbers.length * 0.9 ? factor : undefined;
}
