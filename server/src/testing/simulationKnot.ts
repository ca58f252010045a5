import type { Knot, Mapping } from '@anchor-knot/core';
import type { SimulatedSystemOptions } from './simulation.js';

const mapping = (field: string, more: Partial<Mapping> = {}): Mapping => ({
  field,
  direction: 'both ways',
  steps: [],
  absentMeansBlank: false,
  blankAs: 'null',
  drift: 'put back',
  ...more,
});
const members = ['crm', 'shop', 'list'];
const each = (make: (member: string) => Mapping) => Object.fromEntries(members.map((member) => [member, make(member)]));

/** Three members of different abilities; a rule that decides, one that asks, and a translation that loses something. */
export const simulationKnot: Knot = {
  id: 'customers',
  name: 'Customers',
  thing: 'customer',
  titleField: 'name',
  start: 'merge',
  checks: [],
  crosswalks: {},
  members: members.map((id) => ({
    id,
    system: id,
    object: 'things',
    may: { create: true, update: true },
    startsAnchors: true,
    required: [],
    ...(id === 'shop' ? { carries: 'reference' } : {}),
    guards: {},
  })),
  fields: [
    {
      id: 'email',
      name: 'Email',
      type: 'email',
      rule: { steps: [{ step: 'order', members }] },
      mappings: each(() => mapping('email')),
    },
    {
      id: 'name',
      name: 'Name',
      type: 'text',
      rule: { steps: [{ step: 'newest' }, { step: 'order', members }] },
      mappings: each((member) => mapping('name', member === 'shop' ? { steps: [{ kind: 'cut', length: 6 }] } : {})),
    },
    {
      id: 'limit',
      name: 'Limit',
      type: 'number',
      rule: { steps: [{ step: 'ask' }] },
      mappings: each(() => mapping('limit')),
    },
  ],
  keyRules: [{ name: 'Email', fields: [{ field: 'email', normalise: 'email' }] }],
};

/**
 * The CRM has versions and idempotency keys, the shop carries the anchor's id, the list can only be searched by email.
 */
export function simulationAbilities(member: string): SimulatedSystemOptions {
  return {
    conditionalUpdate: member === 'crm',
    idempotentCreate: member === 'crm',
    changesSince: member === 'crm',
    searchable: member === 'shop' ? ['reference', 'email'] : member === 'list' ? ['email'] : [],
    batchSize: member === 'list' ? 2 : 1,
  };
}
