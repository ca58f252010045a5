import {
  type Anchor,
  type AnchorId,
  type CompiledKnot,
  holdsWrite,
  type MemberId,
  type Operation,
  type RecordKey,
  type WriteResult,
} from '@anchor-knot/core';
import { type Connector, SystemTrouble, type WriteOutcome, type WriteRequest } from '@anchor-knot/connectors';
import pLimit from 'p-limit';
import { fingerprintOf, tieFingerprint } from './fingerprint.js';
import type { Installation } from './installation.js';
import type { Intent, OperationState } from './stored.js';
import type { MemberTrouble } from './runResult.js';

const callsAtOnce = 4;
const mostTries = 4;
const firstDelayMs = 200;

export interface WriteEnd {
  readonly intent: Intent;
  readonly state: Exclude<OperationState, 'planned'>;
  readonly result: WriteResult;
  readonly words?: string | undefined;
  readonly key?: RecordKey | undefined;
}

/** What a member's writes ended as. Trouble with the system ends them all: the rest is not done. */
export interface MemberWrites {
  readonly ends: readonly WriteEnd[];
  readonly trouble: MemberTrouble | undefined;
}

/**
 * Writes one member's operations: in batches where the system takes them, a few at a time elsewhere.
 * @param connector left out where the system could not be reached
 */
export async function writeMember(
  installation: Installation,
  knot: CompiledKnot,
  member: MemberId,
  connector: Connector | undefined,
  intents: readonly Intent[],
  anchors: ReadonlyMap<AnchorId, Anchor>,
  stopped: () => boolean,
): Promise<MemberWrites> {
  if (!connector)
    return { ends: intents.map((intent) => notDone(intent, 'it could not be reached')), trouble: undefined };
  let trouble: MemberTrouble | undefined;
  const isInOrder = knot.member(member).inOrderOf !== undefined;
  let isHeldUp = false;
  const attempt = async (batch: readonly Intent[]): Promise<WriteEnd[]> => {
    if (trouble || stopped()) return batch.map((intent) => notDone(intent, trouble?.words ?? 'the run was stopped'));
    if (isHeldUp) return batch.map((intent) => notDone(intent, 'one that comes before it could not be made yet'));
    try {
      const ends = await writeBatch(installation, knot, connector, batch, anchors);
      isHeldUp = isInOrder && ends.some(isCreationUndone);
      return ends;
    } catch (error) {
      if (!(error instanceof SystemTrouble)) throw error;
      trouble ??= { member, code: error.code, words: error.message, advice: error.advice };
      return batch.map((intent) => notDone(intent, error.message));
    }
  };
  const { batchSize } = connector.capabilities;
  const batches: Intent[][] = [];
  for (let at = 0; at < intents.length; at += batchSize) batches.push(intents.slice(at, at + batchSize));
  const limit = pLimit(isInOrder ? 1 : callsAtOnce);
  const ends = await Promise.all(batches.map((batch) => limit(() => attempt(batch))));
  return { ends: ends.flat(), trouble };
}

function isCreationUndone({ intent, state }: WriteEnd): boolean {
  return intent.operation.kind === 'create' && (state === 'not done' || state === 'unclear');
}

async function writeBatch(
  installation: Installation,
  knot: CompiledKnot,
  connector: Connector,
  batch: readonly Intent[],
  anchors: ReadonlyMap<AnchorId, Anchor>,
): Promise<WriteEnd[]> {
  const early: WriteEnd[] = [];
  const ready: Intent[] = [];
  for (const intent of batch) {
    const end = connector.capabilities.conditionalUpdate
      ? undefined
      : await lookBefore(knot, connector, intent, anchors);
    if (end) early.push(end);
    else ready.push(intent);
  }
  if (ready.length === 0) return early;
  const outcomes = await connector.write(ready.map(({ operation }) => requestOf(knot.id, operation)));
  const ends: WriteEnd[] = [];
  for (const [index, intent] of ready.entries())
    ends.push(await conclude(installation, knot, connector, intent, outcomes[index] as WriteOutcome));
  return [...early, ...ends];
}

/**
 * Where a system has no conditional write, the record is read again right before; the window between the two calls
 * remains.
 */
async function lookBefore(
  knot: CompiledKnot,
  connector: Connector,
  intent: Intent,
  anchors: ReadonlyMap<AnchorId, Anchor>,
): Promise<WriteEnd | undefined> {
  const { operation } = intent;
  if (operation.kind === 'create') return undefined;
  const tie = anchors.get(operation.anchor)?.ties.find(({ member }) => member === operation.member);
  const record = await connector.readOne(operation.key);
  if (!record) return { intent, state: 'gone', result: { kind: 'gone' } };
  if (tie && fingerprintOf(knot.rawFields(operation.member, record)) === tieFingerprint(tie)) return undefined;
  return { intent, state: 'raced', result: { kind: 'not done' } };
}

/** Follows an outcome to its end: what is unknown is looked up, and repeated only when it certainly did not happen. */
async function conclude(
  installation: Installation,
  knot: CompiledKnot,
  connector: Connector,
  intent: Intent,
  first: WriteOutcome,
): Promise<WriteEnd> {
  let outcome = first;
  for (let tries = 1; ; tries += 1) {
    switch (outcome.kind) {
      case 'written':
        return {
          intent,
          state: 'written',
          key: outcome.key,
          result: { kind: 'written', key: outcome.key, record: outcome.record },
        };
      case 'raced':
        return { intent, state: 'raced', result: { kind: 'not done' } };
      case 'gone':
        return { intent, state: 'gone', result: { kind: 'gone' } };
      case 'refused':
        return { intent, state: 'refused', words: outcome.words, result: { kind: 'refused', words: outcome.words } };
      case 'not done':
        if (tries >= mostTries) return notDone(intent, outcome.words);
        break;
      case 'unknown': {
        const end = await lookAfter(installation, knot, connector, intent);
        if (end.state !== 'not done' || tries >= mostTries) return end;
        break;
      }
      default:
        throw new Error(`unknown outcome ${JSON.stringify(outcome satisfies never)}`);
    }
    await installation.clock.sleep(firstDelayMs * 2 ** (tries - 1));
    outcome = (await connector.write([requestOf(knot.id, intent.operation)]))[0] as WriteOutcome;
  }
}

/**
 * Finds out whether a write took effect: by reading its record; for a creation by its idempotency key, the anchor's id
 * that it carries, or its match keys. What cannot be found out is for a person, never a blind repeat.
 */
export async function lookAfter(
  { store }: Installation,
  knot: CompiledKnot,
  connector: Connector,
  intent: Intent,
): Promise<WriteEnd> {
  const { operation } = intent;
  const written = (record: Awaited<ReturnType<Connector['readOne']>> & object): WriteEnd => ({
    intent,
    state: 'written',
    key: record.key,
    result: { kind: 'written', key: record.key, record },
  });
  if (operation.kind === 'archive' || operation.kind === 'delete') {
    // Done twice it is done still: what is there is removed again, and against the version that was read.
    const record = await connector.readOne(operation.key);
    if (!record) return { intent, state: 'gone', result: { kind: 'gone' } };
    if (operation.kind === 'archive' && operation.version !== undefined && record.version !== operation.version)
      return written(record);
    return notDone(intent, 'it did not take effect');
  }
  if (operation.kind === 'update' || operation.kind === 'write back') {
    const record = await connector.readOne(operation.key);
    if (!record) return { intent, state: 'gone', result: { kind: 'gone' } };
    if (holdsWrite(knot, operation, record)) return written(record);
    return operation.version !== undefined && record.version !== operation.version
      ? { intent, state: 'raced', result: { kind: 'not done' } }
      : notDone(intent, 'it did not take effect');
  }
  if (connector.capabilities.idempotentCreate) {
    const again = (await connector.write([requestOf(knot.id, operation)]))[0] as WriteOutcome;
    if (again.kind === 'written')
      return {
        intent,
        state: 'written',
        key: again.key,
        result: { kind: 'written', key: again.key, record: again.record },
      };
    if (again.kind === 'refused')
      return { intent, state: 'refused', words: again.words, result: { kind: 'refused', words: again.words } };
    return notDone(intent, 'it is not known yet');
  }
  const { carries } = knot.member(operation.member);
  const parted = operation.kind === 'create' ? operation.parted : undefined;
  const { searchable } = connector.capabilities;
  if (carries !== undefined && searchable.includes(carries)) {
    const found = (await connector.search(carries, operation.anchor)).filter(({ key }) => key !== parted);
    return found[0] ? written(found[0]) : notDone(intent, 'it did not take effect');
  }
  for (const change of keyChanges(knot, operation)) {
    if (!searchable.includes(change.path)) continue;
    const alike = (await connector.search(change.path, String(change.after))).filter(
      (record) => record.key !== parted && holdsWrite(knot, operation, record),
    );
    const free = alike.length === 0 ? [] : await untied(store, knot.id, operation.member, alike);
    if (free.length === 1) return written(free[0] as never);
    if (free.length === 0) return notDone(intent, 'it did not take effect');
    break;
  }
  return { intent, state: 'unclear', result: { kind: 'not done' }, words: 'nobody can tell whether it was created' };
}

/**
 * Whether a write that did not happen when it should have can be made later. Somebody may have made the record
 * meanwhile that was to be created: it is only where nothing has its key values, and that can be asked.
 */
export async function isStillWanted(knot: CompiledKnot, connector: Connector, operation: Operation): Promise<boolean> {
  if (operation.kind !== 'create') return true;
  const { searchable } = connector.capabilities;
  const asked = keyChanges(knot, operation).filter(({ path }) => searchable.includes(path));
  for (const { path, after } of asked) if ((await connector.search(path, String(after))).length > 0) return false;
  return asked.length > 0;
}

async function untied<T extends { readonly key: RecordKey }>(
  store: Installation['store'],
  knot: string,
  member: MemberId,
  records: readonly T[],
): Promise<T[]> {
  const heads = await store.tieHeads(
    knot,
    member,
    records.map(({ key }) => key),
  );
  return records.filter(({ key }) => !heads.has(key));
}

function keyChanges(knot: CompiledKnot, operation: Operation) {
  const fields = new Set(knot.keyRules.flatMap((rule) => rule.fields.map(({ field }) => field)));
  return operation.changes.filter(({ field }) => fields.has(field));
}

function requestOf(knot: string, operation: Operation): WriteRequest {
  const fields = new Map(operation.changes.map(({ path, after }) => [path, after]));
  if (operation.kind === 'update' || operation.kind === 'write back')
    return { kind: 'update', key: operation.key, version: operation.version, fields };
  if (operation.kind !== 'create') return { kind: operation.kind, key: operation.key, version: operation.version };
  if (operation.carries !== undefined) fields.set(operation.carries, operation.anchor);
  // A system that remembers the key gives the record of then, also where that was taken from the anchor since.
  const idempotencyKey = [knot, operation.anchor, operation.member, ...(operation.parted ? [operation.parted] : [])];
  return { kind: 'create', idempotencyKey: idempotencyKey.join('/'), fields };
}

function notDone(intent: Intent, words: string): WriteEnd {
  return { intent, state: 'not done', words, result: { kind: 'not done' } };
}
