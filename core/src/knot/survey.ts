import { type KeyRule, keyOf, matchByKey, type Newcomer } from '../identity/index.js';
import {
  anchorId,
  type FieldId,
  type Instant,
  isBlank,
  type MemberId,
  type Raw,
  readPath,
  type RecordKey,
  scalarText,
  type Shared,
  showRaw,
  type SourceRecord,
} from '../record/index.js';
import { readFormula } from '../expression/index.js';
import type { Lens } from '../mapping/index.js';
import { compileMapping, filterNames, filterValues } from './compileKnot.js';
import { type Check, type Knot, type Mapping, recordKeyPath } from './knot.js';
import { checkCounter } from './tryFormulas.js';

const mostExamples = 5;
const mostUnknownValues = 500;

/** A record that shows something. */
export interface SurveyExample {
  readonly key: RecordKey;
  readonly title: string;
}

/** What one mapping meets in all records that take part. */
export interface SurveyCell {
  readonly filled: number;
  /** How many of the filled values cannot be read, with the first reasons. */
  readonly unreadable: number;
  readonly reasons: readonly string[];
  readonly examples: readonly SurveyExample[];
}

export interface SurveyCheck {
  readonly fails: number;
  readonly examples: readonly SurveyExample[];
}

/** What a definition makes of all records of one member. */
export interface MemberSurvey {
  readonly records: number;
  /** How many pass the filter. */
  readonly takePart: number;
  /** How many the filter cannot be worked out for, with the first reason. */
  readonly filterFails: number;
  readonly filterReason: string | undefined;
  readonly inside: readonly SurveyExample[];
  readonly outside: readonly SurveyExample[];
  readonly cells: Readonly<Record<FieldId, SurveyCell>>;
  readonly checks: Readonly<Record<string, SurveyCheck>>;
  /** Values that a crosswalk was given and has no row for, the commonest first. */
  readonly unknownValues: readonly { readonly table: string; readonly value: string; readonly count: number }[];
}

/** How the records of all members would belong together, if nothing were tied yet. */
export interface IdentitySurvey {
  /** In the order of the rules, each over what the ones before left. */
  readonly rules: readonly {
    readonly name: string;
    /** Records that it ties to others. */
    readonly ties: number;
    /** Records with a key that another record of their member has too: they wait for a person. */
    readonly repeated: number;
    /** Records that have no such key. */
    readonly without: number;
    /** Some keys as they are compared. */
    readonly examples: readonly string[];
  }[];
  /** Things that two or more members have, and those that only one has. */
  readonly together: number;
  readonly alone: number;
  /** Records that would wait for a person. */
  readonly waiting: number;
}

/**
 * Tries a definition, also an unfinished one, on whole objects: records are shown to it page by page, and what it keeps
 * of them is bounded, but for the values of unique checks and the keys of records (some texts for each record).
 */
export class KnotSurvey {
  readonly #members: ReadonlyMap<MemberId, MemberCount>;
  readonly #rules: readonly KeyRule[];

  /** @param now decides what filters leave out that depend on the day */
  constructor(knot: Pick<Knot, 'members' | 'fields' | 'checks' | 'crosswalks' | 'titleField' | 'keyRules'>, now: Instant) {
    this.#rules = knot.keyRules.filter((rule) => rule.fields.length > 0);
    this.#members = new Map(knot.members.map(({ id }) => [id, new MemberCount(knot, this.#rules, id, now)]));
  }

  add(member: MemberId, records: readonly SourceRecord[]): void {
    for (const record of records) this.#members.get(member)?.add(record);
  }

  member(id: MemberId): MemberSurvey | undefined {
    return this.#members.get(id)?.result();
  }

  /** What the key rules make of all records that were shown. */
  identity(): IdentitySurvey {
    const newcomers = [...this.#members.values()].flatMap((member) => member.newcomers);
    let next = 0;
    const { ties, doubts, unmatched } = matchByKey(
      this.#rules.map(({ name }) => name),
      newcomers,
      { withKey: () => [], tiedKey: () => undefined },
      () => anchorId(String((next += 1))),
    );
    const members = new Map<string, number>();
    for (const { anchor } of ties) members.set(anchor, (members.get(anchor) ?? 0) + 1);
    const counts = [...members.values()];
    return {
      rules: this.#rules.map(({ name }, index) => {
        const tied = ties.filter(({ rule }) => rule === name);
        return {
          name,
          ties: tied.length,
          repeated: doubts.reduce((sum, doubt) => sum + (doubt.kind === 'duplicate' && doubt.rule === name ? doubt.keys.length : 0), 0),
          without: newcomers.reduce((sum, { keys }) => sum + (keys[index] === undefined ? 1 : 0), 0),
          examples: [...new Set(tied.flatMap(({ newcomer }) => newcomer.keys[index] ?? []))].slice(0, mostExamples).map((key) => key.replaceAll('\u001f', ', ')),
        };
      }),
      together: counts.filter((count) => count > 1).length,
      alone: counts.filter((count) => count === 1).length + unmatched.length,
      waiting: doubts.reduce((sum, doubt) => sum + ('keys' in doubt ? doubt.keys.length : 1), 0),
    };
  }
}

interface Cell {
  readonly field: FieldId;
  readonly mapping: Mapping;
  readonly lens: Lens;
  /** The crosswalk that the value as it comes is looked up in. */
  readonly table: string | undefined;
  readonly known: ReadonlySet<string>;
  filled: number;
  unreadable: number;
  readonly reasons: Set<string>;
  readonly examples: SurveyExample[];
}

class MemberCount {
  readonly newcomers: Newcomer[] = [];
  readonly #rules: readonly KeyRule[];
  readonly #keyFields: ReadonlySet<FieldId>;
  readonly #member: MemberId;
  readonly #canStart: boolean;
  readonly #filter: ReturnType<typeof readFormula> | undefined;
  readonly #now: Instant;
  readonly #cells: readonly Cell[];
  readonly #checks: readonly { readonly check: Check; readonly counter: ReturnType<typeof checkCounter>; fails: number; readonly examples: SurveyExample[] }[];
  readonly #unknown = new Map<string, { table: string; value: string; count: number }>();
  readonly #titlePath: string | undefined;
  readonly #inside: SurveyExample[] = [];
  readonly #outside: SurveyExample[] = [];
  #records = 0;
  #takePart = 0;
  #filterFails = 0;
  #filterReason: string | undefined;

  constructor(knot: Pick<Knot, 'members' | 'fields' | 'checks' | 'crosswalks' | 'titleField'>, rules: readonly KeyRule[], member: MemberId, now: Instant) {
    this.#rules = rules;
    this.#keyFields = new Set(rules.flatMap((rule) => rule.fields.map(({ field }) => field)));
    this.#member = member;
    this.#canStart = knot.members.find(({ id }) => id === member)?.startsAnchors ?? true;
    const { filter } = knot.members.find(({ id }) => id === member) ?? {};
    this.#filter = filter === undefined ? undefined : readFormula(filter, filterNames);
    this.#now = now;
    this.#titlePath = knot.fields.find(({ id }) => id === knot.titleField)?.mappings[member]?.field;
    this.#cells = knot.fields.flatMap((field): Cell[] => {
      const mapping = field.mappings[member];
      if (!mapping || mapping.direction === 'to') return [];
      const { lens, problems } = compileMapping(field.type, member, mapping, knot.crosswalks);
      if (problems.length > 0 || !lens.reads) return [];
      const [first] = mapping.steps;
      const table = first?.kind === 'crosswalk' ? first.table : undefined;
      const rows = table === undefined ? [] : (knot.crosswalks[table]?.rows ?? []);
      const known = new Set(rows.flatMap(({ values }) => (values[member] ?? []).map(String)));
      return [{ field: field.id, mapping, lens, table, known, filled: 0, unreadable: 0, reasons: new Set(), examples: [] }];
    });
    this.#checks = knot.checks
      .filter(({ members }) => !members || members.includes(member))
      .map((check) => ({ check, counter: checkCounter(knot, check, member), fails: 0, examples: [] }));
  }

  add({ key, fields }: SourceRecord): void {
    this.#records += 1;
    const example = (): SurveyExample => ({ key, title: this.#titleOf(fields) });
    if (!this.#takesPart(fields)) {
      if (this.#outside.length < mostExamples) this.#outside.push(example());
      return;
    }
    this.#takePart += 1;
    if (this.#inside.length < mostExamples) this.#inside.push(example());
    const values = new Map<FieldId, Shared>();
    for (const cell of this.#cells) {
      const value = this.#look(cell, key, fields, example);
      if (value !== undefined && this.#keyFields.has(cell.field)) values.set(cell.field, value);
    }
    this.newcomers.push({ member: this.#member, key, keys: this.#rules.map((rule) => keyOf(rule, values)), canStart: this.#canStart });
    for (const one of this.#checks) {
      const more = one.counter.ok ? one.counter.value(fields) : 0;
      one.fails += more;
      if (more > 0 && one.examples.length < mostExamples) one.examples.push(example());
    }
  }

  #takesPart(fields: SourceRecord['fields']): boolean {
    if (!this.#filter) return true;
    const result = this.#filter.ok ? this.#filter.value.evaluate(filterValues(fields, this.#now)) : this.#filter;
    if (!result.ok) {
      this.#filterFails += 1;
      this.#filterReason ??= result.reason;
    }
    return result.ok && result.value === true;
  }

  /** @returns the shared value; `undefined` for blank and unreadable */
  #look(cell: Cell, key: RecordKey, fields: SourceRecord['fields'], example: () => SurveyExample): Shared | undefined {
    const raw = cell.mapping.field === recordKeyPath ? key : readPath(fields, cell.mapping.field);
    if (raw === undefined || isBlank(raw)) return undefined;
    cell.filled += 1;
    const means = cell.lens.inbound(raw, undefined);
    if (means.ok) return means.value ?? undefined;
    cell.unreadable += 1;
    if (cell.reasons.size < mostExamples) cell.reasons.add(means.reason.includes('“') ? means.reason : `${showRaw(raw, 40)}: ${means.reason}`);
    if (cell.examples.length < mostExamples) cell.examples.push(example());
    this.#noteUnknown(cell, raw);
    return undefined;
  }

  #noteUnknown({ table, known }: Cell, raw: Raw): void {
    const value = typeof raw === 'boolean' ? String(raw) : scalarText(raw);
    if (table === undefined || value === undefined || known.has(value)) return;
    const name = JSON.stringify([table, value]);
    const there = this.#unknown.get(name);
    if (there) there.count += 1;
    else if (this.#unknown.size < mostUnknownValues) this.#unknown.set(name, { table, value, count: 1 });
  }

  #titleOf(fields: SourceRecord['fields']): string {
    const named = this.#titlePath === undefined ? undefined : readPath(fields, this.#titlePath);
    const words = named ?? Object.values(fields).find((value) => typeof value === 'string' && /\p{L}{3}/u.test(value)) ?? null;
    return showRaw(words, 60);
  }

  result(): MemberSurvey {
    return {
      records: this.#records,
      takePart: this.#takePart,
      filterFails: this.#filterFails,
      filterReason: this.#filterReason,
      inside: this.#inside,
      outside: this.#outside,
      cells: Object.fromEntries(this.#cells.map(({ field, filled, unreadable, reasons, examples }) => [field, { filled, unreadable, reasons: [...reasons], examples }])),
      checks: Object.fromEntries(this.#checks.map(({ check, fails, examples }) => [check.id, { fails, examples }])),
      unknownValues: [...this.#unknown.values()].toSorted((a, b) => b.count - a.count || (a.value < b.value ? -1 : 1)),
    };
  }
}
