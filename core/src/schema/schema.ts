import type { FieldPath } from '../record/index.js';

export const sourceTypes = ['text', 'number', 'yes/no', 'date', 'instant', 'list', 'mixed', 'unknown'] as const;
/** What a field of a system holds, as that system says or as its records show. */
export type SourceType = (typeof sourceTypes)[number];

/** One field of an object, as it is known. What nobody said is left out. */
export interface SourceField {
  readonly path: FieldPath;
  readonly type: SourceType;
  readonly required?: boolean | undefined;
  readonly readOnly?: boolean | undefined;
  readonly choices?: readonly string[] | undefined;
  /** The object that its values are keys of. */
  readonly reference?: string | undefined;
  /** In characters. */
  readonly longest?: number | undefined;
}

/**
 * The fields of an object, in the system's order. `declared` when the system says so itself, `seen` when they were
 * found in its records.
 */
export interface SourceSchema {
  readonly origin: 'declared' | 'seen';
  readonly fields: readonly SourceField[];
}
