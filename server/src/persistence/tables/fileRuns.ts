import type { Knot } from '@anchor-knot/core';
import type { SqlConnection, SqlDatabase } from '../sql.js';
import { giveUpRuns } from './runs.js';
import { applyVersion, definitionOf, keepVersion, lockKnot } from './versions.js';

/** What the command line asks of its database: one knot, by its file; and lists for people and scripts. */

/** The knot that a state folder is of. */
export async function knotOf(db: SqlConnection): Promise<string | undefined> {
  const [row] = (await db.query('select id from knot limit 1')) as { id: string }[];
  return row?.id;
}

/**
 * Puts the definition of a knot file in force, where it is not as it was.
 * @returns the version in force
 */
export async function takeDefinition(database: SqlDatabase, definition: Knot): Promise<number> {
  return database.transaction(async (db) => {
    const knot = definition.id;
    await db.query('insert into knot (id, name, version_in_force) values ($1, $2, 0) on conflict do nothing', [
      knot,
      definition.name,
    ]);
    await giveUpRuns(db, knot);
    const { version = 0 } = (await lockKnot(db, knot)) ?? {};
    const before = await definitionOf(db, knot, version);
    if (before && (await isSame(db, before, definition))) return version;
    await keepVersion(db, { knot, version: version + 1, definition, note: 'knot file', person: 'command line' });
    await applyVersion(db, knot, version + 1);
    return version + 1;
  });
}

/** Whatever the order of their names. */
async function isSame(db: SqlConnection, one: Knot, other: Knot): Promise<boolean> {
  const [row] = (await db.query('select $1::jsonb = $2::jsonb as same', [
    JSON.stringify(one),
    JSON.stringify(other),
  ])) as [{ same: boolean }];
  return row.same;
}

const rowsAtOnce = 2000;

/** Pages of rows in order of their ids, after one. */
async function* pages<Row extends { readonly id: string }>(
  ask: (after: string) => Promise<readonly Row[]>,
  after = '0',
): AsyncIterable<readonly Row[]> {
  for (let last = after; ;) {
    const rows = await ask(last);
    if (rows.length > 0) yield rows;
    const end = rows.at(-1);
    if (!end || rows.length < rowsAtOnce) return;
    last = end.id;
  }
}

/** An entry of the journal, and its line of JSON as the database makes it. */
export interface JournalLine {
  readonly id: string;
  readonly line: string;
}

/** What was written or lost since an entry of the journal; the database is of one knot. */
export const journalAfter = (db: SqlConnection, after: string): AsyncIterable<readonly JournalLine[]> =>
  pages(
    async (last) =>
      (await db.query(
        `select id, json_build_object('id', id::text, 'anchor', anchor_id, 'member', member, 'key', record_key,
           'kind', kind, 'field', field, 'before', before, 'after', after, 'meaning', meaning, 'cause', cause,
           'at', to_char(at at time zone 'utc', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"'))::text as line
         from journal where id > $1 order by id limit ${rowsAtOnce}`,
        [last],
      )) as JournalLine[],
    after,
  );

export interface DecisionLine {
  readonly id: string;
  readonly kind: string;
  readonly [column: string]: unknown;
}

/** What waits for a person, with the name of the thing that it is about. */
export const openDecisions = (db: SqlConnection, knot: string): AsyncIterable<readonly DecisionLine[]> =>
  pages(
    async (last) =>
      (await db.query(
        `select d.id, d.kind, a.title, d.member, d.record_key as key, d.field, d.says, d.detail from decision d
         left join anchor a on a.id = d.anchor_id
         where d.knot_id = $1 and d.closed_at is null and d.id > $2 order by d.id limit ${rowsAtOnce}`,
        [knot, last],
      )) as DecisionLine[],
  );

export interface UntiedLine {
  readonly id: string;
  readonly member: string;
  readonly key: string;
}

/** Records that match nothing and may start nothing. */
export const untiedRecords = (db: SqlConnection, knot: string): AsyncIterable<readonly UntiedLine[]> =>
  pages(
    async (last) =>
      (await db.query(
        `select member || e'\\x1f' || record_key as id, member, record_key as key, reading->'fields' as fields
         from outside_record where knot_id = $1 and reason = 'untied' and verdict is null
           and member || e'\\x1f' || record_key > $2 order by 1 limit ${rowsAtOnce}`,
        [knot, last],
      )) as UntiedLine[],
    '',
  );

export interface OperationLine {
  readonly id: string;
  readonly [column: string]: unknown;
}

/** What a run plans to do, record by record. */
export const operationsOf = (db: SqlConnection, run: string): AsyncIterable<readonly OperationLine[]> =>
  pages(
    async (last) =>
      (await db.query(
        `select id, title, member, kind, record_key as key, changes, state, words from plan_operation
         where run_id = $1 and id > $2 order by id limit ${rowsAtOnce}`,
        [run, last],
      )) as OperationLine[],
  );

/** Forgets what earlier runs planned: what was written is in the journal. */
export async function forgetEarlierRuns(db: SqlConnection, knot: string, run: string): Promise<void> {
  await db.query('delete from run where knot_id = $1 and id <> $2 and ended_at is not null', [knot, run]);
}

export async function countOpenDecisions(db: SqlConnection, knot: string): Promise<number> {
  const [row] = (await db.query(
    'select count(*)::int as count from decision where knot_id = $1 and closed_at is null',
    [knot],
  )) as [{ count: number }];
  return row.count;
}
