import { compileStep, type Lens, makeLens, oneWayKinds, type Referring, type StepLens } from '../mapping/index.js';
import { type MemberId, notLookedUp, type References } from '../record/index.js';
import type { Knot, Mapping, SharedField } from './knot.js';
import type { KnotProblem } from './knotProblem.js';

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
