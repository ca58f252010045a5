import { DatabaseError } from 'pg';
import type { SqlSystem } from '@anchor-knot/contracts';
import type { Raw, SourceField } from '@anchor-knot/core';
import { SystemTrouble } from '../connector.js';
import { Database } from './database.js';
import { SqlConnector, type SqlDependencies } from './sqlConnector.js';
import { querySource } from './values.js';

/** A table or view that the role can see, and what it may do there. */
export interface TableFound {
  readonly schema: string;
  readonly table: string;
  readonly kind: 'table' | 'view';
  /** About how many rows, by the database's own statistics; -1 when it has none. */
  readonly rows: number;
  /** The only column of its primary key, where there is one. */
  readonly key: string | null;
  /** Columns with a time, the likeliest for the last change first. */
  readonly times: readonly string[];
  readonly may: readonly (typeof rights)[number][];
}

const rights = ['read', 'create', 'update', 'delete'] as const;

/** @throws {SystemTrouble} */
export async function listTables(
  system: SqlSystem,
  { credential, addresses }: SqlDependencies,
): Promise<readonly TableFound[]> {
  const database = new Database(system, credential, addresses);
  try {
    const { rows } = await database.query(
      `select n.nspname as schema, c.relname as name, c.relkind in ('v', 'm') as view, c.reltuples::bigint as rows,
              (select min(a.attname::text) from pg_index i join pg_attribute a on a.attrelid = c.oid
                and a.attnum = any(i.indkey) where i.indrelid = c.oid and i.indisprimary having count(*) = 1) as key,
              array(select a.attname::text from pg_attribute a join pg_type t on t.oid = a.atttypid
                where a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped and t.typname like 'timestamp%'
                    order by a.attname !~* 'mod|chang|updat', a.attnum) as times,
              has_table_privilege(c.oid, 'select') as may_read, has_table_privilege(c.oid, 'insert') as may_create,
                has_table_privilege(c.oid, 'update') as may_update, has_table_privilege(c.oid, 'delete') as may_delete
       from pg_class c join pg_namespace n on n.oid = c.relnamespace
       where c.relkind in ('r', 'p', 'v', 'm', 'f') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema'
         and has_schema_privilege(n.oid, 'usage')
       order by 1, 2 limit 1000`,
      [],
    );
    return rows.map((row) => ({
      schema: String(row.schema),
      table: String(row.name),
      kind: row.view === true ? 'view' : 'table',
      rows: Number(row.rows),
      key: typeof row.key === 'string' ? row.key : null,
      times: Array.isArray(row.times) ? row.times.map(String) : [],
      may: rights.filter((right) => row[`may_${right}`] === true),
    }));
  } finally {
    await database.close();
  }
}

export interface QueryPreview {
  readonly fields: readonly SourceField[];
  readonly rows: readonly Readonly<Record<string, Raw>>[];
}

const previewRows = 50;

/** The first rows of a query and its columns with their types. Nothing can be changed by it. @throws {SystemTrouble} */
export async function previewQuery(
  system: SqlSystem,
  sql: string,
  dependencies: SqlDependencies,
): Promise<QueryPreview> {
  const object = {
    source: { kind: 'query' as const, sql },
    key: 'preview',
    search: [],
    mayWrite: false,
    mayDelete: false,
  };
  const connector = new SqlConnector({ ...system, objects: { preview: object } }, 'preview', dependencies);
  const database = new Database(system, dependencies.credential, dependencies.addresses);
  try {
    const { fields } = await connector.describe();
    const { rows } = await database.reading(() =>
      database.query(`select * from ${querySource(sql)} limit $1`, [previewRows]),
    );
    return { fields, rows };
  } catch (error) {
    if (!(error instanceof DatabaseError)) throw error;
    throw new SystemTrouble('answer not understood', `${system.name}: ${error.message}`, 'Correct the query.', {
      cause: error,
    });
  } finally {
    await connector.close();
    await database.close();
  }
}
