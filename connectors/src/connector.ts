import type { NewFieldType } from '@anchor-knot/contracts';
import type { FieldPath, Instant, Raw, RecordKey, SourceRecord, SourceSchema } from '@anchor-knot/core';

/** What time it is, and a way to wait: by argument, so that simulations run on a clock of their own. */
export interface Clock {
  now(): Instant;
  /** Ends after that many milliseconds, or at once when the signal is aborted. */
  sleep(milliseconds: number, signal?: AbortSignal): Promise<void>;
}

/** What a system can do with an object; the orchestrator relies on nothing that is not declared here. */
export interface Capabilities {
  /** Most records in one call of {@link Connector.write}. */
  readonly batchSize: number;
  /** An update can be made to depend on the version that was read. */
  readonly conditionalUpdate: boolean;
  /** A repeated create with the same idempotency key makes no second record. */
  readonly idempotentCreate: boolean;
  /** Records can be asked for that changed since a time. */
  readonly changesSince: boolean;
  /** Fields by which records can be searched. */
  readonly searchable: readonly FieldPath[];
  /** Records can be made there. */
  readonly create: boolean;
  /** Records can be changed there. */
  readonly update: boolean;
  /** Records can be put away there, and stay readable. */
  readonly archive: boolean;
  /** Records can be deleted there. */
  readonly delete: boolean;
  /** What was deleted is told in what changed since a time. */
  readonly tombstones: boolean;
  /** It tells by itself when records are made or changed. */
  readonly webhooks: boolean;
  /** Fields can be added to the object there. */
  readonly createField: boolean;
  /** A listing is held in memory whole while it is read: such members are read one after another. */
  readonly heldWhole?: boolean;
  /** Several records are written by one call that holds all of them: one worker at a time may write. */
  readonly writtenTogether?: boolean;
}

/** Something in the place of a record that is none. */
export interface UnusableRecord {
  readonly reason: string;
  /** Where it stands, of what comes in files. */
  readonly file?: string;
  /** From 1. */
  readonly line?: number;
}

/** A part of a record set. */
export interface Page {
  readonly records: readonly SourceRecord[];
  /** Records that could not be taken, with the reason; the others of the page are good. */
  readonly unusable: readonly UnusableRecord[];
  /** The file that was read, of systems whose records come in several. */
  readonly file?: string;
  /** Records that the system says were deleted; only where it declares tombstones. */
  readonly gone?: readonly RecordKey[];
  /** Of rows within records: beginnings of keys of which all records are in this page, so that others are gone. */
  readonly wholeUnder?: readonly string[];
}

export type WriteRequest =
  | { readonly kind: 'create'; readonly idempotencyKey: string; readonly fields: ReadonlyMap<FieldPath, Raw> }
  | {
      readonly kind: 'update';
      readonly key: RecordKey;
      readonly version: string | undefined;
      readonly fields: ReadonlyMap<FieldPath, Raw>;
    }
  /** Only where it is declared. */
  | { readonly kind: 'archive'; readonly key: RecordKey; readonly version: string | undefined }
  | { readonly kind: 'delete'; readonly key: RecordKey; readonly version: string | undefined };

export type WriteOutcome =
  /** Without a record where the system does not give it back, or deleted it. */
  | { readonly kind: 'written'; readonly key: RecordKey; readonly record: SourceRecord | undefined }
  /** The record changed since it was read: read and merge again. */
  | { readonly kind: 'raced' }
  | { readonly kind: 'gone' }
  /** The system will not take this record; `words` are its own. */
  | { readonly kind: 'refused'; readonly words: string }
  /** Nobody knows whether it took effect (the connection broke, the server failed): look before repeating. */
  | { readonly kind: 'unknown'; readonly words: string }
  /** It certainly took no effect, and may be tried again later. */
  | { readonly kind: 'not done'; readonly words: string };

/** The object of one system, ready to be read and written. */
export interface Connector {
  readonly capabilities: Capabilities;
  /**
   * All records, or those changed since a time (by the system's clock, inclusive), page by page. A record may come
   * twice.
   * @throws {SystemTrouble} when the system cannot be read any further
   */
  read(options: {
    readonly changedSince?: Instant | undefined;
    readonly signal?: AbortSignal | undefined;
  }): AsyncIterable<Page>;
  /** One record by its key; `undefined` when the system says that there is none. @throws {SystemTrouble} */
  readOne(key: RecordKey): Promise<SourceRecord | undefined>;
  /**
   * All records whose keys begin so; only of rows within records, which are told of by whose they are. @throws
   * {SystemTrouble}
   */
  readUnder?(beginning: string): Promise<Page>;
  /** Records whose field equals the value; only for fields declared searchable. @throws {SystemTrouble} */
  search(field: FieldPath, value: string): Promise<readonly SourceRecord[]>;
  /** Writes a batch: one outcome per request, in order. @throws {SystemTrouble} when nothing of it was tried */
  write(requests: readonly WriteRequest[]): Promise<readonly WriteOutcome[]>;
  /** The object's fields in the system's own words; `undefined` when it does not say. @throws {SystemTrouble} */
  describe(): Promise<SourceSchema | undefined>;
  /**
   * What the system itself says that this account may write here; `undefined` where it does not say. @throws
   * {SystemTrouble}
   */
  rights?(): Promise<{ readonly create: boolean; readonly update: boolean } | undefined>;
  /**
   * Adds a field to the object; only where that is declared. @returns the path under which it is found in records.
   * @throws {SystemTrouble}
   */
  createField?(name: string, type: NewFieldType): Promise<FieldPath>;
  /**
   * Whether there can be anything to read, at little cost: a text that is another one whenever something has changed.
   * @returns `undefined` while somebody is still writing
   * @throws {SystemTrouble}
   */
  look?(): Promise<string | undefined>;
  /** How far the system's clock is ahead of ours, in milliseconds; 0 until measured. */
  clockOffset(): number;
  close(): Promise<void>;
}

export type TroubleCode =
  | 'unreachable'
  | 'sign-in refused'
  | 'not allowed'
  | 'object is gone'
  | 'too many calls'
  | 'server error'
  | 'answer not understood'
  | 'file problem';

/**
 * A system, or one of its objects, cannot be worked with as described. The message says what happened, with the
 * system's
 * own words where it sent any; `advice` says what can be done; `code` is what programs tell troubles apart by. When one
 * record is refused, that is a {@link WriteOutcome} instead.
 */
export class SystemTrouble extends Error {
  readonly code: TroubleCode;
  readonly advice: string;
  constructor(code: TroubleCode, message: string, advice: string, options?: ErrorOptions) {
    super(message, options);
    this.name = 'SystemTrouble';
    this.code = code;
    this.advice = advice;
  }
}
