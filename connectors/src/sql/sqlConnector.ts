import type { ExchangeListener } from '../exchange.js';
import { DatabaseError } from 'pg';
import type { Credential, SqlObject, SqlSystem } from '@anchor-knot/contracts';
import {
  type FieldPath,
  type Raw,
  type RecordKey,
  recordKey,
  scalarText,
  type SourceField,
  type SourceRecord,
  type SourceSchema,
  type SourceType,
} from '@anchor-knot/core';
import type { AddressFilter } from '../addressFilter.js';
import {
  type Capabilities,
  type Clock,
  type Connector,
  type Page,
  SystemTrouble,
  type WriteOutcome,
  type WriteRequest,
} from '../connector.js';
import { describedObject } from '../describedObject.js';
import { stringifyExactJson } from '../json/exactJson.js';
import { isRefusedConnection } from '../refusedConnection.js';
import { type Answer, Database } from './database.js';
import { readTextTime, writeLocalTime } from '../times.js';
import { querySource, quoted, timestampTypeId, toParameter } from './values.js';

const pageSize = 1000;
/** The row version of PostgreSQL (manual, section 5.5): the transaction that wrote the row; of a view, its digest. */
const versionColumn = 'anchor_knot_version';

export interface SqlDependencies {
  readonly clock: Clock;
  readonly credential?: Credential | undefined;
  readonly addresses: AddressFilter;
  /** Is told of each statement. */
  readonly onExchange?: ExchangeListener | undefined;
}

/** Reads and writes a table of a PostgreSQL database, or reads a query, as an object. */
export class SqlConnector implements Connector {
  readonly capabilities: Capabilities;
  readonly #system: SqlSystem;
  readonly #object: SqlObject;
  readonly #database: Database;
  readonly #clock: Clock;
  #offset = 0;
  /** Whether times of changes name no zone, as `timestamp` does not; asked where a zone is given. */
  #isWallTime: boolean | undefined;

  constructor(system: SqlSystem, objectName: string, { clock, credential, addresses, onExchange }: SqlDependencies) {
    const object = describedObject(system, objectName);
    this.#system = system;
    this.#object = object;
    this.#clock = clock;
    this.#database = new Database(system, credential, addresses, onExchange);
    const isTable = object.source.kind === 'table';
    this.capabilities = {
      batchSize: 100,
      conditionalUpdate: isTable,
      idempotentCreate: false,
      changesSince: object.modifiedAt !== undefined,
      searchable: object.search,
      create: isTable && object.mayWrite,
      update: isTable && object.mayWrite,
      archive: false,
      delete: isTable && object.mayDelete,
      tombstones: false,
      webhooks: false,
      createField: false,
    };
  }

  clockOffset(): number {
    return this.#system.times?.aheadMs ?? this.#offset;
  }

  async close(): Promise<void> {
    await this.#database.close();
  }

  /** By key, each page from where the last one ended: whatever is added or changed meanwhile, no record is skipped. */
  async *read({
    changedSince,
    signal,
  }: {
    changedSince?: number | undefined;
    signal?: AbortSignal | undefined;
  }): AsyncIterable<Page> {
    await this.#measureClock();
    await this.#learnTimes();
    const { key, modifiedAt } = this.#object;
    for (let after: string | undefined; ;) {
      signal?.throwIfAborted();
      const values: unknown[] = [pageSize];
      const conditions: string[] = [];
      if (after !== undefined) conditions.push(`${quoted(key)} > $${values.push(after)}`);
      if (changedSince !== undefined && modifiedAt)
        conditions.push(`${quoted(modifiedAt)} >= $${values.push(this.#asTheirs(changedSince))}`);
      const where = conditions.length > 0 ? `where ${conditions.join(' and ')}` : '';
      const answer = await this.#reading(
        `select * from ${this.#source()} ${where} order by ${quoted(key)} limit $1`,
        values,
      );
      const records = answer.rows.map((row) => this.#record(row));
      const found = records.filter((record) => record !== undefined);
      yield {
        records: found,
        unusable:
          records.length === found.length
            ? []
            : [{ reason: `${this.#system.name}: a row has no value in its key “${key}”` }],
      };
      if (answer.rows.length < pageSize) return;
      after = found.at(-1)?.key;
      if (after === undefined) return;
    }
  }

  async readOne(key: RecordKey): Promise<SourceRecord | undefined> {
    await this.#learnTimes();
    const [row] = (
      await this.#reading(`select * from ${this.#source()} where ${quoted(this.#object.key)} = $1 limit 1`, [key], true)
    ).rows;
    return row && this.#record(row);
  }

  async search(field: FieldPath, value: string): Promise<readonly SourceRecord[]> {
    await this.#learnTimes();
    const { rows } = await this.#reading(
      `select * from ${this.#source()} where ${quoted(field)}::text = $1
        order by ${quoted(this.#object.key)} limit 100`,
      [value],
    );
    return rows.flatMap((row) => this.#record(row) ?? []);
  }

  async write(requests: readonly WriteRequest[]): Promise<readonly WriteOutcome[]> {
    await this.#learnTimes();
    const outcomes: (WriteOutcome | undefined)[] = requests.map(() => undefined);
    for (const group of updatesAlike(requests))
      for (const [index, outcome] of await this.#updateTogether(group)) outcomes[index] = outcome;
    // Creations, and whatever did not go with the others: each by itself, so that each has a reason of its own.
    const all: WriteOutcome[] = [];
    for (const [index, request] of requests.entries()) all.push(outcomes[index] ?? (await this.#writeOne(request)));
    return all;
  }

  /**
   * Updates of the same columns in one statement. @returns those that were written, or of which nobody knows; the
   * others had no effect
   */
  async #updateTogether(group: readonly UpdateAt[]): Promise<[number, WriteOutcome][]> {
    const { source, key, mayWrite } = this.#object;
    if (source.kind !== 'table' || !mayWrite) return [];
    const table = `${quoted(source.schema)}.${quoted(source.table)}`;
    const columns = [...(group[0]?.request.fields.keys() ?? [])];
    const rows = group.map(({ request }) => ({ ...Object.fromEntries(request.fields), [key]: request.key }));
    const versions = Object.fromEntries(group.map(({ request }) => [request.key, request.version ?? '*']));
    // A key that its column writes in another way finds no version here, is not updated, and goes by itself.
    const text = `update ${table} as held
      set ${columns.map((column) => `${quoted(column)} = given.${quoted(column)}`).join(', ')}
      from jsonb_populate_recordset(null::${table}, $1::jsonb) as given
      where held.${quoted(key)} = given.${quoted(key)} and $2::jsonb ->> given.${quoted(key)}::text in ('*',
        ${this.#version('held')})
      returning held.*, ${this.#version('held')} as ${versionColumn}`;
    try {
      const answer = await this.#database.query(text, [stringifyExactJson(rows), JSON.stringify(versions)]);
      const written = new Map(
        answer.rows.flatMap((row) => this.#record(row) ?? []).map((record) => [record.key, record]),
      );
      return group.flatMap(({ index, request }): [number, WriteOutcome][] => {
        const record = written.get(request.key);
        return record ? [[index, { kind: 'written', key: record.key, record }]] : [];
      });
    } catch (error) {
      // One row that the database refuses undoes the statement: none of it took effect.
      if (error instanceof DatabaseError) return [];
      if (error instanceof SystemTrouble && error.code === 'unreachable' && !isRefusedConnection(error.cause))
        return group.map(({ index }) => [index, { kind: 'unknown', words: error.message }]);
      throw error;
    }
  }

  async rights(): Promise<{ create: boolean; update: boolean } | undefined> {
    const { source } = this.#object;
    if (source.kind !== 'table') return undefined;
    const [row] = (
      await this.#reading(
        `select has_table_privilege(t, 'insert') as create, has_table_privilege(t, 'update') as update
          from (select format('%I.%I', $1::text, $2::text)::regclass as t) as named`,
        [source.schema, source.table],
      )
    ).rows;
    return { create: row?.create === true, update: row?.update === true };
  }

  async describe(): Promise<SourceSchema> {
    const { source } = this.#object;
    const answer = await this.#reading(`select * from ${this.#source()} limit $1`, [0]);
    const types = await this.#typeNames(answer.typeIds);
    const declared =
      source.kind === 'table' ? await this.#tableColumns(source.schema, source.table) : new Map<string, ColumnFacts>();
    const fields = answer.columns.flatMap((name, index): SourceField[] => {
      if (name === versionColumn) return [];
      const facts = declared.get(name);
      const longest = facts?.longest;
      return [
        {
          path: name,
          type: sourceType(types.get(answer.typeIds[index] ?? 0) ?? ''),
          ...(facts?.required ? { required: true } : {}),
          ...(source.kind === 'query' || facts?.readOnly || !this.#object.mayWrite ? { readOnly: true } : {}),
          ...(facts?.reference ? { reference: facts.reference } : {}),
          ...(facts?.choices ? { choices: facts.choices } : {}),
          ...(longest === undefined ? {} : { longest }),
        },
      ];
    });
    return { origin: 'declared', fields };
  }

  async #writeOne(request: WriteRequest): Promise<WriteOutcome> {
    const { source, key } = this.#object;
    if (source.kind !== 'table' || !this.#object.mayWrite)
      return { kind: 'refused', words: 'this object can only be read' };
    const table = `${quoted(source.schema)}.${quoted(source.table)} as held`;
    if (request.kind === 'archive') return { kind: 'refused', words: 'a database has no archive' };
    if (request.kind === 'delete')
      return this.#object.mayDelete
        ? this.#delete(table, request)
        : { kind: 'refused', words: 'rows may not be deleted there' };
    const columns = [...request.fields.keys()];
    const values: unknown[] = [...request.fields.values()].map(toParameter);
    const returning = `returning *, ${this.#version('held')} as ${versionColumn}`;
    try {
      if (request.kind === 'create') {
        const names = columns.map(quoted).join(', ');
        const answer = await this.#database.query(
          columns.length === 0
            ? `insert into ${table} default values ${returning}`
            : `insert into ${table} (${names})
              values (${values.map((_, index) => `$${index + 1}`).join(', ')}) ${returning}`,
          values,
        );
        const record = answer.rows[0] && this.#record(answer.rows[0]);
        return record
          ? { kind: 'written', key: record.key, record }
          : { kind: 'unknown', words: 'the database does not say which row was made' };
      }
      const changes = columns.map((column, index) => `${quoted(column)} = $${index + 1}`).join(', ');
      const conditions = [`${quoted(key)} = $${values.push(request.key)}`];
      if (request.version !== undefined) conditions.push(`${this.#version('held')} = $${values.push(request.version)}`);
      const answer = await this.#database.query(
        `update ${table} set ${changes} where ${conditions.join(' and ')} ${returning}`,
        values,
      );
      const record = answer.rows[0] && this.#record(answer.rows[0]);
      if (record) return { kind: 'written', key: record.key, record };
      return (await this.readOne(request.key)) ? { kind: 'raced' } : { kind: 'gone' };
    } catch (error) {
      if (error instanceof DatabaseError)
        return { kind: 'refused', words: [error.message, error.detail].filter(Boolean).join(': ') };
      // Once the statement was sent, nobody knows; before that, the trouble is the system's.
      if (error instanceof SystemTrouble && error.code === 'unreachable' && !isRefusedConnection(error.cause))
        return { kind: 'unknown', words: error.message };
      throw error;
    }
  }

  async #delete(
    table: string,
    { key, version }: Extract<WriteRequest, { kind: 'archive' | 'delete' }>,
  ): Promise<WriteOutcome> {
    const condition = version === undefined ? '' : `and ${this.#version('held')} = $2`;
    try {
      const { rows } = await this.#database.query(
        `delete from ${table} where ${quoted(this.#object.key)} = $1 ${condition} returning 1 as deleted`,
        version === undefined ? [key] : [key, version],
      );
      if (rows.length > 0) return { kind: 'written', key, record: undefined };
      return (await this.readOne(key)) ? { kind: 'raced' } : { kind: 'gone' };
    } catch (error) {
      if (error instanceof DatabaseError)
        return { kind: 'refused', words: [error.message, error.detail].filter(Boolean).join(': ') };
      if (error instanceof SystemTrouble && error.code === 'unreachable' && !isRefusedConnection(error.cause))
        return { kind: 'unknown', words: error.message };
      throw error;
    }
  }

  /** The key of the record as the query compares it: `$1` is read by the type of the key's column. */
  async #reading(text: string, values: readonly unknown[], keyMayBeOfAnotherType = false): Promise<Answer> {
    try {
      return await this.#database.reading(() => this.#database.query(text, values));
    } catch (error) {
      if (!(error instanceof DatabaseError)) throw error;
      // 22P02 and 22003: a key that its column cannot even hold is no record's.
      if (keyMayBeOfAnotherType && (error.code === '22P02' || error.code === '22003'))
        return { columns: [], typeIds: [], rows: [] };
      throw new SystemTrouble(
        'answer not understood',
        `${this.#system.name}: ${[error.message, error.hint].filter(Boolean).join('. ')}`,
        this.#object.source.kind === 'query'
          ? 'Correct the query, or the names of its key and modification time.'
          : 'See whether the key and the modification time are columns of this table.',
        { cause: error },
      );
    }
  }

  #source(): string {
    const { source } = this.#object;
    if (source.kind === 'query') return querySource(source.sql);
    const table = `${quoted(source.schema)}.${quoted(source.table)} as held`;
    return `(select *, ${this.#version('held')} as ${versionColumn} from ${table}) as source`;
  }

  /** @param row the name of a row in a statement */
  #version(row: string): string {
    const { source } = this.#object;
    return source.kind === 'table' && source.isView ? `md5(${row}::text)` : `${row}.xmin::text`;
  }

  #record(row: Readonly<Record<string, Raw>>): SourceRecord | undefined {
    const { [versionColumn]: version, ...fields } = row;
    const value = fields[this.#object.key];
    const key = typeof value === 'boolean' ? String(value) : (scalarText(value) ?? '');
    if (key === '') return undefined;
    const { modifiedAt } = this.#object;
    const time = modifiedAt === undefined ? undefined : this.#changedAt(scalarText(fields[modifiedAt]) ?? '');
    return {
      key: recordKey(key),
      fields,
      ...(typeof version === 'string' ? { version } : {}),
      ...(time === undefined ? {} : { modifiedAt: time - this.clockOffset() }),
    };
  }

  /** A time of the zone of `timestamp` comes as if it were in UTC, since that is the session's zone. */
  #changedAt(text: string): number | undefined {
    return readTextTime(this.#isWallTime ? text.replace(/Z$/, '') : text, this.#system.times?.zone);
  }

  #asTheirs(time: number): string {
    return this.#isWallTime ? writeLocalTime(time, this.#system.times?.zone) : new Date(time).toISOString();
  }

  async #learnTimes(): Promise<void> {
    const { modifiedAt } = this.#object;
    if (this.#isWallTime !== undefined || modifiedAt === undefined || this.#system.times?.zone === undefined) return;
    const { typeIds } = await this.#reading(`select ${quoted(modifiedAt)} from ${this.#source()} limit 0`, []);
    this.#isWallTime = typeIds[0] === timestampTypeId;
  }

  async #measureClock(): Promise<void> {
    const sentAt = this.#clock.now();
    const [row] = (await this.#database.query(`select extract(epoch from clock_timestamp()) * 1000 as now`, [])).rows;
    const theirs = Number(scalarText(row?.now));
    const offset = theirs - (sentAt + this.#clock.now()) / 2;
    this.#offset = Math.abs(offset) > 50 ? Math.round(offset) : 0;
  }

  async #typeNames(ids: readonly number[]): Promise<ReadonlyMap<number, string>> {
    const { rows } = await this.#database.query(
      // A domain is what it is made of.
      `select t.oid::int as id, case when t.typcategory = 'A' then 'array' else coalesce(base.typname,
        t.typname) end as name
       from pg_type t left join pg_type base on base.oid = nullif(t.typbasetype, 0)
         where t.oid = any($1::int[]::oid[])`,
      [ids],
    );
    return new Map(rows.map(({ id, name }) => [Number(id), String(name)]));
  }

  async #tableColumns(schema: string, table: string): Promise<ReadonlyMap<string, ColumnFacts>> {
    const { rows } = await this.#database.query(
      `select a.attname as name, a.attnotnull and not a.atthasdef and a.attidentity = '' as required,
        a.attgenerated <> '' or a.attidentity = 'a' as fixed,
              case when a.atttypmod > 4 and t.typname in ('varchar', 'bpchar') then a.atttypmod - 4 end as longest,
              (select string_agg(e.enumlabel, e'\\x1e' order by e.enumsortorder) from pg_enum e
                where e.enumtypid = a.atttypid) as choices,
              (select f.relname from pg_constraint c join pg_class f on f.oid = c.confrelid
                where c.conrelid = a.attrelid and c.contype = 'f' and c.conkey = array[a.attnum] limit 1) as reference
       from pg_attribute a join pg_type t on t.oid = a.atttypid
       where a.attrelid = format('%I.%I', $1::text, $2::text)::regclass and a.attnum > 0 and not a.attisdropped`,
      [schema, table],
    );
    return new Map(
      rows.map((row) => [
        String(row.name),
        {
          required: row.required === true,
          readOnly: row.fixed === true,
          longest: typeof row.longest === 'number' ? row.longest : undefined,
          choices: typeof row.choices === 'string' ? row.choices.split('\u001e') : undefined,
          reference: typeof row.reference === 'string' ? row.reference : undefined,
        },
      ]),
    );
  }
}

interface UpdateAt {
  readonly index: number;
  readonly request: Extract<WriteRequest, { kind: 'update' }>;
}

/** Updates that change the same columns, two and more, of different records. */
function updatesAlike(requests: readonly WriteRequest[]): UpdateAt[][] {
  const groups = new Map<string, Map<RecordKey, UpdateAt>>();
  for (const [index, request] of requests.entries()) {
    if (request.kind !== 'update' || request.fields.size === 0) continue;
    const columns = JSON.stringify([...request.fields.keys()]);
    const group = groups.get(columns) ?? new Map<RecordKey, UpdateAt>();
    // A second change of the same record comes after the first: by itself.
    if (!group.has(request.key)) groups.set(columns, group.set(request.key, { index, request }));
  }
  return [...groups.values()].map((group) => [...group.values()]).filter((group) => group.length > 1);
}

interface ColumnFacts {
  readonly required: boolean;
  readonly readOnly: boolean;
  readonly longest: number | undefined;
  readonly choices: readonly string[] | undefined;
  readonly reference: string | undefined;
}

function sourceType(name: string): SourceType {
  if (/^(int[248]|numeric|float[48]|money)$/.test(name)) return 'number';
  if (name === 'bool') return 'yes/no';
  if (name === 'date') return 'date';
  if (name.startsWith('timestamp')) return 'instant';
  if (name === 'array') return 'list';
  return name === 'json' || name === 'jsonb' ? 'mixed' : 'text';
}
