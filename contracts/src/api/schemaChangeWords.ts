import type { DeepReadonly } from './json.js';
import type { SchemaChange } from './systems.js';

/** One change of an object's fields, as a person would say it. */
export function changeWords(change: DeepReadonly<SchemaChange>): string {
  switch (change.kind) {
    case 'added':
      return `${change.field} is new (${change.type})`;
    case 'removed':
      return `${change.field} is gone`;
    case 'retyped':
      return `${change.field} was ${change.from} and is ${change.to}`;
    case 'choices':
      return `${change.field} ${[
        change.added.length > 0 && `can now be ${change.added.join(', ')}`,
        change.removed.length > 0 && `can no longer be ${change.removed.join(', ')}`,
      ]
        .filter(Boolean)
        .join(', and ')}`;
    case 'length':
      return change.to === undefined
        ? `${change.field} has no limit of length any more`
        : `${change.field} may have ${change.to} characters` +
            (change.from === undefined ? '' : `, no longer ${change.from}`);
    case 'reference':
      return change.to === undefined
        ? `${change.field} no longer points to ${change.from ?? ''}`
        : `${change.field} points to ${change.to}`;
    default:
      return `${change.field} is ${change.kind}`;
  }
}
