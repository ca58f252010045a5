import type { Rule, RuleStep } from '../definition/index.js';
import type { FieldType, MemberId } from '../record/index.js';

/** Edits of a rule: each gives a new one and leaves the old one as it is. */

type Combine = NonNullable<Rule['combine']>;

/** The ways of combining edits that fit a type of field. */
export function combinesFor(type: FieldType): readonly Combine[] {
  switch (type) {
    case 'number':
      return ['sum'];
    case 'list':
      return ['union'];
    case 'note':
    case 'text':
      return ['text'];
    default:
      return [];
  }
}

/** A step as it begins. @param members of the knot, in their order */
export function newRuleStep(step: RuleStep['step'], members: readonly MemberId[]): RuleStep {
  return step === 'order' ? { step, members } : { step };
}

/** Steps that can still be added: each narrows once, and nothing comes behind *ask*. */
export function stepsToAdd(rule: Rule): readonly RuleStep['step'][] {
  const all: readonly RuleStep['step'][] = ['newest', 'order', 'present', 'longest', 'greatest', 'least', 'ask'];
  return all.filter((step) => !rule.steps.some((known) => known.step === step));
}

/** Adds a step: at the end, but before *ask*, which is always last. */
export function addRuleStep(rule: Rule, step: RuleStep): Rule {
  const asks = rule.steps.filter(isAsk);
  const others = rule.steps.filter((known) => !isAsk(known));
  return { ...rule, steps: isAsk(step) ? [...others, step] : [...others, step, ...asks] };
}

/** Takes a step away. A rule without any step asks. */
export function removeRuleStep(rule: Rule, place: number): Rule {
  const steps = rule.steps.filter((_, index) => index !== place);
  return { ...rule, steps: steps.length === 0 ? [{ step: 'ask' }] : steps };
}

/** Moves a step to another place; *ask* stays last. */
export function moveRuleStep(rule: Rule, from: number, to: number): Rule {
  const steps = [...rule.steps];
  const [moved] = steps.splice(from, 1);
  if (!moved) return rule;
  steps.splice(to, 0, moved);
  return { ...rule, steps: [...steps.filter((step) => !isAsk(step)), ...steps.filter(isAsk)] };
}

export function changeRuleStep(rule: Rule, place: number, step: RuleStep): Rule {
  return { ...rule, steps: rule.steps.map((known, index) => (index === place ? step : known)) };
}

/** The members in another order: one of them goes to another place. */
export function moveInOrder(members: readonly MemberId[], from: number, to: number): readonly MemberId[] {
  const moved = [...members];
  const [member] = moved.splice(from, 1);
  if (member === undefined) return members;
  moved.splice(to, 0, member);
  return moved;
}

/** A rule for a field of another type: what cannot be combined there is settled by its steps alone. */
export function ruleFor(type: FieldType, rule: Rule): Rule {
  if (rule.combine === undefined || combinesFor(type).includes(rule.combine)) return rule;
  const { combine: _, ...rest } = rule;
  return rest;
}

const isAsk = ({ step }: RuleStep): boolean => step === 'ask';
