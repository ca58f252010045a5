import { type Formula, rawVariable } from '../expression/index.js';
import type { Lens } from '../mapping/index.js';
import type { FieldId, Instant, MemberId, Outcome, Raw, Shared, SourceRecord } from '../record/index.js';
import type { ComputedField } from './computed.js';
import type { FormulaCheck, Mapping, Member, SharedField, UniqueCheck } from './knot.js';
import { observedPaths, readObserved } from './observed.js';
import {
  CheckJudge,
  type ReadableField,
  rawFieldsOf,
  readComparable,
  readShared,
  type ReadyCheck,
} from './readRecord.js';

export interface CompiledMapping extends Mapping {
  readonly lens: Lens;
  /** Reads the value for comparing records alone; `undefined` where it cannot be read. */
  readonly comparing: Lens | undefined;
}

export interface CompiledField extends Omit<SharedField, 'mappings'> {
  readonly mappings: ReadonlyMap<MemberId, CompiledMapping>;
}

export type CompiledCheck = ReadyCheck;

export interface CompiledMember extends Member {
  readonly compiledFilter: Formula | undefined;
  /** Its filter changes its mind as days go by: what is in it cannot be told from changes alone. */
  readonly filterIsDated: boolean;
}

/** How records of its members are read. */
export interface RecordFunctions {
  member(id: MemberId): CompiledMember;
  /**
   * The raw values of the mapped fields of a record, by shared field; what the system did not send is missing. And
   * those of the places that are only observed.
   */
  rawFields(member: MemberId, record: SourceRecord): Record<FieldId, Raw>;
  /** Whether a record takes part on that day. A filter that fails on a record is an outcome with the reason. */
  takesPart(member: MemberId, fields: Readonly<Record<string, Raw>>, now: Instant): Outcome<boolean>;
  /** What is said of the checks that a record fails; and whether one of them stops the run. */
  failedChecks(
    member: MemberId,
    rawFields: Readonly<Record<FieldId, Raw>>,
  ): { readonly says: readonly string[]; readonly stops: boolean };
  /**
   * What a record has under each unique check of its member: the value as text, `undefined` for blank and unreadable.
   */
  uniqueValues(
    member: MemberId,
    rawFields: Readonly<Record<FieldId, Raw>>,
  ): readonly { readonly check: string; readonly value: string | undefined }[];
  /**
   * The shared values of one record, of all fields or of some; fields that cannot be read, or were not sent, are
   * missing.
   */
  sharedValues(
    member: MemberId,
    rawFields: Readonly<Record<FieldId, Raw>>,
    only?: ReadonlySet<FieldId>,
  ): Map<FieldId, Shared>;
  /**
   * What a record is compared by when things are matched: of all fields that can be read, also where the knot only
   * writes. Nothing of it is an edit.
   */
  comparableValues(
    member: MemberId,
    rawFields: Readonly<Record<FieldId, Raw>>,
    only?: ReadonlySet<FieldId>,
  ): Map<FieldId, Shared>;
}

/** What a filter may name: the record, and the day as `YYYY-MM-DD` in UTC. */
export const filterNames: readonly string[] = ['record', 'today'];

export function filterValues(record: Readonly<Record<string, Raw>>, now: Instant): Readonly<Record<string, unknown>> {
  return { record: rawVariable(record as Raw), today: new Date(now).toISOString().slice(0, 10) };
}

/** How records of a knot become shared values, ready for each of its members. */
export function recordFunctions(
  members: readonly CompiledMember[],
  fields: readonly CompiledField[],
  computed: readonly ComputedField[],
  checks: readonly CompiledCheck[],
  uniqueChecks: readonly UniqueCheck[],
): RecordFunctions {
  const readers = new Map(
    members.map((member) => {
      const mapped = fields.flatMap((field): ReadableField[] => {
        const mapping = field.mappings.get(member.id);
        return mapping ? [{ field: field.id, mapping, lens: mapping.lens, comparing: mapping.comparing }] : [];
      });
      const applies = ({ members: only }: Pick<FormulaCheck, 'members'>): boolean => only?.includes(member.id) ?? true;
      const reader = {
        member,
        mapped,
        observed: observedPaths(member),
        judge: new CheckJudge(mapped, fields, computed),
        checks: checks.filter(applies),
        uniqueChecks: uniqueChecks.filter(applies),
      };
      return [member.id, reader] as const;
    }),
  );
  const readerOf = (id: MemberId) => {
    const reader = readers.get(id);
    if (!reader) throw new Error(`no member ${id}`);
    return reader;
  };
  const functions: RecordFunctions = {
    member: (id) => readerOf(id).member,
    rawFields(member, record) {
      const { mapped, observed } = readerOf(member);
      const raws = rawFieldsOf(mapped, record);
      return observed.length === 0 ? raws : { ...raws, ...readObserved(observed, record.fields) };
    },
    takesPart(id, record, now) {
      const { compiledFilter: filter } = readerOf(id).member;
      if (!filter) return { ok: true, value: true };
      const result = filter.evaluate(filterValues(record, now));
      return result.ok ? { ok: true, value: result.value === true } : result;
    },
    sharedValues: (member, raws, only) => readShared(readerOf(member).mapped, raws, only).values,
    comparableValues: (member, raws, only) => readComparable(readerOf(member).mapped, raws, only).values,
    uniqueValues(member, raws) {
      const { judge, uniqueChecks: applying } = readerOf(member);
      return applying.map((check) => ({ check: check.id, value: judge.uniqueValue(check, raws) }));
    },
    failedChecks(member, raws) {
      const { judge, checks: applying } = readerOf(member);
      const failing = judge.judge(applying, raws).flatMap((verdict, place) => {
        const { says, onFail } = applying[place] as CompiledCheck;
        const stops = onFail === 'stop';
        if (verdict.kind === 'fails') return [{ says, stops }];
        if (verdict.kind !== 'broken') return [];
        return [{ says: `${says} (the check could not be worked out: ${verdict.reason})`, stops }];
      });
      return { says: failing.map(({ says }) => says), stops: failing.some(({ stops }) => stops) };
    },
  };
  return functions;
}
