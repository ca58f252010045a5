import type { Anchor, Tie, TieEnd } from '../merge/index.js';
import {
  type FieldId,
  type Instant,
  isBlank,
  type MemberId,
  type Present,
  type Raw,
  type RecordKey,
  rawEqual,
  readPath,
  type Shared,
  showRaw,
  type SourceRecord,
} from '../record/index.js';
import type { Operation, RemoveOperation, UpdateOperation, WriteBackOperation } from './operation.js';
import { acknowledgedId, type CompiledKnot, outcomeStateId, recordKeyPath } from '../definition/index.js';

/** How a write ended, as the engine needs to know it. */
export type WriteResult =
  /** `record` is what the system then holds, when it said so or was asked and its version is the one our write made. */
  | { readonly kind: 'written'; readonly key: RecordKey; readonly record: SourceRecord | undefined }
  /** The system will not take it: it is not tried again until something changes. */
  | { readonly kind: 'refused'; readonly words: string }
  | { readonly kind: 'gone' }
  /** Not done: tried again in the next run. */
  | { readonly kind: 'not done' };

/**
 * The anchor after a write: step 8 of the merge. Seen becomes what the system then holds; after a write that did not
 * succeed it stays at the value that the merge read.
 * @param anchor as it is now: people may have changed it since the merge that planned the write
 * @param now from when on an acknowledgement is waited for
 */
export function afterWrite(
  knot: CompiledKnot,
  anchor: Anchor,
  operation: Operation,
  result: WriteResult,
  now: Instant,
): Anchor {
  switch (result.kind) {
    case 'written':
      switch (operation.kind) {
        case 'create':
          return withNews(knot, afterCreate(knot, anchor, operation, result, now), operation.member);
        case 'update': {
          const written = withTie(anchor, operation, (tie) => holding(knot, tie, operation, result.record, now));
          return withNews(knot, written, operation.member);
        }
        case 'write back':
          return withTie(anchor, operation, (tie) => told(knot, tie, operation, result.record));
        default:
          return withTie(anchor, operation, (tie) => removed(tie, operation, result.record));
      }
    case 'refused': {
      if (operation.kind === 'write back')
        return withTie(anchor, operation, (tie) => notToldBecause(tie, operation, result.words));
      const parked = { fingerprint: operation.fingerprint, words: result.words };
      if (operation.kind !== 'create') return withTie(anchor, operation, (tie) => ({ ...tie, parked }));
      return { ...anchor, parkedCreates: { ...anchor.parkedCreates, [operation.member]: parked } };
    }
    case 'gone':
      if (operation.kind === 'create') return anchor;
      return withTie(anchor, operation, (tie) => ({ ...tie, gone: true, end: endOfGone(knot, operation) }));
    case 'not done':
      return anchor;
    default:
      throw new Error(`unknown result ${JSON.stringify(result satisfies never)}`);
  }
}

/**
 * Gone already is as good as removed by us. Gone under an update, it was deleted while somebody edited elsewhere: what
 * follows is for a person to say, where anything would follow.
 */
function endOfGone(knot: CompiledKnot, { kind, member }: Exclude<Operation, { kind: 'create' }>): TieEnd {
  if (kind === 'archive' || kind === 'delete') return 'deleted';
  return (knot.member(member).whenDeleted ?? 'nothing') === 'nothing' ? 'keep others' : 'ask';
}

/**
 * The tie of a record that we put away or deleted: it neither gives nor receives any more, and nothing follows from it.
 */
function removed(tie: Tie, { kind }: RemoveOperation, record: SourceRecord | undefined): Tie {
  const { parked: _, ...rest } = tie;
  return {
    ...rest,
    gone: true,
    end: kind === 'archive' ? 'archived' : 'deleted',
    version: record ? record.version : tie.version,
  };
}

function afterCreate(
  knot: CompiledKnot,
  anchor: Anchor,
  operation: Operation,
  result: Extract<WriteResult, { kind: 'written' }>,
  now: Instant,
): Anchor {
  // Somebody tied another record there meanwhile: the new one is found as a duplicate when it is read.
  const known = anchor.ties.find(({ member }) => member === operation.member);
  if (known && known.end !== 'to be made anew') return anchor;
  const { [operation.member]: _, ...parkedCreates } = anchor.parkedCreates;
  const tie: Tie = { member: operation.member, key: result.key, seen: {}, ahead: {}, left: {} };
  const ties = [...anchor.ties.filter((one) => one !== known), holding(knot, tie, operation, result.record, now)];
  const parted = known && { parted: { ...anchor.parted, [known.member]: known.key } };
  return { ...anchor, parkedCreates, ties, ...parted };
}

/**
 * Only the fields that were written are taken from the answer: another field that differs there is somebody's edit,
 * made since we read, and must be found as one. Where the system changed what it was given, the write is parked,
 * or it would be repeated for ever.
 */
function holding(
  knot: CompiledKnot,
  tie: Tie,
  operation: Operation,
  record: SourceRecord | undefined,
  now: Instant,
): Tie {
  const { parked: _, ...rest } = tie;
  const holds = record ? knot.rawFields(tie.member, record) : {};
  const seen: Record<FieldId, Raw> = { ...tie.seen };
  const altered: [path: string, before: Raw, after: Raw][] = [];
  for (const { field, path, after, meaning } of operation.changes) {
    // An answer that says *empty* is an answer.
    const held = Object.hasOwn(holds, field) ? (holds[field] as Raw) : after;
    seen[field] = held;
    // Other fields that read the same place see our own write there, and not an edit.
    for (const other of knot.fields)
      if (other.id !== field && other.mappings.get(tie.member)?.field === path)
        seen[other.id] = Object.hasOwn(holds, other.id) ? (holds[other.id] as Raw) : after;
    if (!meaningOf(knot, tie.member, field, held, meaning)) altered.push([path, held, after]);
  }
  // What a new record was given by its system, defaults for instance, was not edited by anybody. Its key is none: it
  // is news, which the other members that hold it are told as soon as the record is read.
  if (operation.kind === 'create')
    for (const [field, raw] of Object.entries(holds))
      if (!Object.hasOwn(seen, field) && !isKey(knot, tie.member, field)) seen[field] = raw;
  const parked =
    altered.length === 0 ? {} : { parked: { fingerprint: JSON.stringify(altered), words: alteredWords(altered) } };
  const written = { ...rest, ...parked, version: record ? record.version : tie.version, seen };
  return awaiting(knot, written, now);
}

function isKey(knot: CompiledKnot, member: MemberId, field: FieldId): boolean {
  return knot.fields.find(({ id }) => id === field)?.mappings.get(member)?.field === recordKeyPath;
}

/** A system that says later that it has worked on what was written: until then it is waited for. */
function awaiting(knot: CompiledKnot, tie: Tie, now: Instant): Tie {
  const { acknowledges } = knot.member(tie.member);
  if (!acknowledges || tie.unacknowledgedSince !== undefined || !isBlank(tie.seen[acknowledgedId] ?? null)) return tie;
  return { ...tie, unacknowledgedSince: now };
}

/** Records of other members that are told of this one have something to be told. */
function withNews(knot: CompiledKnot, anchor: Anchor, of: MemberId): Anchor {
  const isTold = (member: MemberId): boolean =>
    knot.member(member).outcomes?.some((outcome) => outcome.of === of) === true;
  return {
    ...anchor,
    ties: anchor.ties.map((tie) =>
      isTold(tie.member)
        ? { ...tie, outcomes: { ...tie.outcomes, [of]: { ...tie.outcomes?.[of], isDue: true } } }
        : tie,
    ),
  };
}

/** Our own words, as the system holds them, are no sign that somebody set the record back. */
function told(knot: CompiledKnot, tie: Tie, { outcomes, changes }: WriteBackOperation, record?: SourceRecord): Tie {
  const holds = record ? knot.rawFields(tie.member, record) : {};
  const seen: Record<FieldId, Raw> = { ...tie.seen };
  for (const { of } of outcomes) {
    const id = outcomeStateId(of);
    const path = knot.member(tie.member).outcomes?.find((outcome) => outcome.of === of)?.state?.field;
    const written = changes.find((change) => change.path === path)?.after;
    if (written !== undefined) seen[id] = Object.hasOwn(holds, id) ? (holds[id] as Raw) : written;
  }
  const accounts = Object.fromEntries(outcomes.map(({ of, told: said }) => [of, { told: said }]));
  return { ...tie, seen, version: record ? record.version : tie.version, outcomes: { ...tie.outcomes, ...accounts } };
}

function notToldBecause(tie: Tie, { outcomes }: WriteBackOperation, refused: string): Tie {
  const accounts = Object.fromEntries(outcomes.map(({ of, told: said }) => [of, { told: { ...said, refused } }]));
  return { ...tie, outcomes: { ...tie.outcomes, ...accounts } };
}

function alteredWords(altered: readonly [path: string, before: Raw, after: Raw][]): string {
  return altered
    .map(
      ([path, held, after]) => `${path} was written as ${showRaw(after, 60)} and is kept there as ${showRaw(held, 60)}`,
    )
    .join('; ');
}

function meaningOf(knot: CompiledKnot, member: string, field: FieldId, raw: Raw, meaning: Shared): boolean {
  return (
    knot.fields
      .find(({ id }) => id === field)
      ?.mappings.get(member)
      ?.lens.means(raw, meaning) ?? true
  );
}

/**
 * The tie of the record that was written; it may be tied elsewhere by now, and then nothing is to be said of it here.
 */
function withTie(anchor: Anchor, { member, key }: WrittenRecord, change: (tie: Tie) => Tie): Anchor {
  return { ...anchor, ties: anchor.ties.map((tie) => (tie.member === member && tie.key === key ? change(tie) : tie)) };
}

type WrittenRecord = Pick<UpdateOperation | RemoveOperation | WriteBackOperation, 'member' | 'key'>;

/** Whether a record holds everything that an operation was to write there: how an interrupted write is judged. */
export function holdsWrite(knot: CompiledKnot, operation: Operation, record: SourceRecord): boolean {
  if (operation.kind === 'write back')
    return operation.changes.every(({ path, after }) => isSame(readPath(record.fields, path), after));
  const raws = knot.rawFields(operation.member, record);
  return operation.changes.every(({ field, after, meaning }) => {
    const raw = raws[field];
    return raw !== undefined && (rawEqual(raw, after) || meaningOf(knot, operation.member, field, raw, meaning));
  });
}

/** Whether a system holds what it was told, in whatever form it keeps it. */
function isSame(held: Present, told: Raw): boolean {
  if (isBlank(held ?? null)) return isBlank(told);
  return rawEqual(held, told) || (typeof held !== 'object' && String(held) === String(told));
}
