import { createHash } from 'node:crypto';
import type { DataSource, EntityManager } from 'typeorm';
import { type AnchorId, anchorId, type MemberId, type RecordKey, recordKey } from '@anchor-knot/core';
import { isOpen } from '../orchestration/planAnchors.js';
import {
  type DecisionDraft,
  decisionIdentity,
  type Intent,
  type JournalRow,
  LeaseLost,
  type MemberCursor,
  type Outcomes,
  type OutsideRecord,
  type PlanEntry,
  type RecordRef,
  type RunLease,
  type RunProgress,
  type RunRequest,
  type RunResult,
  type StagedRecord,
  type Store,
  type StoredAnchor,
  type TieHead,
} from '../orchestration/store.js';
import { anchorFromRows, type AnchorRow, type TieRow, tieToRow } from './rows.js';

const newcomersAtOnce = 5000;
const leastId = '00000000-0000-0000-0000-000000000000';
/** From that many new records on, the planner must know of them before they are walked through in order. */
const worthAnalysing = 5000;

interface AnchorSave {
  readonly anchor: Outcomes['anchors'][number]['anchor'];
  readonly open: boolean;
  readonly title: string;
  readonly keys: PlanEntry['keys'];
}

/** The store in PostgreSQL. Everything is done in sets: the number of statements does not depend on the number of records. */
export class PostgresStore implements Store {
  readonly #data: DataSource;
  /** Called with the run's id whenever its row has changed, inside the transaction. */
  readonly #channel = 'anchor_knot_run';

  constructor(data: DataSource) {
    this.#data = data;
  }

  async beginRun(request: RunRequest): Promise<RunLease | undefined> {
    return this.#data.transaction(async (db) => {
      // One at a time per knot: the row of the knot is the lock.
      await db.query('select 1 from knot where id = $1 for update', [request.knot]);
      const [open] = (await db.query('select id, lease_until from run where knot_id = $1 and ended_at is null', [request.knot])) as { id: string; lease_until: Date }[];
      if (open && open.lease_until.getTime() > request.now) return undefined;
      if (open) {
        await db.query(`update run set ended_at = $2, state = 'failed', words = 'the worker stopped in the middle; the next run took up where it stood' where id = $1`, [
          open.id,
          new Date(request.now),
        ]);
        await db.query('select pg_notify($1, $2)', [this.#channel, open.id]);
      }
      await db.query('delete from staged_record where run_id in (select id from run where knot_id = $1)', [request.knot]);
      await db.query('delete from plan_entry where run_id in (select id from run where knot_id = $1)', [request.knot]);
      const [{ token }] = (await db.query('select coalesce(max(token), 0) + 1 as token from run where knot_id = $1', [request.knot])) as [{ token: string }];
      await db.query(`insert into run (id, knot_id, knot_version, kind, started_by, started_at, token, lease_until) values ($1, $2, $3, $4, $5, $6, $7, $8)`, [
        request.run,
        request.knot,
        request.knotVersion,
        request.kind,
        request.startedBy,
        new Date(request.now),
        token,
        new Date(request.now + request.leaseMs),
      ]);
      await db.query('select pg_notify($1, $2)', [this.#channel, request.run]);
      return { run: request.run, knot: request.knot, token: Number(token) };
    });
  }

  async renewLease(lease: RunLease, now: number, leaseMs: number): Promise<{ stop: boolean }> {
    const [rows] = (await this.#data.query('update run set lease_until = $3 where id = $1 and token = $2 and ended_at is null returning stop_asked', [
      lease.run,
      lease.token,
      new Date(now + leaseMs),
    ])) as [{ stop_asked: boolean }[], number];
    if (!rows[0]) throw new LeaseLost(lease.run);
    return { stop: rows[0].stop_asked };
  }

  async saveProgress(lease: RunLease, progress: RunProgress): Promise<void> {
    await this.#leased(lease, async (db) => {
      await db.query('update run set progress = $2 where id = $1', [lease.run, JSON.stringify(progress)]);
      await db.query('select pg_notify($1, $2)', [this.#channel, lease.run]);
    });
  }

  async endRun(lease: RunLease, result: RunResult, cursors: ReadonlyMap<MemberId, MemberCursor>): Promise<void> {
    await this.#leased(lease, async (db) => {
      await db.query('update run set ended_at = $2, state = $3, progress = $4, troubles = $5, guards = $6, words = $7 where id = $1', [
        lease.run,
        new Date(result.now),
        result.state,
        JSON.stringify(result.progress),
        JSON.stringify(result.troubles),
        JSON.stringify(result.guards),
        result.words ?? null,
      ]);
      for (const [member, { changedSince, listedAt, knotVersion }] of cursors) {
        await db.query(
          `insert into member_cursor (knot_id, member, changed_since, listed_at, knot_version) values ($1, $2, $3, $4, $5)
           on conflict (knot_id, member) do update set changed_since = excluded.changed_since, listed_at = excluded.listed_at, knot_version = excluded.knot_version`,
          [lease.knot, member, Math.round(changedSince), Math.round(listedAt), knotVersion],
        );
      }
      await db.query('delete from staged_record where run_id = $1', [lease.run]);
      await db.query('delete from plan_entry where run_id = $1', [lease.run]);
      await db.query('select pg_notify($1, $2)', [this.#channel, lease.run]);
    });
  }

  async cursors(knot: string): Promise<ReadonlyMap<MemberId, MemberCursor>> {
    const rows = (await this.#data.query('select member, changed_since, listed_at, knot_version from member_cursor where knot_id = $1', [knot])) as {
      member: string;
      changed_since: string;
      listed_at: string;
      knot_version: number;
    }[];
    return new Map(rows.map((row) => [row.member, { changedSince: Number(row.changed_since), listedAt: Number(row.listed_at), knotVersion: row.knot_version }]));
  }

  async tieHeads(knot: string, member: MemberId, keys: readonly RecordKey[]): Promise<ReadonlyMap<RecordKey, TieHead>> {
    if (keys.length === 0) return new Map();
    const rows = (await this.#data.query('select record_key, anchor_id, fingerprint, version, gone from tie where knot_id = $1 and member = $2 and record_key = any($3::text[])', [
      knot,
      member,
      keys,
    ])) as Pick<TieRow, 'record_key' | 'anchor_id' | 'fingerprint' | 'version' | 'gone'>[];
    return new Map(
      rows.map((row) => [recordKey(row.record_key), { anchor: anchorId(row.anchor_id), fingerprint: row.fingerprint, version: row.version ?? undefined, gone: row.gone }]),
    );
  }

  async tieCounts(knot: string): Promise<ReadonlyMap<MemberId, number>> {
    const rows = (await this.#data.query('select member, count(*) as count from tie where knot_id = $1 and not gone group by member', [knot])) as {
      member: string;
      count: string;
    }[];
    return new Map(rows.map(({ member, count }) => [member, Number(count)]));
  }

  async tiedKeys(knot: string, member: MemberId, after: RecordKey | undefined, limit: number): Promise<readonly RecordKey[]> {
    const rows = (await this.#data.query('select record_key from tie where knot_id = $1 and member = $2 and not gone and record_key > $3 order by record_key limit $4', [
      knot,
      member,
      after ?? '',
      limit,
    ])) as { record_key: string }[];
    return rows.map(({ record_key }) => recordKey(record_key));
  }

  async markGone(lease: RunLease, member: MemberId, keys: readonly RecordKey[], at: number): Promise<void> {
    await this.#leased(lease, async (db) => {
      await db.query(
        `with gone as (update tie set gone = true where knot_id = $1 and member = $2 and record_key = any($3::text[]) and not gone returning anchor_id, record_key),
              opened as (update anchor set open = true, revision = revision + 1, changed_at = $5 from gone where anchor.id = gone.anchor_id)
         insert into journal (knot_id, run_id, anchor_id, member, record_key, kind, at) select $1, $4, anchor_id, $2, record_key, 'gone', $5 from gone`,
        [lease.knot, member, keys, lease.run, new Date(at)],
      );
    });
  }

  async outside(knot: string): Promise<readonly OutsideRecord[]> {
    const rows = (await this.#data.query('select member, record_key, reading, verdict from outside_record where knot_id = $1', [knot])) as {
      member: string;
      record_key: string;
      reading: OutsideRecord['reading'];
      verdict: OutsideRecord['verdict'] | null;
    }[];
    return rows.map(({ member, record_key, reading, verdict }) => ({ member, key: recordKey(record_key), reading, ...(verdict ? { verdict } : {}) }));
  }

  async stage(lease: RunLease, records: readonly StagedRecord[]): Promise<void> {
    await this.#leased(lease, (db) =>
      db.query(
        `insert into staged_record (run_id, member, record_key, anchor_id, reading)
         select $1, member, key, anchor, reading from jsonb_to_recordset($2::jsonb) as r(member text, key text, anchor uuid, reading jsonb)
         on conflict (run_id, member, record_key) do update set anchor_id = excluded.anchor_id, reading = excluded.reading`,
        [lease.run, JSON.stringify(records)],
      ),
    );
  }

  async *stagedNewcomers(lease: RunLease): AsyncIterable<readonly (RecordRef & { readonly reading: StagedRecord['reading'] })[]> {
    let after: readonly [string, string] = ['', ''];
    for (;;) {
      const rows = (await this.#data.query(
        `select member, record_key, reading from staged_record where run_id = $1 and anchor_id is null and (member, record_key) > ($2, $3 collate "C") order by member, record_key limit $4`,
        [lease.run, ...after, newcomersAtOnce],
      )) as { member: string; record_key: string; reading: StagedRecord['reading'] }[];
      const last = rows.at(-1);
      if (!last) return;
      yield rows.map(({ member, record_key, reading }) => ({ member, key: recordKey(record_key), reading }));
      if (rows.length < newcomersAtOnce) return;
      after = [last.member, last.record_key];
    }
  }

  async anchorsWithKeys(knot: string, keys: readonly (readonly [rule: number, key: string])[]) {
    if (keys.length === 0) return [];
    const wanted = new Map(keys.map(([rule, key]) => [`${rule}/${hashKey(key)}`, key]));
    const rows = (await this.#data.query(
      'select m.rule, m.key_hash, m.anchor_id from match_key m join unnest($2::smallint[], $3::text[]) as k(rule, key_hash) on m.rule = k.rule and m.key_hash = k.key_hash where m.knot_id = $1',
      [knot, keys.map(([rule]) => rule), keys.map(([, key]) => hashKey(key))],
    )) as { rule: number; key_hash: string; anchor_id: string }[];
    return rows.map(({ rule, key_hash, anchor_id }) => ({ rule, key: wanted.get(`${rule}/${key_hash}`) as string, anchor: anchorId(anchor_id) }));
  }

  async tiesOf(knot: string, anchors: readonly AnchorId[]) {
    const rows = (await this.#data.query('select anchor_id, member, record_key from tie where knot_id = $1 and anchor_id = any($2::uuid[])', [knot, anchors])) as {
      anchor_id: string;
      member: string;
      record_key: string;
    }[];
    return rows.map(({ anchor_id, member, record_key }) => ({ anchor: anchorId(anchor_id), member, key: recordKey(record_key) }));
  }

  async assign(lease: RunLease, records: readonly (RecordRef & { readonly anchor: AnchorId; readonly rule: string | undefined })[]): Promise<void> {
    await this.#leased(lease, (db) =>
      db.query(
        `update staged_record s set anchor_id = r.anchor, rule = r.rule from jsonb_to_recordset($2::jsonb) as r(member text, key text, anchor uuid, rule text)
         where s.run_id = $1 and s.member = r.member and s.record_key = r.key`,
        [lease.run, JSON.stringify(records)],
      ),
    );
    if (records.length >= worthAnalysing) await this.#data.query('analyze staged_record');
  }

  async saveOutside(lease: RunLease, records: readonly OutsideRecord[], decisions: readonly DecisionDraft[], at: number): Promise<void> {
    await this.#leased(lease, async (db) => {
      // A verdict that a person gave while the run was on is kept.
      const verdicts = (await db.query('select member, record_key as key, verdict from outside_record where knot_id = $1 and verdict is not null for update', [lease.knot])) as {
        member: string;
        key: string;
        verdict: string;
      }[];
      await db.query('delete from outside_record where knot_id = $1', [lease.knot]);
      await db.query(
        `insert into outside_record (knot_id, member, record_key, reading, verdict)
         select $1, r.member, r.key, r.reading, coalesce(v.verdict, r.verdict) from jsonb_to_recordset($2::jsonb) as r(member text, key text, reading jsonb, verdict text)
         left join jsonb_to_recordset($3::jsonb) as v(member text, key text, verdict text) on v.member = r.member and v.key = r.key`,
        [lease.knot, JSON.stringify(records), JSON.stringify(verdicts)],
      );
      await replaceDecisions(db, lease.knot, `(kind in ('duplicate', 'unsure match') or (kind = 'rejected' and anchor_id is null))`, [], decisions, at);
    });
  }

  async anchorsToMerge(lease: RunLease, after: AnchorId | undefined, limit: number): Promise<readonly AnchorId[]> {
    const rows = (await this.#data.query(
      `select id from (
         (select distinct anchor_id as id from staged_record where run_id = $1 and anchor_id > $3 order by 1 limit $4)
         union (select id from anchor where knot_id = $2 and open and id > $3 order by 1 limit $4)
       ) both_kinds order by id limit $4`,
      [lease.run, lease.knot, after ?? leastId, limit],
    )) as { id: string }[];
    return rows.map(({ id }) => anchorId(id));
  }

  async loadAnchors(_: RunLease, ids: readonly AnchorId[]): Promise<ReadonlyMap<AnchorId, StoredAnchor>> {
    const anchors = (await this.#data.query('select id, agreed, parked_creates, revision from anchor where id = any($1::uuid[])', [ids])) as AnchorRow[];
    const ties = (await this.#data.query('select * from tie where anchor_id = any($1::uuid[]) order by member', [ids])) as TieRow[];
    const byAnchor = groupBy(ties, ({ anchor_id }) => anchor_id);
    return new Map(anchors.map((row) => [anchorId(row.id), { anchor: anchorFromRows(row, byAnchor.get(row.id) ?? []), revision: row.revision }]));
  }

  async stagedFor(lease: RunLease, ids: readonly AnchorId[]) {
    const rows = (await this.#data.query(
      'select anchor_id, member, record_key, reading, rule from staged_record where run_id = $1 and anchor_id = any($2::uuid[]) order by member, record_key',
      [lease.run, ids],
    )) as {
      anchor_id: string;
      member: string;
      record_key: string;
      reading: StagedRecord['reading'];
      rule: string | null;
    }[];
    const staged = rows.map(({ anchor_id, member, record_key, reading, rule }) => ({
      anchor: anchorId(anchor_id),
      member,
      key: recordKey(record_key),
      reading,
      rule: rule ?? undefined,
    }));
    return groupBy(staged, ({ anchor }) => anchor);
  }

  async savePlan(lease: RunLease, entries: readonly PlanEntry[]): Promise<void> {
    await this.#leased(lease, async (db) => {
      await db.query(
        `insert into plan_entry (run_id, anchor_id, entry) select $1, (e->>'anchor')::uuid, e from jsonb_array_elements($2::jsonb) e on conflict (run_id, anchor_id) do update set entry = excluded.entry`,
        [lease.run, JSON.stringify(entries)],
      );
      const operations = entries.flatMap(({ title, operations: own }) =>
        own.map((operation) => ({ ...operation, title, key: operation.kind === 'update' ? operation.key : null })),
      );
      if (operations.length === 0) return;
      await db.query(
        `insert into plan_operation (run_id, anchor_id, member, kind, record_key, title, changes)
         select $1, anchor, member, kind, key, title, changes from jsonb_to_recordset($2::jsonb) as r(anchor uuid, member text, kind text, key text, title text, changes jsonb)`,
        [lease.run, JSON.stringify(operations)],
      );
    });
  }

  async planned(lease: RunLease, after: AnchorId | undefined, limit: number): Promise<readonly PlanEntry[]> {
    // From where the last batch ended: what was applied is deleted, and walking over deleted rows again and again would grow with their square.
    const rows = (await this.#data.query('select entry from plan_entry where run_id = $1 and anchor_id > $2 order by anchor_id limit $3', [
      lease.run,
      after ?? leastId,
      limit,
    ])) as { entry: PlanEntry }[];
    return rows.map(({ entry }) => entry);
  }

  async commitMerge(lease: RunLease, entries: readonly PlanEntry[], intents: readonly Intent[], journal: readonly JournalRow[], at: number): Promise<readonly AnchorId[]> {
    return this.#leased(lease, async (db) => {
      const ids = entries.map(({ anchor }) => anchor);
      await db.query('delete from plan_entry where run_id = $1 and anchor_id = any($2::uuid[])', [lease.run, ids]);
      const current = (await db.query('select id, revision from anchor where id = any($1::uuid[]) for update', [ids])) as { id: string; revision: number }[];
      const revisions = new Map(current.map(({ id, revision }) => [id, revision]));
      const applied = entries.filter(({ anchor, revision }) => (revisions.get(anchor) ?? 0) === revision);
      await this.#saveAnchors(
        db,
        lease,
        applied.map((entry) => ({ anchor: entry.after, open: entry.operations.length > 0 || isOpen(entry), title: entry.title, keys: entry.keys })),
        at,
      );
      const appliedIds = applied.map(({ anchor }) => anchor);
      await replaceDecisions(
        db,
        lease.knot,
        ofAnchors,
        [appliedIds],
        applied.flatMap(({ decisions }) => decisions),
        at,
      );
      const set = new Set(appliedIds);
      const stored = intents.filter(({ operation }) => set.has(operation.anchor));
      if (stored.length > 0) {
        await db.query(
          `insert into write_intent (id, knot_id, run_id, operation, stored_at) select id, $1, $2, operation, $4 from jsonb_to_recordset($3::jsonb) as r(id uuid, operation jsonb)`,
          [lease.knot, lease.run, JSON.stringify(stored), new Date(at)],
        );
      }
      await this.#writeJournal(
        db,
        lease,
        journal.filter(({ anchor }) => set.has(anchor)),
      );
      return appliedIds;
    });
  }

  async recordOutcomes(lease: RunLease, { anchors, writes, journal }: Outcomes, at: number): Promise<void> {
    await this.#leased(lease, async (db) => {
      await this.#saveAnchors(db, lease, anchors, at);
      await replaceDecisions(
        db,
        lease.knot,
        ofAnchors,
        [anchors.map(({ anchor }) => anchor.id)],
        anchors.flatMap(({ decisions }) => decisions),
        at,
      );
      await db.query('delete from write_intent where id = any($1::uuid[])', [writes.filter(({ state }) => state !== 'unclear').map(({ intent }) => intent)]);
      await db.query(
        `update plan_operation o set state = r.state, words = r.words, record_key = coalesce(r.key, o.record_key)
         from jsonb_to_recordset($2::jsonb) as r(anchor uuid, member text, state text, words text, key text)
         where o.run_id = $1 and o.anchor_id = r.anchor and o.member = r.member and o.state = 'planned'`,
        [lease.run, JSON.stringify(writes.map(({ operation, state, words, key }) => ({ anchor: operation.anchor, member: operation.member, state, words, key })))],
      );
      await this.#writeJournal(db, lease, journal);
    });
  }

  async openIntents(knot: string): Promise<readonly Intent[]> {
    const rows = (await this.#data.query('select id, operation, stored_at, unclear from write_intent where knot_id = $1 order by stored_at, id', [knot])) as {
      id: string;
      operation: Intent['operation'];
      stored_at: Date;
      unclear: boolean;
    }[];
    return rows.map(({ id, operation, stored_at, unclear }) => ({ id, operation, storedAt: stored_at.getTime(), unclear }));
  }

  async markUnclear(lease: RunLease, intents: readonly string[]): Promise<void> {
    await this.#leased(lease, (db) => db.query('update write_intent set unclear = true where id = any($1::uuid[])', [intents]));
  }

  async saveRunDecisions(lease: RunLease, decisions: readonly DecisionDraft[], at: number): Promise<void> {
    await this.#leased(lease, (db) => replaceDecisions(db, lease.knot, `kind = 'guard'`, [], decisions, at));
  }

  /** A transaction that holds the lease: the run's row is locked, so nobody can take the run over half-way. */
  async #leased<T>(lease: RunLease, work: (db: EntityManager) => Promise<T>): Promise<T> {
    return this.#data.transaction(async (db) => {
      const rows = (await db.query('select 1 from run where id = $1 and token = $2 and ended_at is null for no key update', [lease.run, lease.token])) as unknown[];
      if (rows.length === 0) throw new LeaseLost(lease.run);
      return work(db);
    });
  }

  async #saveAnchors(db: EntityManager, lease: RunLease, saves: readonly AnchorSave[], at: number): Promise<void> {
    if (saves.length === 0) return;
    const rows = saves.map(({ anchor, open, title }) => ({ id: anchor.id, title: title.slice(0, 500), agreed: anchor.agreed, parked_creates: anchor.parkedCreates, open }));
    await db.query(
      `insert into anchor (id, knot_id, title, agreed, parked_creates, open, revision, changed_at)
       select id, $1, title, agreed, parked_creates, open, 1, $3 from jsonb_to_recordset($2::jsonb) as r(id uuid, title text, agreed jsonb, parked_creates jsonb, open boolean)
       on conflict (id) do update set title = excluded.title, agreed = excluded.agreed, parked_creates = excluded.parked_creates, open = excluded.open, revision = anchor.revision + 1, changed_at = excluded.changed_at`,
      [lease.knot, JSON.stringify(rows), new Date(at)],
    );
    await saveTies(
      db,
      lease.knot,
      saves.flatMap(({ anchor }) => anchor.ties.map((tie) => tieToRow(anchor.id, tie))),
    );
    const keys = saves.flatMap(({ anchor, keys: own }) => own.map(([rule, key]) => ({ rule, key_hash: hashKey(key), anchor_id: anchor.id })));
    await db.query(
      `with wanted as (select distinct rule, key_hash, anchor_id from jsonb_to_recordset($2::jsonb) as r(rule smallint, key_hash text, anchor_id uuid)),
            dropped as (delete from match_key m where m.anchor_id = any($3::uuid[]) and not exists (select 1 from wanted w where w.rule = m.rule and w.key_hash = m.key_hash and w.anchor_id = m.anchor_id))
       insert into match_key (knot_id, rule, key_hash, anchor_id) select $1, rule, key_hash, anchor_id from wanted on conflict do nothing`,
      [lease.knot, JSON.stringify(keys), saves.map(({ anchor }) => anchor.id)],
    );
  }

  async #writeJournal(db: EntityManager, lease: RunLease, rows: readonly JournalRow[]): Promise<void> {
    if (rows.length === 0) return;
    await db.query(
      `insert into journal (knot_id, run_id, anchor_id, member, record_key, kind, field, before, after, meaning, cause, knot_version, at)
       select $1, $2, anchor, member, key, kind, field, before, after, meaning, cause, (select knot_version from run where id = $2), to_timestamp(at / 1000.0)
       from jsonb_to_recordset($3::jsonb) as r(anchor uuid, member text, key text, kind text, field text, before jsonb, after jsonb, meaning jsonb, cause jsonb, at double precision)`,
      [lease.knot, lease.run, JSON.stringify(rows)],
    );
  }
}

export async function saveTies(db: EntityManager, knot: string, ties: readonly TieRow[]): Promise<void> {
  await db.query(
    `insert into tie (knot_id, member, record_key, anchor_id, seen, ahead, left_alone, rejected, parked, version, gone, fingerprint)
     select $1, member, record_key, anchor_id, seen, ahead, left_alone, nullif(rejected, 'null'), nullif(parked, 'null'), version, gone, fingerprint
     from jsonb_to_recordset($2::jsonb) as r(member text, record_key text, anchor_id uuid, seen jsonb, ahead jsonb, left_alone jsonb, rejected jsonb, parked jsonb, version text, gone boolean, fingerprint text)
     on conflict (knot_id, member, record_key) do update set anchor_id = excluded.anchor_id, seen = excluded.seen, ahead = excluded.ahead, left_alone = excluded.left_alone,
       rejected = excluded.rejected, parked = excluded.parked, version = excluded.version, gone = excluded.gone, fingerprint = excluded.fingerprint`,
    [knot, JSON.stringify(ties)],
  );
}

const ofAnchors = `anchor_id = any($2::uuid[]) and kind not in ('duplicate', 'unsure match', 'guard')`;

/** Open decisions of a scope become exactly the drafts: new ones open, known ones are brought up to date, the rest closes by itself. */
export async function replaceDecisions(
  db: EntityManager,
  knot: string,
  scope: string,
  parameters: readonly unknown[],
  drafts: readonly DecisionDraft[],
  at: number,
): Promise<void> {
  const identities = drafts.map(decisionIdentity);
  const next = parameters.length + 2;
  await db.query(`update decision set closed_at = $${next}, closed_by = null where knot_id = $1 and closed_at is null and ${scope} and not identity = any($${next + 1}::text[])`, [
    knot,
    ...parameters,
    new Date(at),
    identities,
  ]);
  if (drafts.length === 0) return;
  await db.query(
    `insert into decision (knot_id, identity, kind, anchor_id, member, record_key, field, says, detail, fingerprint, opened_at)
     select distinct on (identity) $1, identity, kind, anchor, member, key, field, says, detail, fingerprint, $3::timestamptz
     from jsonb_to_recordset($2::jsonb) as r(identity text, kind text, anchor uuid, member text, key text, field text, says text, detail jsonb, fingerprint text)
     on conflict (knot_id, identity) where closed_at is null do update set says = excluded.says, detail = excluded.detail, fingerprint = excluded.fingerprint`,
    [knot, JSON.stringify(drafts.map((draft, index) => ({ ...draft, identity: identities[index] }))), new Date(at)],
  );
}

function hashKey(key: string): string {
  return createHash('sha256').update(key).digest('base64url').slice(0, 27);
}

function groupBy<T, K>(items: readonly T[], keyOf: (item: T) => K): Map<K, T[]> {
  const groups = new Map<K, T[]>();
  for (const item of items) {
    const group = groups.get(keyOf(item));
    if (group) group.push(item);
    else groups.set(keyOf(item), [item]);
  }
  return groups;
}
