import type { Knot } from '../definition/index.js';
import type { Scalar } from '../mapping/index.js';
import type { FieldPath, MemberId } from '../record/index.js';

/** What a system writes for the values that a crosswalk translates. */
export type ValueKind = 'text' | 'number' | 'yes/no';

/** What values are, all of them alike; text where they differ. @returns `undefined` where there is none */
export function kindOfValues(values: readonly Scalar[]): ValueKind | undefined {
  if (values.length === 0) return undefined;
  if (values.every((value) => typeof value === 'number')) return 'number';
  return values.every((value) => typeof value === 'boolean') ? 'yes/no' : 'text';
}

/**
 * A value as somebody typed it, in the form that the system has it: `7` is a number where numbers stand there. What is
 * written in another way than its number would be (`007`, `1.50`) stays text.
 */
export function typedValue(text: string, kind: ValueKind): Scalar {
  if (kind === 'number' && text !== '' && String(Number(text)) === text) return Number(text);
  if (kind === 'yes/no' && (text === 'true' || text === 'false')) return text === 'true';
  return text;
}

/** Fields of a member that are read through a crosswalk. */
export function fieldsThrough({ fields }: Pick<Knot, 'fields'>, table: string, member: MemberId): FieldPath[] {
  return fields.flatMap(({ mappings }) => {
    const mapping = mappings[member];
    const first = mapping?.steps[0];
    return mapping && mapping.direction !== 'to' && first?.kind === 'crosswalk' && first.table === table
      ? [mapping.field]
      : [];
  });
}
