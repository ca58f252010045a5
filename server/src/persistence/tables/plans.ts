import type { PlannedOperation } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';
import type { AnchorId } from '@anchor-knot/core';
import type { AnchorRange } from '../../orchestration/batch.js';
import type { RunLease } from '../../orchestration/lease.js';
import type { PlanEntry, WriteRecord } from '../../orchestration/stored.js';
import { type AgreedColumn, agreedFromColumn, agreedToColumn, greatestAnchor, leastAnchor } from '../rows.js';
import { fromJsonColumn, jsonColumn } from './jsonColumn.js';

/** An entry with its agreed values in their short form: most of an entry's length is in them. */
type EntryColumn = Omit<PlanEntry, 'after'> & {
  readonly after: Omit<PlanEntry['after'], 'agreed'> & { readonly agreed: AgreedColumn };
};

function entryToColumn(entry: PlanEntry): EntryColumn {
  return { ...entry, after: { ...entry.after, agreed: agreedToColumn(entry.after.agreed) } };
}
function entryFromColumn(entry: EntryColumn): PlanEntry {
  return { ...entry, after: { ...entry.after, agreed: agreedFromColumn(entry.after.agreed) } };
}

export async function savePlan(db: SqlConnection, { run }: RunLease, entries: readonly PlanEntry[]): Promise<void> {
  const operations = entries.flatMap(({ title, operations: own }) => own.map((operation) => ({ operation, title })));
  // What is planned anew is shown once.
  await db.query(
    `with shown as (delete from plan_operation where run_id = $1 and anchor_id = any($2::uuid[]) and state = 'planned'),
     kept as (
       insert into plan_entry (run_id, anchor_id, entry) select $1, * from unnest($2::uuid[], ${fromJsonColumn('$3')})
       on conflict (run_id, anchor_id) do update set entry = excluded.entry)
     insert into plan_operation (run_id, anchor_id, member, kind, record_key, title, changes)
     select $1, anchor, member, kind, key, title, changes::jsonb
     from unnest($4::uuid[], $5::text[], $6::text[], $7::text[], $8::text[], ${fromJsonColumn('$9')}) as r(anchor,
       member, kind, key, title, changes)`,
    [
      run,
      entries.map(({ anchor }) => anchor),
      jsonColumn(entries.map(entryToColumn)),
      operations.map(({ operation }) => operation.anchor),
      operations.map(({ operation }) => operation.member),
      operations.map(({ operation }) => operation.kind),
      operations.map(({ operation }) => (operation.kind === 'create' ? null : operation.key)),
      operations.map(({ title }) => title),
      jsonColumn(operations.map(({ operation }) => operation.changes)),
    ],
  );
}

/**
 * From where the last batch ended: what was applied is deleted, and walking over deleted rows again and again would
 * grow with their square.
 */
export async function planned(
  data: SqlConnection,
  { run }: RunLease,
  { after, upTo }: AnchorRange,
  limit: number,
): Promise<readonly PlanEntry[]> {
  const rows = (await data.query(
    `select entry from plan_entry where run_id = $1 and anchor_id > $2 and anchor_id <= $4
     order by anchor_id limit $3`,
    [run, after ?? leastAnchor, limit, upTo ?? greatestAnchor],
  )) as {
    entry: string;
  }[];
  return rows.map(({ entry }) => entryFromColumn(JSON.parse(entry) as EntryColumn));
}

export async function forgetPlanned(db: SqlConnection, { run }: RunLease, anchors: readonly AnchorId[]): Promise<void> {
  await db.query('delete from plan_entry where run_id = $1 and anchor_id = any($2::uuid[])', [run, anchors]);
}

/** What a run shows of its operations, after their writes. */
export async function recordStates(
  db: SqlConnection,
  { run }: RunLease,
  writes: readonly WriteRecord[],
): Promise<void> {
  if (writes.length === 0) return;
  await db.query(
    `update plan_operation o set state = r.state, words = r.words, record_key = coalesce(r.key, o.record_key)
     from unnest($2::uuid[], $3::text[], $4::text[], $5::text[], $6::text[]) as r(anchor, member, state, words, key)
     where o.run_id = $1 and o.anchor_id = r.anchor and o.member = r.member and o.state = 'planned'`,
    [
      run,
      writes.map(({ operation }) => operation.anchor),
      writes.map(({ operation }) => operation.member),
      writes.map(({ state }) => state),
      writes.map(({ words }) => words ?? null),
      writes.map(({ key }) => key ?? null),
    ],
  );
}

/** What became of the writes of a run, whichever workers made them. */
export async function writeCounts(db: SqlConnection, { run }: RunLease) {
  const rows = (await db.query(
    `select member, count(*) filter (where state = 'written')::int as written,
       count(*) filter (where state <> 'written')::int as failed
     from plan_operation where run_id = $1 and state <> 'planned' group by member`,
    [run],
  )) as { member: string; written: number; failed: number }[];
  return new Map(rows.map(({ member, ...counts }) => [member, counts]));
}

export interface OperationRow {
  readonly id: string;
  readonly anchor_id: string;
  readonly title: string;
  readonly member: string;
  readonly kind: PlannedOperation['kind'];
  readonly record_key: string | null;
  readonly state: string;
  readonly words: string | null;
  readonly changes: PlannedOperation['changes'];
}

/** Which operations of a run are looked for; what is left out does not matter. */
export interface OperationSearch {
  readonly run: string;
  readonly member: string | undefined;
  readonly kind: string | undefined;
  readonly state: string | undefined;
  /** Part of a title or of a record's key. */
  readonly text: string | undefined;
}

const found =
  'run_id = $1 and ($2::text is null or member = $2) and ($3::text is null or kind = $3) ' +
  'and ($4::text is null or state = $4) and ($5::text is null or title ilike $5 or record_key ilike $5)';

function parametersOf({ run, member, kind, state, text }: OperationSearch): unknown[] {
  const pattern = text ? `%${text.replaceAll(/[\\%_]/g, '\\$&')}%` : null;
  return [run, member ?? null, kind ?? null, state ?? null, pattern];
}

/** A page of what a run planned and wrote, after an operation. */
export async function operationsAfter(
  db: SqlConnection,
  search: OperationSearch,
  after: number,
  limit: number,
): Promise<readonly OperationRow[]> {
  return (await db.query(
    `select id, anchor_id, title, member, kind, record_key, state, words, changes from plan_operation
     where ${found} and id > $6 order by id limit $7`,
    [...parametersOf(search), after, limit],
  )) as OperationRow[];
}

export async function countOperations(db: SqlConnection, search: OperationSearch): Promise<number> {
  const [{ total }] = (await db.query(
    `select count(*)::int as total from plan_operation where ${found}`,
    parametersOf(search),
  )) as [{ total: number }];
  return total;
}
