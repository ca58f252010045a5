import {
  type Check,
  type EvidenceField,
  filterNames,
  filterValues,
  type KeyRule,
  type Knot,
  rawFieldsOf,
  type ReadableField,
  readComparable,
  readShared,
} from '../definition/index.js';
import { readFormula } from '../expression/index.js';
import { evidenceTexts, keyOf } from '../identity/index.js';
import {
  type FieldId,
  type Instant,
  isBlank,
  type MemberId,
  type Raw,
  readPath,
  type RecordKey,
  scalarText,
  showRaw,
  type SourceRecord,
} from '../record/index.js';
import type { SurveyedRecord } from './identitySurvey.js';
import { readableFields } from './readableFields.js';
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

/**
 * Tries a definition, also an unfinished one, on whole objects: records are shown to it page by page, and what it keeps
 * of them is bounded, but for the values of unique checks and what identity looks at (some texts for each record).
 */
export class KnotSurvey {
  readonly #members: ReadonlyMap<MemberId, MemberCount>;

  /** @param now decides what filters leave out that depend on the day */
  constructor(knot: SurveyedKnot, now: Instant) {
    this.#members = new Map(knot.members.map(({ id }) => [id, new MemberCount(knot, id, now)]));
  }

  add(member: MemberId, records: readonly SourceRecord[]): void {
    for (const record of records) this.#members.get(member)?.add(record);
  }

  member(id: MemberId): MemberSurvey | undefined {
    return this.#members.get(id)?.result();
  }

  /** The records that were shown and take part, for what identity makes of them; in the order of members. */
  records(): readonly SurveyedRecord[] {
    return [...this.#members.values()].flatMap(({ records }) => records);
  }
}

type SurveyedKnot = Pick<Knot, 'members' | 'fields' | 'checks' | 'crosswalks' | 'titleField' | 'keyRules' | 'evidence'>;

interface Cell extends ReadableField {
  /** The crosswalk that the value as it comes is looked up in. */
  readonly table: string | undefined;
  readonly known: ReadonlySet<string>;
  filled: number;
  unreadable: number;
  readonly reasons: Set<string>;
  readonly examples: SurveyExample[];
}

class MemberCount {
  readonly records: SurveyedRecord[] = [];
  readonly #rules: readonly KeyRule[];
  readonly #evidence: readonly EvidenceField[];
  readonly #keyFields: ReadonlySet<FieldId>;
  readonly #member: MemberId;
  readonly #canStart: boolean;
  readonly #filter: ReturnType<typeof readFormula> | undefined;
  readonly #now: Instant;
  readonly #mapped: readonly ReadableField[];
  readonly #cells: readonly Cell[];
  readonly #checks: readonly {
    readonly check: Check;
    readonly counter: ReturnType<typeof checkCounter>;
    fails: number;
    readonly examples: SurveyExample[];
  }[];
  readonly #unknown = new Map<string, { table: string; value: string; count: number }>();
  readonly #titlePath: string | undefined;
  readonly #inside: SurveyExample[] = [];
  readonly #outside: SurveyExample[] = [];
  #seen = 0;
  #takePart = 0;
  #filterFails = 0;
  #filterReason: string | undefined;

  constructor(knot: SurveyedKnot, member: MemberId, now: Instant) {
    this.#rules = knot.keyRules.filter((rule) => rule.fields.length > 0);
    this.#evidence = knot.evidence?.fields ?? [];
    this.#keyFields = new Set([
      ...this.#rules.flatMap((rule) => rule.fields.map(({ field }) => field)),
      ...this.#evidence.flatMap(({ fields }) => fields),
    ]);
    this.#member = member;
    this.#canStart = knot.members.find(({ id }) => id === member)?.startsAnchors ?? true;
    const { filter } = knot.members.find(({ id }) => id === member) ?? {};
    this.#filter = filter === undefined ? undefined : readFormula(filter, filterNames);
    this.#now = now;
    this.#titlePath = knot.fields.find(({ id }) => id === knot.titleField)?.mappings[member]?.field;
    const readable = readableFields(knot, member);
    this.#mapped = readable;
    this.#cells = readable.flatMap((readableField): Cell[] => {
      if (!readableField.lens.reads) return [];
      const [first] = knot.fields.find(({ id }) => id === readableField.field)?.mappings[member]?.steps ?? [];
      const table = first?.kind === 'crosswalk' ? first.table : undefined;
      const rows = table === undefined ? [] : (knot.crosswalks[table]?.rows ?? []);
      const known = new Set(rows.flatMap(({ values }) => (values[member] ?? []).map(String)));
      return [{ ...readableField, table, known, filled: 0, unreadable: 0, reasons: new Set(), examples: [] }];
    });
    this.#checks = knot.checks
      .filter(({ members }) => !members || members.includes(member))
      .map((check) => ({ check, counter: checkCounter(knot, check, member), fails: 0, examples: [] }));
  }

  add(record: SourceRecord): void {
    const { key, fields } = record;
    this.#seen += 1;
    const example = (): SurveyExample => ({ key, title: this.#titleOf(fields) });
    if (!this.#takesPart(fields)) {
      if (this.#outside.length < mostExamples) this.#outside.push(example());
      return;
    }
    this.#takePart += 1;
    if (this.#inside.length < mostExamples) this.#inside.push(example());
    const raws = rawFieldsOf(this.#mapped, record);
    const { unreadable } = readShared(this.#mapped, raws);
    for (const cell of this.#cells) this.#look(cell, raws[cell.field], unreadable.get(cell.field), example);
    const { values } = readComparable(this.#mapped, raws, this.#keyFields);
    this.records.push({
      member: this.#member,
      key,
      title: this.#titleOf(fields),
      keys: this.#rules.map((rule) => keyOf(rule, values)),
      canStart: this.#canStart,
      texts: evidenceTexts(this.#evidence, values),
    });
    for (const check of this.#checks) {
      const more = check.counter.ok ? check.counter.value(raws) : 0;
      check.fails += more;
      if (more > 0 && check.examples.length < mostExamples) check.examples.push(example());
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

  #look(cell: Cell, raw: Raw | undefined, unreadable: string | undefined, example: () => SurveyExample): void {
    if (raw === undefined || isBlank(raw)) return;
    cell.filled += 1;
    if (unreadable === undefined) return;
    cell.unreadable += 1;
    if (cell.reasons.size < mostExamples)
      cell.reasons.add(unreadable.includes('“') ? unreadable : `${showRaw(raw, 40)}: ${unreadable}`);
    if (cell.examples.length < mostExamples) cell.examples.push(example());
    this.#noteUnknown(cell, raw);
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
    const words =
      named ?? Object.values(fields).find((value) => typeof value === 'string' && /\p{L}{3}/u.test(value)) ?? null;
    return showRaw(words, 60);
  }

  result(): MemberSurvey {
    return {
      records: this.#seen,
      takePart: this.#takePart,
      filterFails: this.#filterFails,
      filterReason: this.#filterReason,
      inside: this.#inside,
      outside: this.#outside,
      cells: Object.fromEntries(
        this.#cells.map(({ field, filled, unreadable, reasons, examples }) => [
          field,
          { filled, unreadable, reasons: [...reasons], examples },
        ]),
      ),
      checks: Object.fromEntries(this.#checks.map(({ check, fails, examples }) => [check.id, { fails, examples }])),
      unknownValues: [...this.#unknown.values()].toSorted((a, b) => b.count - a.count || (a.value < b.value ? -1 : 1)),
    };
  }
}
