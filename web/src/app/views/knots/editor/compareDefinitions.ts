import type { KnotDefinition } from '@anchor-knot/contracts';

/** One difference between two definitions, at a path of names. */
export interface DefinitionChange {
  readonly at: string;
  readonly kind: 'added' | 'removed' | 'changed';
  readonly before?: string;
  readonly after?: string;
}

const longest = 120;

/**
 * What differs between two definitions. Lists whose items have an id or a name are compared by it, others as wholes.
 */
export function compareDefinitions(before: KnotDefinition, after: KnotDefinition): DefinitionChange[] {
  return compare('', before, after);
}

function compare(at: string, before: unknown, after: unknown): DefinitionChange[] {
  if (JSON.stringify(before) === JSON.stringify(after)) return [];
  const [left, right] = [parts(before), parts(after)];
  if (!left || !right) return [{ at, kind: 'changed', before: shown(before), after: shown(after) }];
  const below = (name: string): string => (at === '' ? name : `${at}.${name}`);
  const changes: DefinitionChange[] = [];
  for (const [name, value] of right) {
    if (!left.has(name)) changes.push({ at: below(name), kind: 'added', after: shown(value) });
    else changes.push(...compare(below(name), left.get(name), value));
  }
  for (const [name, value] of left)
    if (!right.has(name)) changes.push({ at: below(name), kind: 'removed', before: shown(value) });
  return changes.length > 0
    ? changes
    : [{ at, kind: 'changed', before: [...left.keys()].join(', '), after: [...right.keys()].join(', ') }];
}

/** What a value is compared by: the members of an object, the items of a list that have names. */
function parts(value: unknown): Map<string, unknown> | undefined {
  if (Array.isArray(value)) {
    const names = value.map((item: unknown) => nameOf(item));
    return names.every((name) => name !== undefined) && new Set(names).size === names.length
      ? new Map(value.map((item: unknown, index) => [names[index] as string, item]))
      : undefined;
  }
  return typeof value === 'object' && value !== null
    ? new Map(Object.entries(value).filter(([, item]) => item !== undefined))
    : undefined;
}

function nameOf(item: unknown): string | undefined {
  if (typeof item !== 'object' || item === null) return undefined;
  const { id, name, shared } = item as { id?: unknown; name?: unknown; shared?: unknown };
  return [id, shared, name].find((one): one is string => typeof one === 'string');
}

function shown(value: unknown): string {
  const name = nameOf(value);
  const text = name ?? (typeof value === 'string' ? value : JSON.stringify(value));
  return text.length > longest ? `${text.slice(0, longest - 1)}…` : text;
}
