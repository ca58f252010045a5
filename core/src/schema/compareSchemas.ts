import type { FieldPath } from '../record/index.js';
import type { SourceField, SourceSchema, SourceType } from './schema.js';

/** One difference between an object's schema then and now. */
export type SchemaChange =
  | { readonly kind: 'added'; readonly field: FieldPath; readonly type: SourceType }
  | { readonly kind: 'removed'; readonly field: FieldPath; readonly type: SourceType }
  | { readonly kind: 'retyped'; readonly field: FieldPath; readonly from: SourceType; readonly to: SourceType }
  | {
      readonly kind: 'now required' | 'no longer required' | 'now read-only' | 'no longer read-only';
      readonly field: FieldPath;
    }
  | {
      readonly kind: 'choices';
      readonly field: FieldPath;
      readonly added: readonly string[];
      readonly removed: readonly string[];
    }
  | {
      readonly kind: 'length';
      readonly field: FieldPath;
      readonly from: number | undefined;
      readonly to: number | undefined;
    }
  | {
      readonly kind: 'reference';
      readonly field: FieldPath;
      readonly from: string | undefined;
      readonly to: string | undefined;
    };

/**
 * What changed between two schemas of one object, in the order of fields: what was removed last. Fields are known by
 * their path; a renamed field is one that was removed and one that was added.
 */
export function compareSchemas(before: SourceSchema, after: SourceSchema): readonly SchemaChange[] {
  const known = new Map(before.fields.map((field) => [field.path, field]));
  const changes: SchemaChange[] = [];
  for (const field of after.fields) {
    const old = known.get(field.path);
    known.delete(field.path);
    if (old) changes.push(...compareFields(old, field));
    else changes.push({ kind: 'added', field: field.path, type: field.type });
  }
  for (const { path, type } of known.values()) changes.push({ kind: 'removed', field: path, type });
  return changes;
}

function compareFields(before: SourceField, after: SourceField): SchemaChange[] {
  const field = after.path;
  const changes: SchemaChange[] = [];
  // A field that was always empty has no type yet; having one now is no change that anybody made.
  if (before.type !== after.type && before.type !== 'unknown' && after.type !== 'unknown')
    changes.push({ kind: 'retyped', field, from: before.type, to: after.type });
  if (Boolean(before.required) !== Boolean(after.required))
    changes.push({ kind: after.required ? 'now required' : 'no longer required', field });
  if (Boolean(before.readOnly) !== Boolean(after.readOnly))
    changes.push({ kind: after.readOnly ? 'now read-only' : 'no longer read-only', field });
  const [had, has] = [new Set(before.choices), new Set(after.choices)];
  const added = [...has].filter((choice) => !had.has(choice));
  const removed = [...had].filter((choice) => !has.has(choice));
  if (added.length + removed.length > 0) changes.push({ kind: 'choices', field, added, removed });
  if (before.longest !== after.longest)
    changes.push({ kind: 'length', field, from: before.longest, to: after.longest });
  if (before.reference !== after.reference)
    changes.push({ kind: 'reference', field, from: before.reference, to: after.reference });
  return changes;
}
