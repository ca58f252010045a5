import { EntitySchema } from 'typeorm';
import type { KnotFile, Probe, RunCause, System } from '@anchor-knot/contracts';
import type { RunProgress, RunResult } from '../../orchestration/runResult.js';

/**
 * Rows of the tables that are read and written one at a time. The engine's hot tables are worked on in sets, by
 * `PostgresStore`.
 */
export interface SystemRow {
  id: string;
  name: string;
  description: System;
  pennant: { pattern: string; colour: string; letters: string };
  credential: Buffer | null;
  trouble: { code: string; words: string; advice: string } | null;
  checkedAt: Date | null;
  note: string;
  environment: 'production' | 'test copy';
  /** A day, `YYYY-MM-DD`. */
  accessEndsOn: string | null;
  /** As it was seen last; null where it has none. */
  certificateEndsAt: Date | null;
  certificateSeenAt: Date | null;
  revision: number;
  /** The id of the credential, which is no secret. */
  credentialId: string | null;
  probe: Probe | null;
  probedAt: Date | null;
  /** Of a consent, encrypted. */
  tokens: Buffer | null;
  consentBy: string | null;
  consentAt: Date | null;
  /** What was granted, in the words of the system; no secret. */
  consentScope: string | null;
  /** Where the system says so; and since when that is said. */
  consentEndsAt: Date | null;
  consentEndSaidAt: Date | null;
}
export const SystemEntity = new EntitySchema<SystemRow>({
  name: 'system',
  columns: {
    id: { type: 'text', primary: true },
    name: { type: 'text' },
    description: { type: 'json' },
    pennant: { type: 'jsonb' },
    credential: { type: 'bytea', nullable: true },
    trouble: { type: 'jsonb', nullable: true },
    checkedAt: { type: 'timestamptz', name: 'checked_at', nullable: true },
    note: { type: 'text' },
    environment: { type: 'text' },
    accessEndsOn: { type: 'date', name: 'access_ends_on', nullable: true },
    certificateEndsAt: { type: 'timestamptz', name: 'certificate_ends_at', nullable: true },
    certificateSeenAt: { type: 'timestamptz', name: 'certificate_seen_at', nullable: true },
    revision: { type: 'int' },
    credentialId: { type: 'text', name: 'credential_id', nullable: true },
    probe: { type: 'jsonb', nullable: true },
    probedAt: { type: 'timestamptz', name: 'probed_at', nullable: true },
    tokens: { type: 'bytea', nullable: true },
    consentBy: { type: 'text', name: 'consent_by', nullable: true },
    consentAt: { type: 'timestamptz', name: 'consent_at', nullable: true },
    consentScope: { type: 'text', name: 'consent_scope', nullable: true },
    consentEndsAt: { type: 'timestamptz', name: 'consent_ends_at', nullable: true },
    consentEndSaidAt: { type: 'timestamptz', name: 'consent_end_said_at', nullable: true },
  },
});

export interface KnotRow {
  id: string;
  name: string;
  versionInForce: number;
}
export const KnotEntity = new EntitySchema<KnotRow>({
  name: 'knot',
  columns: {
    id: { type: 'text', primary: true },
    name: { type: 'text' },
    versionInForce: { type: 'int', name: 'version_in_force' },
  },
});

export interface KnotVersionRow {
  knotId: string;
  version: number;
  definition: KnotFile['knot'];
  note: string;
  madeBy: string;
  madeAt: Date;
}
export const KnotVersionEntity = new EntitySchema<KnotVersionRow>({
  name: 'knot_version',
  columns: {
    knotId: { type: 'text', primary: true, name: 'knot_id' },
    version: { type: 'int', primary: true },
    definition: { type: 'jsonb' },
    note: { type: 'text' },
    madeBy: { type: 'text', name: 'made_by' },
    madeAt: { type: 'timestamptz', name: 'made_at', createDate: true },
  },
});

export interface RunRow {
  id: string;
  knotId: string;
  knotVersion: number;
  kind: 'run' | 'dry run';
  startedBy: string;
  cause: RunCause;
  startedAt: Date;
  endedAt: Date | null;
  state: RunResult['state'] | 'running' | 'missed';
  leaseUntil: Date;
  progress: RunProgress | null;
  troubles: RunResult['troubles'];
  guards: RunResult['guards'];
  words: string | null;
  quiet: boolean;
}
export const RunEntity = new EntitySchema<RunRow>({
  name: 'run',
  columns: {
    id: { type: 'uuid', primary: true },
    knotId: { type: 'text', name: 'knot_id' },
    knotVersion: { type: 'int', name: 'knot_version' },
    kind: { type: 'text' },
    startedBy: { type: 'text', name: 'started_by' },
    cause: { type: 'text' },
    quiet: { type: 'boolean' },
    startedAt: { type: 'timestamptz', name: 'started_at' },
    endedAt: { type: 'timestamptz', name: 'ended_at', nullable: true },
    state: { type: 'text' },
    leaseUntil: { type: 'timestamptz', name: 'lease_until' },
    progress: { type: 'jsonb', nullable: true },
    troubles: { type: 'jsonb' },
    guards: { type: 'jsonb' },
    words: { type: 'text', nullable: true },
  },
});

export interface UserRow {
  id: string;
  name: string;
  email: string;
  role: 'viewer' | 'operator' | 'editor' | 'administrator';
  passwordHash: string;
}
export const UserEntity = new EntitySchema<UserRow>({
  name: 'user_account',
  columns: {
    id: { type: 'uuid', primary: true },
    name: { type: 'text' },
    email: { type: 'text' },
    role: { type: 'text' },
    passwordHash: { type: 'text', name: 'password_hash' },
  },
});

export interface SessionRow {
  tokenHash: string;
  userId: string;
  expiresAt: Date;
}
export const SessionEntity = new EntitySchema<SessionRow>({
  name: 'session',
  columns: {
    tokenHash: { type: 'text', primary: true, name: 'token_hash' },
    userId: { type: 'uuid', name: 'user_id' },
    expiresAt: { type: 'timestamptz', name: 'expires_at' },
  },
});

export const entities = [SystemEntity, KnotEntity, KnotVersionEntity, RunEntity, UserEntity, SessionEntity];
