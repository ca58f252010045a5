import { namesIn, readFormula } from '../expression/index.js';
import type { Levels } from '../mapping/index.js';
import { type FieldId, type MemberId, notLookedUp, type References } from '../record/index.js';
import { compileMapping } from './compileMapping.js';
import { compileComputed, type ComputedField } from './computed.js';
import { checkCrosswalks, checkNamed, checkNames, checkSeries } from './definitionProblems.js';
import { type Knot, recordKeyPath, type SharedField, type UniqueCheck } from './knot.js';
import type { KnotProblem, Report } from './knotProblem.js';
import { checkOutcomes } from './outcomeProblems.js';
import {
  type CompiledCheck,
  type CompiledField,
  type CompiledMapping,
  type CompiledMember,
  filterNames,
  type RecordFunctions,
  recordFunctions,
} from './recordFunctions.js';
import { checkReferring } from './referenceProblems.js';

/** A knot that has been checked and can be run. */
export interface CompiledKnot extends Omit<Knot, 'fields' | 'checks' | 'members'>, RecordFunctions {
  readonly members: readonly CompiledMember[];
  readonly fields: readonly CompiledField[];
  readonly checks: readonly CompiledCheck[];
  /** What its references mean; nothing is looked up unless {@link withReferences} has said it. */
  readonly references: References;
  /** Which of its things stands under which; only where one of its fields says so, and it was looked up. */
  readonly levels?: Levels | undefined;
  /** Checks that no record can be judged by alone. */
  readonly uniqueChecks: readonly UniqueCheck[];
  /** The fields that are computed from others, each after those that it names. */
  readonly computed: readonly ComputedField[];
  /** The fields that key rules and evidence name. */
  readonly keyFields: ReadonlySet<FieldId>;
}

export type CompiledOrProblems =
  | { readonly ok: true; readonly knot: CompiledKnot }
  | { readonly ok: false; readonly problems: readonly KnotProblem[] };

/** Checks a definition as a whole and makes it ready to run; or says everything that is wrong with it. */
export function compileKnot(knot: Knot): CompiledOrProblems {
  const problems: KnotProblem[] = [];
  const report: Report = (at, says) => void problems.push({ at, says });
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
  checkNamed(knot, report);
  checkSeries(knot, report);
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
 * @param levels which of its things stands under which
 */
export function withReferences(knot: CompiledKnot, references: References, levels?: Levels): CompiledKnot {
  if (!knot.fields.some(({ refersTo }) => refersTo !== undefined)) return knot;
  const fields = knot.fields.map((field) =>
    field.refersTo === undefined ? field : referringField(knot, field, references),
  );
  return {
    ...knot,
    fields,
    references,
    levels,
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
