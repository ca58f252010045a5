import {
  compileComputed,
  compileKnot,
  compileMapping,
  recordKeyPath,
  type Knot,
  rawFieldsOf,
  readShared,
  type SharedField,
  withComputed,
} from '../definition/index.js';
import { checkFormulaTypes, formulaTypeOf } from '../expression/index.js';
import type { Lens } from '../mapping/index.js';
import {
  decimalOf,
  type FieldPath,
  isBlank,
  type MemberId,
  type Raw,
  readPath,
  type Shared,
  showRaw,
} from '../record/index.js';
import type { SourceField } from '../schema/index.js';
import type { Finding } from './finding.js';
import { readableFields } from './readableFields.js';
import { reviewTies } from './reviewTies.js';
import { tryCheck } from './tryFormulas.js';

/** What is known of a member's object: its fields, and some of its records. */
export interface MemberSource {
  readonly fields: readonly SourceField[];
  /** The field that is the key in its system; no mapping needs to give it. */
  readonly key?: FieldPath | undefined;
  readonly records: readonly Readonly<Record<string, Raw>>[];
}

type Sources = Readonly<Record<MemberId, MemberSource | undefined>>;

/**
 * What keeps a definition from going live, and what would surprise: problems of the definition itself, and what it
 * meets in the systems as they are known. Findings at the cells come in the order of fields and members.
 */
export function reviewKnot(knot: Knot, sources: Sources): Finding[] {
  const compiled = compileKnot(knot);
  const findings: Finding[] = compiled.ok ? [] : compiled.problems.map(({ at, says }) => ({ kind: 'stops', at, says }));
  const stopping = new Set(findings.map(({ at }) => at));
  findings.push(...reviewTies(knot));
  for (const member of knot.members) {
    const source = sources[member.id];
    if (source) findings.push(...reviewMember(knot, member.id, source));
  }
  for (const field of knot.fields) {
    for (const member of knot.members) {
      findings.push(...reviewCell(knot, field, member.id, sources));
    }
  }
  findings.push(...reviewCrosswalks(knot));
  findings.push(...reviewTypes(knot).filter(({ at }) => !stopping.has(at)));
  for (const check of knot.checks) {
    for (const member of check.members ?? knot.members.map(({ id }) => id)) {
      const records = sources[member]?.records ?? [];
      const outcome = records.length > 0 ? tryCheck(knot, check, member, records) : undefined;
      const fails = outcome?.ok ? outcome.value.passes.filter((passed) => !passed).length : 0;
      if (fails > 0 && fails === records.length)
        findings.push({
          kind: 'warns',
          at: `checks.${check.id}`,
          says:
            `every record of ${member} looked at fails this check (${check.says}): leave that member out, or ` +
            'correct the formula',
        });
    }
  }
  return findings;
}

/** Values of a member that stand in several rows: which row they mean depends on what is agreed. */
function reviewCrosswalks({ crosswalks, members }: Knot): Finding[] {
  return Object.entries(crosswalks).flatMap(([id, { rows }]) =>
    members.flatMap((member): Finding[] => {
      const meanings = new Map<string, string[]>();
      for (const { shared, values } of rows)
        for (const value of values[member.id] ?? [])
          meanings.set(String(value), [...(meanings.get(String(value)) ?? []), shared]);
      return [...meanings].flatMap(([value, shared]): Finding[] =>
        shared.length < 2
          ? []
          : [
              {
                kind: 'warns',
                at: `crosswalks.${id}`,
                says:
                  `“${value}” of ${member.id} stands in several rows (${shared.join(', ')}): it means the ` +
                  `agreed one of them, and ${shared[0] ?? ''} where none is`,
              },
            ],
      );
    }),
  );
}

/**
 * Types that do not meet in the formulas of computed fields and checks, and what they give where another type is
 * wanted. Text can hold anything.
 */
function reviewTypes(knot: Knot): Finding[] {
  const types = Object.fromEntries(knot.fields.map(({ id, type }) => [id, formulaTypeOf(type)]));
  const ofFields = knot.fields.flatMap(({ id, type, formula }) =>
    formula === undefined ? [] : [{ at: `fields.${id}.formula`, formula, wanted: formulaTypeOf(type) }],
  );
  const ofChecks = knot.checks.flatMap((check) =>
    'formula' in check ? [{ at: `checks.${check.id}.formula`, formula: check.formula, wanted: 'yes/no' as const }] : [],
  );
  return [...ofFields, ...ofChecks].flatMap(({ at, formula, wanted }): Finding[] => {
    const checked = checkFormulaTypes(formula, types);
    if (!checked.ok) return [{ kind: 'warns', at, says: `${checked.reason}: it fails where there are values` }];
    return checked.gives === undefined || checked.gives === wanted || wanted === 'text'
      ? []
      : [{ kind: 'warns', at, says: `it gives ${checked.gives}, and ${wanted} is wanted here` }];
  });
}

function reviewMember(knot: Knot, id: MemberId, { fields, key }: MemberSource): Finding[] {
  const member = knot.members.find((member) => member.id === id);
  if (!member?.may.create) return [];
  const given = new Set(
    knot.fields.flatMap(({ mappings }) =>
      mappings[id] && mappings[id].direction !== 'from' ? [mappings[id].field] : [],
    ),
  );
  const required = new Set([
    ...fields.flatMap(({ path, required: needs, readOnly }) => (needs && !readOnly ? [path] : [])),
    ...member.required,
  ]);
  const missing = [...required].filter((path) => path !== key && !given.has(path));
  return missing.map((path) => ({
    kind: 'warns',
    at: `members.${id}`,
    says: `nothing can be created there: “${path}” is required, and no mapping gives it`,
  }));
}

function reviewCell(knot: Knot, field: SharedField, memberId: MemberId, sources: Sources): Finding[] {
  const mapping = field.mappings[memberId];
  const source = sources[memberId];
  if (!mapping || !source) return [];
  const at = `fields.${field.id}.mappings.${memberId}`;
  const known = source.fields.find(({ path }) => path === mapping.field);
  if (!known && source.fields.length > 0 && mapping.field !== recordKeyPath)
    return [{ kind: 'warns', at, says: `“${mapping.field}” is not among the fields that are known there` }];
  const findings: Finding[] = [];
  if (known?.readOnly && mapping.direction !== 'from')
    findings.push({
      kind: 'stops',
      at,
      says: `“${mapping.field}” can only be read there: choose the direction from`,
    });
  const { lens, problems } = compileMapping(field, memberId, mapping, knot.crosswalks);
  // What references mean is in other knots, which are not looked into here.
  if (problems.length > 0 || field.refersTo !== undefined) return findings;
  if (lens.reads) {
    const filled = source.records
      .map((record) => readPath(record, mapping.field))
      .filter((raw): raw is Raw => raw !== undefined && !isBlank(raw));
    const failing = filled.flatMap((raw) => {
      const means = lens.inbound(raw, undefined);
      return means.ok ? [] : [{ raw, reason: means.reason }];
    });
    const [first] = failing;
    if (first)
      findings.push({
        kind: 'warns',
        at,
        says:
          `${failing.length} of ${filled.length} values looked at cannot be read: ` +
          `${first.reason.includes('“') ? '' : `${showRaw(first.raw, 40)}: `}${first.reason}`,
      });
  }
  if (lens.writes) findings.push(...reviewWriting(knot, field, memberId, lens, known, sources));
  return findings;
}

/**
 * Tries to write what the members hold, this one's own values too. A value that would read back as another one shows a
 * translation that never settles.
 */
function reviewWriting(
  knot: Knot,
  field: SharedField,
  memberId: MemberId,
  lens: Lens,
  known: SourceField | undefined,
  sources: Sources,
): Finding[] {
  const at = `fields.${field.id}.mappings.${memberId}`;
  const failing: string[] = [];
  const others = new Set<string>();
  let tried = 0;
  let longest = 0;
  for (const value of valuesOf(knot, field, sources)) {
    tried += 1;
    const written = lens.outbound(value, undefined);
    if (!written.ok) failing.push(`${showRaw(value as Raw, 40)}: ${written.reason}`);
    else if (typeof written.value === 'string') {
      longest = Math.max(longest, [...written.value].length);
      if (known && !fits(known.type, written.value)) others.add(written.value);
    }
  }
  const findings: Finding[] = [];
  if (failing[0] !== undefined)
    findings.push({
      kind: 'warns',
      at,
      says: `${failing.length} of ${tried} values looked at could not be written: ${failing[0]}`,
    });
  const [other] = others;
  if (other !== undefined)
    findings.push({
      kind: 'warns',
      at,
      says:
        `there it is of the type ${known?.type ?? ''}, and “${other.slice(0, 40)}” would be written: the ` +
        'types do not meet',
    });
  const room = known?.longest;
  if (room !== undefined && longest > room)
    findings.push({
      kind: 'warns',
      at,
      says: `there is room for ${room} characters, and values have up to ${longest}: add the step cut`,
    });
  return findings;
}

/** Whether a text can stand in a field of that type. Types that systems name otherwise take any. */
function fits(type: SourceField['type'], text: string): boolean {
  switch (type) {
    case 'number':
      return decimalOf(text) !== undefined;
    case 'yes/no':
      return text === 'true' || text === 'false';
    case 'date':
    case 'instant':
      return /^\d{4}-\d\d-\d\d/.test(text);
    default:
      return true;
  }
}

/** The shared values of a field that the records looked at give. */
function* valuesOf(knot: Knot, field: SharedField, sources: Sources): Generator<Shared> {
  const computed = compileComputed(knot, () => undefined);
  const isComputed = computed.some(({ id }) => id === field.id);
  const only = isComputed ? undefined : new Set([field.id]);
  for (const { id } of knot.members) {
    const mapped = readableFields(knot, id);
    for (const fields of sources[id]?.records ?? []) {
      const { values } = readShared(mapped, rawFieldsOf(mapped, { fields }), only);
      if (isComputed) withComputed(computed, values);
      const value = values.get(field.id);
      if (value !== undefined && value !== null) yield value;
    }
  }
}
