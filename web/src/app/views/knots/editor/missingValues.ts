import type { KnotDefinition, Reading } from '@anchor-knot/contracts';
import { fieldsThrough } from '@anchor-knot/core';
import { valueAt } from './recordTitle';

export interface MissingValue {
  readonly member: string;
  readonly value: string;
  readonly count: number;
}

/**
 * Values of the fields that a crosswalk translates, met in the records that were read and found in none of its rows;
 * the commonest first.
 */
export function missingValues(definition: KnotDefinition, table: string, reading: Reading | undefined): MissingValue[] {
  const rows = definition.crosswalks[table]?.rows ?? [];
  const missing = new Map<string, MissingValue>();
  for (const { id } of definition.members) {
    const known = new Set(rows.flatMap(({ values }) => (values[id] ?? []).map(String)));
    const paths = fieldsThrough(definition, table, id);
    for (const record of reading?.members.find((member) => member.id === id)?.sample ?? []) {
      for (const path of paths) {
        const value = valueAt(record, path);
        if (
          (typeof value !== 'string' && typeof value !== 'number' && typeof value !== 'boolean') ||
          String(value).trim() === '' ||
          known.has(String(value))
        )
          continue;
        const name = JSON.stringify([id, String(value)]);
        missing.set(name, { member: id, value: String(value), count: (missing.get(name)?.count ?? 0) + 1 });
      }
    }
  }
  return [...missing.values()].toSorted((a, b) => b.count - a.count || a.value.localeCompare(b.value));
}
