import type { Correction, RecordToCorrect } from '@anchor-knot/contracts';
import {
  type CompiledMapping,
  type Raw,
  recordKey,
  recordKeyPath,
  type RecordName,
  type SourceRecord,
} from '@anchor-knot/core';
import type { Connector } from '@anchor-knot/connectors';
import type { LoadedKnot } from '../knots/knots.js';
import { fingerprintOf } from '../orchestration/fingerprint.js';
import type { SqlDatabase } from '../persistence/sql.js';
import { recordsOf } from '../persistence/tables/ties.js';
import { closeDecision, type DecisionRow, lockDecision } from '../persistence/tables/decisions.js';
import { noteCorrection } from '../persistence/tables/journal.js';

export type Corrected =
  | { readonly kind: 'corrected' }
  | { readonly kind: 'not found' }
  /** Nothing was written; `says` why. */
  | { readonly kind: 'not possible'; readonly says: string; readonly advice?: string };

/** The record that a decision is about, where it is about one that is there. */
export async function recordOfDecision(
  data: SqlDatabase,
  knot: LoadedKnot,
  decision: Pick<DecisionRow, 'kind' | 'anchor_id' | 'member' | 'record_key'>,
): Promise<RecordName | undefined> {
  const { member } = decision;
  if (member === null) return undefined;
  if (decision.record_key !== null) return { member, key: recordKey(decision.record_key) };
  if (decision.anchor_id === null) return undefined;
  const ties = await recordsOf(data, knot.id, [decision.anchor_id as never]);
  return [...ties.values()].flat().find((record) => record.member === member);
}

/**
 * A record as it stands in its system now, field by field, with what cannot be read and what it fails.
 * @throws {SystemTrouble}
 */
export async function recordToCorrect(
  knot: LoadedKnot,
  connector: Connector,
  { member, key }: RecordName,
): Promise<RecordToCorrect | undefined> {
  const record = await connector.readOne(key);
  if (!record) return undefined;
  const raws = knot.compiled.rawFields(member, record);
  const cannot = whyNot(knot, connector, member);
  return {
    member,
    key,
    version: versionOf(record, raws),
    fields: mappedFields(knot, member).map(({ id, name, mapping }) => {
      const raw = raws[id];
      const read = raw === undefined ? undefined : (mapping.comparing ?? mapping.lens).inbound(raw, undefined);
      return {
        id,
        name,
        path: mapping.field === recordKeyPath ? 'its key' : mapping.field,
        raw: (raw ?? null) as never,
        meaning: (read?.ok ? (read.value ?? null) : null) as never,
        reason: read && !read.ok ? read.reason : null,
        mayWrite: cannot === null && mapping.field !== recordKeyPath,
      };
    }),
    fails: [...knot.compiled.failedChecks(member, raws).says],
    cannot,
  };
}

/**
 * Writes what a person corrected into the record's own system, where it counts as an edit there: the next run reads it
 * again, and gives it to the others. Nothing is written that could still not be read, or of which the record would
 * still be rejected, or over a record that changed since the person saw it.
 * @throws {SystemTrouble} when nothing was tried
 */
export async function correct(
  data: SqlDatabase,
  knot: LoadedKnot,
  connector: Connector,
  decisionId: string,
  record: RecordName,
  { version, values }: Correction,
  person: string,
  now: Date,
): Promise<Corrected> {
  const present = await connector.readOne(record.key);
  if (!present) return { kind: 'not possible', says: `Record ${record.key} is not there any more.` };
  const raws = knot.compiled.rawFields(record.member, present);
  if (versionOf(present, raws) !== version)
    return {
      kind: 'not possible',
      says: 'The record was changed in its system since you saw it; nothing was written.',
      advice: 'Look at it as it is now.',
    };
  const cannot = whyNot(knot, connector, record.member);
  if (cannot !== null) return { kind: 'not possible', says: cannot };
  const mapped = new Map(mappedFields(knot, record.member).map((field) => [field.id, field]));
  const changes: { field: string; path: string; before: Raw | undefined; after: Raw }[] = [];
  for (const [id, value] of Object.entries(values)) {
    const field = mapped.get(id);
    if (!field || field.mapping.field === recordKeyPath)
      return { kind: 'not possible', says: `The field “${id}” cannot be changed there from here.` };
    const after = value as Raw;
    const read = field.mapping.lens.inbound(after, undefined);
    if (field.mapping.lens.reads && !read.ok)
      return { kind: 'not possible', says: `${field.name}: it could still not be read: ${read.reason}.` };
    changes.push({ field: id, path: field.mapping.field, before: raws[id], after });
  }
  if (changes.length === 0) return { kind: 'not possible', says: 'Nothing was changed.' };
  const corrected = { ...raws, ...Object.fromEntries(changes.map(({ field, after }) => [field, after])) };
  const { says } = knot.compiled.failedChecks(record.member, corrected);
  if (says.length > 0) return { kind: 'not possible', says: `It would still be rejected: ${says.join('; ')}.` };
  const [outcome] = await connector.write([
    {
      kind: 'update',
      key: record.key,
      version: present.version,
      fields: new Map(changes.map(({ path, after }) => [path, after])),
    },
  ]);
  switch (outcome?.kind) {
    case 'written':
      break;
    case 'refused':
      return { kind: 'not possible', says: `The system refused it: ${outcome.words}` };
    case 'raced':
      return { kind: 'not possible', says: 'The record was changed there in this moment; nothing was written.' };
    case 'gone':
      return { kind: 'not possible', says: `Record ${record.key} is not there any more.` };
    default:
      return {
        kind: 'not possible',
        says: `It is not known whether it was written: ${outcome?.words ?? 'no answer came'}.`,
        advice: 'Look at the record as it is now.',
      };
  }
  return data.transaction(async (db) => {
    const decision = await lockDecision(db, knot.id, decisionId);
    if (!decision) return { kind: 'not found' };
    await noteCorrection(db, knot, decision.anchor_id, record, changes, person, now);
    const choice = { choose: 'corrected', fingerprint: decision.fingerprint } as const;
    if (decision.closed_at === null) await closeDecision(db, decision.id, choice, person, now, undefined);
    return { kind: 'corrected' };
  });
}

/** By what it is told whether a record is as the person saw it: its version, or what it holds where there is none. */
const versionOf = ({ version }: SourceRecord, raws: Readonly<Record<string, Raw>>): string =>
  version ?? fingerprintOf(raws);

function whyNot({ definition }: LoadedKnot, connector: Connector, member: string): string | null {
  if (!connector.capabilities.update) return 'This system lets nobody change its records from here.';
  return definition.members.find(({ id }) => id === member)?.may.update
    ? null
    : 'The knot may not update records of this member: see its Members.';
}

function mappedFields(
  { compiled }: LoadedKnot,
  member: string,
): readonly { readonly id: string; readonly name: string; readonly mapping: CompiledMapping }[] {
  return compiled.fields.flatMap(({ id, name, mappings }) => {
    const mapping = mappings.get(member);
    return mapping ? [{ id, name, mapping }] : [];
  });
}
