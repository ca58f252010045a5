import type { Raw } from './raw.js';

declare const brand: unique symbol;
type Branded<T, Name extends string> = T & { readonly [brand]: Name };

/** The key of a record in its system, as text. */
export type RecordKey = Branded<string, 'RecordKey'>;
/** The id of an anchor; never shown to other systems except where a member carries it. */
export type AnchorId = Branded<string, 'AnchorId'>;
/** The id of a member within its knot. */
export type MemberId = string;
/** The id of a shared field within its knot. */
export type FieldId = string;
/** Milliseconds since 1970-01-01T00:00:00Z. */
export type Instant = number;

export const recordKey = (text: string): RecordKey => text as RecordKey;
export const anchorId = (text: string): AnchorId => text as AnchorId;

/** One record as a system gave it. */
export interface SourceRecord {
  readonly key: RecordKey;
  readonly fields: Readonly<Record<string, Raw>>;
  /** What the system compares on a conditional write (an ETag, RFC 9110 section 8.8.3), where it has one. */
  readonly version?: string;
  /** When the record was last changed, by the system's own clock. */
  readonly modifiedAt?: Instant;
}
