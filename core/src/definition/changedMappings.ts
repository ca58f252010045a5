import type { FieldId, MemberId } from '../record/index.js';
import type { Knot } from './knot.js';

/**
 * The mappings that read another field of their member than before. What was seen through them says nothing of the new
 * field: their ties start as newcomers in that shared field, so that nothing looks edited.
 */
export function changedMappings(
  before: Knot,
  after: Knot,
): readonly { readonly member: MemberId; readonly fields: readonly FieldId[] }[] {
  return after.members.flatMap(({ id }) => {
    const fields = before.fields.flatMap((field) => {
      const old = field.mappings[id]?.field;
      const now = after.fields.find((one) => one.id === field.id)?.mappings[id]?.field;
      return old !== undefined && old !== now ? [field.id] : [];
    });
    return fields.length > 0 ? [{ member: id, fields }] : [];
  });
}
