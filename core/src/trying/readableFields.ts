import { compileMapping, type Knot, type ReadableField } from '../definition/index.js';
import type { MemberId } from '../record/index.js';

/** The mappings of a member that can be used as they stand; a definition that is tried may be unfinished elsewhere. */
export function readableFields(knot: Pick<Knot, 'fields' | 'crosswalks'>, member: MemberId): readonly ReadableField[] {
  return knot.fields.flatMap((field): ReadableField[] => {
    const mapping = field.mappings[member];
    if (!mapping) return [];
    const { lens, comparing, problems } = compileMapping(field, member, mapping, knot.crosswalks);
    return problems.length === 0 ? [{ field: field.id, mapping, lens, comparing }] : [];
  });
}
