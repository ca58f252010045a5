import { type FieldId, type ReferenceBy, referenceKey } from '../record/index.js';
import type { Knot, SharedField } from './knot.js';
import type { Report } from './knotProblem.js';

/** What is wrong with the references of a definition, as far as it can be told without the knots they lead to. */
export function checkReferring(knot: Knot, report: Report): void {
  const references = knot.fields.filter(({ type }) => type === 'reference');
  for (const field of references) checkReference(field, report);
  for (const field of knot.fields)
    if (field.type !== 'reference' && field.refersTo !== undefined)
      report(`fields.${field.id}`, 'only a field of type reference leads to another knot');
  for (const { id, archivedWith, refersTo } of knot.fields)
    if (archivedWith && refersTo === undefined)
      report(`fields.${id}.archivedWith`, 'it refers to nothing: say to which knot first');
  const levels = knot.fields.filter((field) => field.levels);
  for (const field of levels)
    if (field.refersTo !== knot.id)
      report(`fields.${field.id}.levels`, 'things stand under things of their own knot: let it refer to this one');
  for (const field of levels.slice(1))
    report(`fields.${field.id}.levels`, `“${levels[0]?.name}” says already what stands under what`);
  const isReference = (id: FieldId): boolean => references.some((field) => field.id === id);
  if (isReference(knot.titleField)) report('titleField', 'a reference names another thing: choose a field of its own');
  for (const { name, fields } of knot.keyRules)
    if (fields.some(({ field }) => isReference(field)))
      report(`keyRules.${name}`, 'records are not found by what they refer to: choose a field of their own');
  for (const [index, { name, fields }] of (knot.evidence?.fields ?? []).entries())
    if (fields.some(isReference)) report(`evidence.fields.${index}`, `“${name}” compares what records refer to`);
}

function checkReference(field: SharedField, report: Report): void {
  const at = `fields.${field.id}`;
  if (!field.refersTo) report(at, 'say to which knot it refers');
  if (field.formula !== undefined) report(`${at}.formula`, 'a formula gives no thing of another knot');
  if (field.rule.combine) report(`${at}.rule`, 'things cannot be combined: choose one of them by a rule');
  for (const [member, { steps, compare }] of Object.entries(field.mappings)) {
    const place = steps.findIndex(({ kind }) => kind === 'reference');
    if (place < 0) report(`${at}.mappings.${member}`, 'say how that system refers to it: by a key, or by a value');
    else if (place !== steps.length - 1)
      report(`${at}.mappings.${member}.steps.${place}`, 'the reference is the last step: put the others before it');
    if (compare) report(`${at}.mappings.${member}`, 'records are not compared by what they refer to');
  }
}

/**
 * The ways in which systems can refer to the things of a knot: by the key of a record of each member, and by the value
 * of each field that a key rule compares alone.
 */
export function referenceWays({ members, keyRules }: Pick<Knot, 'members' | 'keyRules'>): readonly ReferenceBy[] {
  const fields = keyRules.flatMap((rule) => (rule.fields.length === 1 ? rule.fields.map(({ field }) => field) : []));
  return [...members.map(({ id }) => ({ member: id })), ...[...new Set(fields)].map((field) => ({ field }))];
}

/** Whether the things of a knot can be referred to in a way. */
export function canRefer(knot: Pick<Knot, 'id' | 'members' | 'keyRules'>, by: ReferenceBy): boolean {
  return referenceWays(knot).some((way) => referenceKey(knot.id, way) === referenceKey(knot.id, by));
}
