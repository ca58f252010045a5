import { canRefer, type Knot, type KnotProblem, type ReferenceBy } from '@anchor-knot/core';
import type { Knots } from './knots.js';

/** What is wrong with the references of a definition, as far as the knots tell that they lead to. */
export async function referenceProblems(knots: Knots, definition: Knot): Promise<readonly KnotProblem[]> {
  const inForce = await knots.inForce(definition.id);
  const problems: KnotProblem[] = inForce ? [...changedReferences(inForce.definition, definition)] : [];
  for (const { id, refersTo, mappings } of definition.fields) {
    if (refersTo === undefined) continue;
    const target = refersTo === definition.id ? definition : (await knots.inForce(refersTo))?.definition;
    if (!target) {
      problems.push({ at: `fields.${id}.refersTo`, says: `no knot “${refersTo}” is in force here` });
      continue;
    }
    for (const [member, { steps }] of Object.entries(mappings)) {
      const step = steps.find(({ kind }) => kind === 'reference');
      const says = step?.kind === 'reference' ? problemOfWay(target, step.by) : undefined;
      if (says !== undefined) problems.push({ at: `fields.${id}.mappings.${member}`, says });
    }
  }
  return problems;
}

function problemOfWay(target: Knot, by: ReferenceBy): string | undefined {
  if (canRefer(target, by)) return undefined;
  return 'member' in by
    ? `${target.name} has no member “${by.member}”`
    : `nothing in ${target.name} is found by “${by.field}” alone: choose a field that is a key of its own there`;
}

/** What is agreed of a field is of one kind: of things of one knot, or of values. */
function changedReferences(before: Knot, after: Knot): readonly KnotProblem[] {
  return after.fields.flatMap(({ id, refersTo }) => {
    const known = before.fields.find((field) => field.id === id);
    if (!known || known.refersTo === refersTo) return [];
    const was = known.refersTo === undefined ? 'holds values' : `refers to “${known.refersTo}”`;
    return [{ at: `fields.${id}`, says: `it ${was} since it is in force: make a field of its own for what is new` }];
  });
}
