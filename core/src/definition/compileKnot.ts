import { type Formula, namesIn, rawVariable, readFormula } from '../expression/index.js';
import { compileStep, type Lens, makeLens, oneWayKinds, type Referring, type StepLens } from '../mapping/index.js';
import {
  type FieldId,
  type FieldPath,
  type Instant,
  type MemberId,
  notLookedUp,
  type Outcome,
  type Raw,
  type References,
  type Shared,
  type SourceRecord,
} from '../record/index.js';
import { comparisonLevels, mostEvidenceFields } from './identityRules.js';
import { compileComputed, type ComputedField } from './computed.js';
import { observedPaths, readObserved } from './observed.js';
import { checkOutcomes } from './outcomeProblems.js';
import { checkReferring } from './referenceProblems.js';
import {
  CheckJudge,
  type ReadableField,
  rawFieldsOf,
  readComparable,
  readShared,
  type ReadyCheck,
} from './readRecord.js';
import {
  type FormulaCheck,
  type Knot,
  type Mapping,
  type Member,
  recordKeyPath,
  type SharedField,
  type UniqueCheck,
} from './knot.js';

/** Something wrong in a definition: where (a path of names), and what to do about it. */
export interface KnotProblem {
  readonly at: string;
  readonly says: string;
}

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

/** A knot that has been checked and can be run. */
export interface CompiledKnot extends Omit<Knot, 'fields' | 'checks' | 'members'> {
  readonly members: readonly CompiledMember[];
  readonly fields: readonly CompiledField[];
  readonly checks: readonly CompiledCheck[];
  /** What its references mean; nothing is looked up unless {@link withReferences} has said it. */
  readonly references: References;
  /** Checks that no record can be judged by alone. */
  readonly uniqueChecks: readonly UniqueCheck[];
  member(id: MemberId): CompiledMember;
  /** The fields that are computed from others, each after those that it names. */
  readonly computed: readonly ComputedField[];
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
  /** The fields that key rules and evidence name. */
  readonly keyFields: ReadonlySet<FieldId>;
}

export type CompiledOrProblems =
  | { readonly ok: true; readonly knot: CompiledKnot }
  | { readonly ok: false; readonly problems: readonly KnotProblem[] };

/** Checks a definition as a whole and makes it ready to run; or says everything that is wrong with it. */
export function compileKnot(knot: Knot): CompiledOrProblems {
  const problems: KnotProblem[] = [];
  const report = (at: string, says: string): void => void problems.push({ at, says });
  checkNames(knot, report);
  const computed = compileComputed(knot, report);
  const fields = knot.fields.map((field) => compileField(knot, field, report));
  const uniqueChecks = knot.checks.filter((check) => 'unique' in check);
  const checks = knot.checks.flatMap((check): CompiledCheck[] => {
    if ('unique' in check) return [];
    const formula = readFormula(
      check.formula,
      knot.fields.map(({ id }) => id),
    );
    if (!formula.ok) report(`checks.${check.id}.formula`, formula.reason);
    const names = namesIn(
      check.formula,
      knot.fields.map(({ id }) => id),
    );
    return formula.ok ? [{ ...check, compiled: formula.value, names }] : [];
  });
  const members = knot.members.map((member): CompiledMember => {
    const filter = member.filter === undefined ? undefined : readFormula(member.filter, filterNames);
    if (filter && !filter.ok) report(`members.${member.id}.filter`, filter.reason);
    return {
      ...member,
      compiledFilter: filter?.ok ? filter.value : undefined,
      filterIsDated: namesIn(member.filter ?? '', ['today']).size > 0,
    };
  });
  checkReferences(knot, report);
  checkOutcomes(knot, report);
  checkReferring(knot, report);
  checkCrosswalks(knot, report);
  if (problems.length > 0) return { ok: false, problems };
  return {
    ok: true,
    knot: {
      ...knot,
      members,
      fields,
      computed,
      checks,
      uniqueChecks,
      references: notLookedUp,
      keyFields: new Set([
        ...knot.keyRules.flatMap((rule) => rule.fields.map(({ field }) => field)),
        ...(knot.evidence?.fields ?? []).flatMap(({ fields: named }) => named),
      ]),
      ...recordFunctions(members, fields, computed, checks, uniqueChecks),
    },
  };
}

/**
 * The knot with what its references mean, for records that are translated together.
 * @param references look-ups that were filled beforehand
 */
export function withReferences(knot: CompiledKnot, references: References): CompiledKnot {
  if (!knot.fields.some(({ refersTo }) => refersTo !== undefined)) return knot;
  const fields = knot.fields.map((field) =>
    field.refersTo === undefined ? field : referringField(knot, field, references),
  );
  return {
    ...knot,
    fields,
    references,
    ...recordFunctions(knot.members, fields, knot.computed, knot.checks, knot.uniqueChecks),
  };
}

function referringField(knot: CompiledKnot, field: CompiledField, references: References): CompiledField {
  const mappings = [...field.mappings].map(([member, mapping]): [MemberId, CompiledMapping] => {
    const { lens, comparing } = compileMapping(field, member, mapping, knot.crosswalks, references);
    return [member, { ...mapping, lens, comparing }];
  });
  return { ...field, mappings: new Map(mappings) };
}

/** What a filter may name: the record, and the day as `YYYY-MM-DD` in UTC. */
export const filterNames: readonly string[] = ['record', 'today'];

export function filterValues(record: Readonly<Record<string, Raw>>, now: Instant): Readonly<Record<string, unknown>> {
  return { record: rawVariable(record as Raw), today: new Date(now).toISOString().slice(0, 10) };
}

type Report = (at: string, says: string) => void;

function checkNames(knot: Knot, report: Report): void {
  if (knot.members.length < 2) report('members', 'a knot needs at least two members');
  const seen = new Set<string>();
  for (const { id } of knot.members) {
    if (seen.has(id)) report(`members.${id}`, `two members are called “${id}”`);
    seen.add(id);
  }
  const fields = new Set<string>();
  for (const { id } of knot.fields) {
    if (fields.has(id)) report(`fields.${id}`, `two shared fields are called “${id}”`);
    fields.add(id);
  }
  if (knot.titleField === '') report('titleField', 'say which shared field names an anchor in lists');
  else if (!fields.has(knot.titleField)) report('titleField', `there is no shared field “${knot.titleField}”`);
  if (knot.keyRules.length === 0 && (knot.evidence?.fields.length ?? 0) === 0)
    report('keyRules', 'without a key rule or evidence no two records would ever be the same thing');
}

function checkCrosswalks({ crosswalks }: Knot, report: Report): void {
  for (const [id, { rows }] of Object.entries(crosswalks)) {
    const seen = new Set<string>();
    for (const { shared } of rows) {
      if (seen.has(shared))
        report(`crosswalks.${id}`, `two rows have the shared value “${shared}”: put their values into one`);
      seen.add(shared);
    }
  }
}

function checkReferences(knot: Knot, report: Report): void {
  const members = new Set(knot.members.map(({ id }) => id));
  const fields = new Map(knot.fields.map((field) => [field.id, field]));
  for (const rule of knot.keyRules) {
    for (const { field } of rule.fields) {
      if (!fields.has(field)) report(`keyRules.${rule.name}`, `there is no shared field “${field}”`);
      else if (fields.get(field)?.formula !== undefined)
        report(`keyRules.${rule.name}`, `“${field}” is computed: no record holds it, so none is found by it`);
    }
    if (rule.fields.length === 0) report(`keyRules.${rule.name}`, 'the rule compares no field');
  }
  checkEvidence(knot, report);
  for (const check of knot.checks) {
    for (const member of check.members ?? [])
      if (!members.has(member)) report(`checks.${check.id}.members`, `there is no member “${member}”`);
    if ('unique' in check && !fields.has(check.unique))
      report(`checks.${check.id}.unique`, `there is no shared field “${check.unique}”`);
    if ('unique' in check && fields.get(check.unique)?.formula !== undefined)
      report(`checks.${check.id}.unique`, `“${check.unique}” is computed: choose a field that records hold`);
  }
  for (const field of knot.fields) {
    for (const [index, step] of field.rule.steps.entries()) {
      if (step.step !== 'order') continue;
      for (const member of step.members)
        if (!members.has(member)) report(`fields.${field.id}.rule`, `there is no member “${member}”`);
      const missing = knot.members.filter(
        ({ id }) => field.mappings[id] && field.mappings[id].direction !== 'to' && !step.members.includes(id),
      );
      if (index === field.rule.steps.length - 1 && missing.length > 0) {
        report(
          `fields.${field.id}.rule`,
          `the order of members leaves out ${missing.map(({ id }) => id).join(', ')}; name all that give ` +
            'values, or end with ask',
        );
      }
    }
    const last = field.rule.steps.at(-1)?.step;
    if (last !== 'ask' && last !== 'order')
      report(
        `fields.${field.id}.rule`,
        'the last step must be ask or an order of members, or a conflict could stay unsettled',
      );
    if (field.rule.combine === 'sum' && field.type !== 'number')
      report(`fields.${field.id}.rule`, 'only numbers can be added up');
    if (field.rule.combine === 'union' && field.type !== 'list')
      report(`fields.${field.id}.rule`, 'only lists can be united');
    if (field.rule.combine === 'text' && field.type !== 'note' && field.type !== 'text')
      report(`fields.${field.id}.rule`, 'only texts can be merged');
  }
  for (const member of knot.members) {
    for (const from of member.onlyFrom ?? [])
      if (!members.has(from)) report(`members.${member.id}.onlyFrom`, `there is no member “${from}”`);
    const written = new Map<FieldPath, FieldId>();
    for (const field of knot.fields) {
      const mapping = field.mappings[member.id];
      if (!mapping || mapping.direction === 'from') continue;
      const other = written.get(mapping.field);
      if (other)
        report(
          `fields.${field.id}.mappings.${member.id}`,
          `${other} already writes to “${mapping.field}”; two fields would overwrite each other`,
        );
      written.set(mapping.field, field.id);
    }
    if (member.carries !== undefined && written.has(member.carries)) {
      report(
        `members.${member.id}.carries`,
        `“${member.carries}” is written by a mapping and cannot carry the anchor's id as well`,
      );
    }
  }
}

function checkEvidence({ evidence, fields }: Knot, report: Report): void {
  if (!evidence || evidence.fields.length === 0) return;
  const { weights, thresholds } = evidence;
  const known = new Map(fields.map((field) => [field.id, field]));
  if (evidence.fields.length > mostEvidenceFields)
    report('evidence', `at most ${mostEvidenceFields} parts of evidence can be weighed`);
  for (const [index, part] of evidence.fields.entries()) {
    if (part.fields.length === 0) report(`evidence.fields.${index}`, `“${part.name}” compares no field`);
    for (const field of part.fields) {
      if (!known.has(field)) report(`evidence.fields.${index}`, `there is no shared field “${field}”`);
      else if (known.get(field)?.formula !== undefined)
        report(`evidence.fields.${index}`, `“${field}” is computed: no record holds it`);
    }
  }
  if (thresholds.lower > thresholds.upper)
    report('evidence.thresholds', 'the threshold for asking may not be above the one for tying');
  const isOf = (part: (typeof evidence.fields)[number], at: number): boolean => {
    const levels = comparisonLevels[part.compare].length;
    return weights?.fields[at]?.m.length === levels && (weights.related?.fields[at]?.length ?? levels) === levels;
  };
  if (!weights) report('evidence.weights', 'let the weights be learned from the data');
  else if (
    weights.fields.length !== evidence.fields.length ||
    (weights.related?.fields.length ?? evidence.fields.length) !== evidence.fields.length ||
    !evidence.fields.every(isOf)
  )
    report('evidence.weights', 'the evidence has changed: let the weights be learned again');
}

/**
 * One mapping, ready to translate, with what is wrong in it: at which step (`.steps.2`), or in the whole (an empty
 * place).
 * Steps that cannot be compiled are left out of the lens.
 */
export function compileMapping(
  { type, refersTo }: Pick<SharedField, 'type' | 'refersTo'>,
  member: MemberId,
  mapping: Mapping,
  crosswalks: Knot['crosswalks'],
  references: References = notLookedUp,
): { readonly lens: Lens; readonly comparing: Lens | undefined; readonly problems: readonly KnotProblem[] } {
  const steps: StepLens[] = [];
  const problems: KnotProblem[] = [];
  const blankAs = mapping.blankAs === 'null' ? null : '';
  const referring = refersTo === undefined ? undefined : { knot: refersTo, references };
  for (const [index, step] of mapping.steps.entries()) {
    const compiled = compileStep(step, member, crosswalks, referring);
    if (!compiled.ok) problems.push({ at: `.steps.${index}`, says: compiled.reason });
    else steps.push(compiled.value);
    if (oneWayKinds.has(step.kind) && mapping.direction === 'both ways')
      problems.push({ at: `.steps.${index}`, says: `a ${step.kind} runs one way: choose the direction from or to` });
  }
  if (mapping.direction !== 'to' && steps.some(({ inbound }) => !inbound))
    problems.push({
      at: '',
      says: 'this translation cannot be read: give the formula for the way in, or choose the direction to',
    });
  if (mapping.direction !== 'from' && steps.some(({ outbound }) => !outbound))
    problems.push({
      at: '',
      says: 'this translation cannot be written: give the formula for the way out, or choose the direction from',
    });
  const lens = makeLens({ type, direction: mapping.direction, steps, blankAs });
  return { lens, comparing: comparingLens(type, member, mapping, crosswalks, referring, lens, problems), problems };
}

/** The way in that is used for comparing alone: the one that the mapping names, or its own where it can be read. */
function comparingLens(
  type: SharedField['type'],
  member: MemberId,
  { compare, blankAs }: Mapping,
  crosswalks: Knot['crosswalks'],
  referring: Referring | undefined,
  lens: Lens,
  problems: KnotProblem[],
): Lens | undefined {
  if (!compare) return lens.canRead ? lens : undefined;
  const steps = compare.flatMap((step, index): StepLens[] => {
    const compiled = compileStep(step, member, crosswalks, referring);
    if (compiled.ok && compiled.value.inbound) return [compiled.value];
    problems.push({ at: `.compare.${index}`, says: compiled.ok ? 'this step cannot be read' : compiled.reason });
    return [];
  });
  return makeLens({ type, direction: 'from', steps, blankAs: blankAs === 'null' ? null : '' });
}

function compileField(knot: Knot, field: SharedField, report: Report): CompiledField {
  const mappings = new Map<MemberId, CompiledMapping>();
  for (const [memberId, mapping] of Object.entries(field.mappings)) {
    const at = `fields.${field.id}.mappings.${memberId}`;
    if (!knot.members.some(({ id }) => id === memberId)) {
      report(at, `there is no member “${memberId}”`);
      continue;
    }
    const { lens, comparing, problems } = compileMapping(field, memberId, mapping, knot.crosswalks);
    if (mapping.field === recordKeyPath && mapping.direction !== 'from')
      report(at, 'the record’s own key can only be read: choose the direction from');
    if (field.formula !== undefined && mapping.direction !== 'to')
      report(at, 'a computed field is given by no member: choose the direction to');
    for (const { at: where, says } of problems) report(`${at}${where}`, says);
    mappings.set(memberId, { ...mapping, lens, comparing });
  }
  if (mappings.size === 0 && field.formula === undefined) report(`fields.${field.id}`, 'no member has this field');
  return { ...field, mappings };
}

function recordFunctions(
  members: readonly CompiledMember[],
  fields: readonly CompiledField[],
  computed: readonly ComputedField[],
  checks: readonly CompiledCheck[],
  uniqueChecks: readonly UniqueCheck[],
) {
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
  const functions: Pick<
    CompiledKnot,
    'member' | 'rawFields' | 'takesPart' | 'failedChecks' | 'sharedValues' | 'comparableValues' | 'uniqueValues'
  > = {
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
