import type { CompiledKnot, Knot } from '../definition/index.js';
import type { Anchor, Cause, Held, TieEnd } from '../merge/index.js';
import {
  type AnchorId,
  type FieldId,
  type MemberId,
  type Raw,
  readPath,
  type RecordKey,
  recordKey,
  type Shared,
  type SourceRecord,
} from '../record/index.js';

/**
 * What can happen to a write: it succeeds; fails; is refused; somebody edits in between; the system keeps a part of
 * what it was given, nothing of it, or something else; its answer is lost and found out by looking; it is done twice;
 * its answer does not say what the system holds; the record is gone.
 */
export const writeFates = [
  'ok',
  'fails',
  'refused',
  'raced',
  'altered',
  'emptied',
  'replaced',
  'lost',
  'repeated',
  'silent',
] as const;
export type WriteFate = (typeof writeFates)[number];

/** A write that is on its way to a system. */
export interface PlayedWrite {
  readonly kind: 'create' | 'update' | 'archive' | 'delete' | 'write back';
  readonly member: MemberId;
  /** Unknown for a creation. */
  readonly key?: RecordKey | undefined;
  /** What it writes, by path. */
  readonly values?: ReadonlyMap<string, Raw> | undefined;
}

/** Where a record that was read is kept; every one of them is in exactly one place. */
export type Place = 'tied' | 'waiting' | 'rejected' | 'set aside' | 'outside the filter' | 'untied';

export type HeldField = Held & { readonly anchor: AnchorId };

/** What is known of a run when it has ended. */
export interface PlayedOutcome {
  readonly operations: readonly Pick<PlayedWrite, 'kind' | 'member'>[];
  readonly held: readonly HeldField[];
  readonly lost: readonly {
    readonly anchor: AnchorId;
    readonly member?: MemberId | undefined;
    readonly field: FieldId;
    readonly value: Shared;
  }[];
  /** What each of the passes left as agreed, in their order. */
  readonly settled: readonly {
    readonly anchor: AnchorId;
    readonly field: FieldId;
    readonly value: Shared;
    readonly why: Cause;
  }[];
  /** Of each record that was read, by its name. */
  readonly places: ReadonlyMap<string, readonly Place[]>;
}

export interface RunSettings<Write extends PlayedWrite = PlayedWrite> {
  /** How each write ends. */
  readonly fate?: (write: Write) => WriteFate;
  /** What somebody does to a record between our reading and our writing, where a write is raced. */
  readonly race?: (write: Write) => void;
  /** What people do while the run goes: after planning, or after a merge was stored and before its writes end. */
  readonly meanwhile?: (moment: 'planned' | 'writing') => void | Promise<void>;
  /** Members that cannot be read in this run. */
  readonly missing?: ReadonlySet<MemberId>;
}

/**
 * Something that a history can be played on: the world of the laws, a server with its database, or the command line on
 * files. What one of them cannot do (nobody decides in the middle of a command) does nothing there.
 */
export interface PlayedInstallation {
  /** The definition that is in force. */
  readonly knot: CompiledKnot;
  readonly now: number;
  /** What the systems hold. */
  readonly records: ReadonlyMap<MemberId, ReadonlyMap<RecordKey, SourceRecord>>;
  /** What is stored of things, as it was after the last run or act. */
  readonly anchors: ReadonlyMap<AnchorId, Anchor>;
  /** When each record was last read, by its name. */
  readonly readAt: ReadonlyMap<string, number>;
  /** Somebody edits a field of a record, or makes the record. */
  edit(member: MemberId, key: string, path: string, value: Raw): void;
  /** Somebody deletes a record. */
  delete(member: MemberId, key: string): void;
  /** A person chooses one of the values of a held field. @returns whether it was taken */
  settle(held: HeldField, value: Shared): boolean | Promise<boolean>;
  /** A person says what becomes of the others after a deletion. */
  sayWhatFollows(anchor: AnchorId, member: MemberId, end: TieEnd): void | Promise<void>;
  /** A person says that the record of a member is another thing. @returns whether that could be said */
  untie(anchor: AnchorId, member: MemberId): boolean | Promise<boolean>;
  /** A new version is put in force; while a run is under way, at its end. */
  putInForce(definition: Knot): void | Promise<void>;
  run(settings?: RunSettings): PlayedOutcome | Promise<PlayedOutcome>;
}

/** What a system holds in a field of a record. */
export function valueOf(
  { records }: Pick<PlayedInstallation, 'records'>,
  member: MemberId,
  key: string,
  path: string,
): Raw | undefined {
  return readPath(records.get(member)?.get(recordKey(key))?.fields ?? {}, path);
}

/** What a system makes of a value that it was given. The key it keeps. */
export function keptBySystem(fate: WriteFate, path: FieldId, value: Raw): Raw {
  if (path === 'key') return value;
  if (fate === 'emptied') return null;
  if (fate === 'replaced') return typeof value === 'number' ? 77 : 'other';
  return fate === 'altered' && typeof value === 'string' ? value.slice(0, 2) : value;
}
