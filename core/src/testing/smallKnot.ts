import type { Knot, Mapping, Member, Rule } from '../definition/index.js';

export interface SmallKnot {
  readonly members: number;
  readonly rule: Rule;
  readonly start?: Knot['start'];
  readonly whenDeleted?: Member['whenDeleted'];
  readonly drift?: Mapping['drift'];
  /** How the last member takes part in the field f. */
  readonly last?: Mapping['direction'];
  readonly lastSteps?: Mapping['steps'];
}

/** A knot of two or three members with the fields f and g: small enough to try out every history of it. */
export function smallKnot({
  members: count,
  rule: given,
  start = 'merge',
  whenDeleted,
  drift,
  last,
  lastSteps,
}: SmallKnot): Knot {
  const ids = ['a', 'b', 'c'].slice(0, count);
  const mapping = (field: string, more: Partial<Mapping> = {}): Mapping => ({
    field,
    direction: 'both ways',
    steps: [],
    absentMeansBlank: false,
    blankAs: 'null',
    drift: drift ?? 'put back',
    ...more,
  });
  const each = (field: string, more: Partial<Mapping> = {}) =>
    Object.fromEntries(ids.map((id, index) => [id, mapping(field, index === count - 1 ? more : {})]));
  const rule: Rule = {
    ...given,
    steps: given.steps.map((step) => (step.step === 'order' ? { ...step, members: ids } : step)),
  };
  const order: Rule = { steps: [{ step: 'order', members: ids }] };
  return {
    id: 'small',
    name: 'Small',
    thing: 'thing',
    titleField: 'key',
    start,
    members: ids.map((id) => ({
      id,
      system: id,
      object: 'things',
      may: { create: true, update: true, delete: true, archive: true },
      startsAnchors: true,
      required: [],
      guards: {},
      whenDeleted,
    })),
    fields: [
      { id: 'key', name: 'Key', type: 'text', rule: order, mappings: each('key') },
      {
        id: 'f',
        name: 'F',
        type: rule.combine === 'text' ? 'note' : 'text',
        rule,
        mappings: each('f', { ...(last ? { direction: last } : {}), ...(lastSteps ? { steps: lastSteps } : {}) }),
      },
      { id: 'g', name: 'G', type: 'text', rule: order, mappings: each('g') },
    ],
    keyRules: [{ name: 'Key', fields: [{ field: 'key', normalise: 'text' }] }],
    checks: [],
    crosswalks: {},
  };
}
