import type { FieldId, FieldPath } from '../record/index.js';
import { comparisonLevels, mostEvidenceFields } from './identityRules.js';
import type { Knot } from './knot.js';
import type { Report } from './knotProblem.js';

/** Names that two members or two fields have, and what a definition cannot do without. */
export function checkNames(knot: Knot, report: Report): void {
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

/** A field takes its numbers from a series only where it holds texts, and where some system is told of them. */
export function checkSeries({ fields }: Knot, report: Report): void {
  for (const { id, type, formula, series, mappings } of fields) {
    if (series === undefined) continue;
    const at = `fields.${id}.series`;
    if (formula !== undefined) report(at, 'its values are computed: let go of the formula, or of the series');
    else if (type !== 'text') report(at, 'only a field of type text takes numbers from a series');
    else if (Object.values(mappings).every(({ direction }) => direction === 'from'))
      report(at, 'no system is told of its numbers: map it to one, or both ways');
  }
}

/** Rows of a crosswalk that have the same shared value. */
export function checkCrosswalks({ crosswalks }: Knot, report: Report): void {
  for (const [id, { rows }] of Object.entries(crosswalks)) {
    const seen = new Set<string>();
    for (const { shared } of rows) {
      if (seen.has(shared))
        report(`crosswalks.${id}`, `two rows have the shared value “${shared}”: put their values into one`);
      seen.add(shared);
    }
  }
}

/** What rules, checks and members name that is not there, or cannot be named there. */
export function checkNamed(knot: Knot, report: Report): void {
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
  const order = knot.members.find(({ inOrderOf }) => inOrderOf !== undefined)?.inOrderOf;
  for (const member of knot.members) {
    for (const from of member.onlyFrom ?? [])
      if (!members.has(from)) report(`members.${member.id}.onlyFrom`, `there is no member “${from}”`);
    if (member.inOrderOf !== undefined && !knot.fields.some(({ id }) => id === member.inOrderOf))
      report(`members.${member.id}.inOrderOf`, `there is no shared field “${member.inOrderOf}”`);
    else if (member.inOrderOf !== undefined && order !== undefined && member.inOrderOf !== order)
      report(`members.${member.id}.inOrderOf`, `in another member they are made in the order of ${order}: take that`);
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
