import { closeSync, cpSync, existsSync, fsyncSync, openSync, readdirSync, renameSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { PGlite, type PGliteInterface, type Transaction } from '@electric-sql/pglite';
import { migrations } from './migrations.js';
import type { SqlConnection, SqlDatabase } from './sql.js';

/** The type numbers of PostgreSQL's catalogue whose values come as text, as they do from a server's driver. */
const asText = { int8: 20 };
/** An empty database that the build has made, where it was built. */
export const emptyDatabase = join(import.meta.dirname, '../../dist/emptyDatabase');

/** Smaller tables are read in no time, however they are. In bytes. */
const worthTidying = 1 << 20;
const bareChange = /^\s*(update|delete)\b/i;

/**
 * PostgreSQL within this process, in a folder: what the command line keeps is kept by the same statements as a
 * server's.
 * One process at a time may have the folder open.
 */
export class EmbeddedDatabase implements SqlDatabase {
  readonly #engine: PGlite;
  readonly #folder: string;

  private constructor(engine: PGlite, folder: string) {
    this.#engine = engine;
    this.#folder = folder;
  }

  /**
   * Opens the database of a folder, or makes it, and brings it up to the present tables. A new one is made beside its
   * place and put there when it is whole, so that a full disk leaves nothing that could not be opened again.
   */
  static async open(folder: string): Promise<EmbeddedDatabase> {
    if (existsSync(folder)) return EmbeddedDatabase.#openAt(folder);
    const making = `${folder}.making`;
    rmSync(making, { recursive: true, force: true });
    try {
      // Making one takes some seconds, copying an empty one none.
      if (existsSync(emptyDatabase)) cpSync(emptyDatabase, making, { recursive: true });
      else await (await EmbeddedDatabase.#openAt(making)).close();
    } catch (error) {
      rmSync(making, { recursive: true, force: true });
      throw error;
    }
    renameSync(making, folder);
    return EmbeddedDatabase.#openAt(folder);
  }

  static async #openAt(folder: string): Promise<EmbeddedDatabase> {
    const engine = await PGlite.create(folder, {
      parsers: { [asText.int8]: (text: string) => text },
      startParams: startParameters,
    });
    const database = new EmbeddedDatabase(engine, folder);
    await database.#migrate();
    return database;
  }

  async query(statement: string, parameters: unknown[] = []): Promise<unknown> {
    return run(this.#engine, statement, parameters);
  }

  /** What a transaction has changed is on the disk when it has ended. */
  async transaction<T>(work: (db: SqlConnection) => Promise<T>): Promise<T> {
    const result = await this.#engine.transaction((transaction) =>
      work({ query: (statement, parameters = []) => run(transaction, statement, parameters) }),
    );
    this.#syncLog();
    return result;
  }

  /**
   * Nobody else looks after the tables here: once one of them has grown by a fifth, what was replaced is given back and
   * the planner is told what there is.
   */
  async tidy(): Promise<void> {
    const { rows } = await this.#engine.query(
      `select from pg_class where relkind = 'r' and relnamespace = 'public'::regnamespace
         and pg_relation_size(oid) > $1 + 1.2 * greatest(relpages, 0) * current_setting('block_size')::int limit 1`,
      [worthTidying],
    );
    if (rows.length > 0) await this.#engine.exec('vacuum (analyze)');
  }

  async close(): Promise<void> {
    await this.#engine.close();
    syncTree(this.#folder);
  }

  async #migrate(): Promise<void> {
    await this.#engine.exec('create table if not exists migration (name text primary key)');
    const { rows } = await this.#engine.query<{ name: string }>('select name from migration');
    const applied = new Set(rows.map(({ name }) => name));
    for (const migration of migrations) {
      if (applied.has(migration.name)) continue;
      await this.#engine.transaction(async (transaction) => {
        const runner = { query: (statement: string) => transaction.exec(statement) };
        await new migration().up(runner as never);
        await transaction.query('insert into migration (name) values ($1)', [migration.name]);
      });
    }
  }

  /** The write-ahead log holds every change; the rest of the files can be made again from it. */
  #syncLog(): void {
    const folder = join(this.#folder, 'pg_wal');
    const segments = readdirSync(folder).filter((name) => /^[0-9A-F]{24}$/.test(name));
    const last = segments.sort().at(-1);
    if (last !== undefined) syncFile(join(folder, last));
  }
}

/** As the defaults, but for buffers that suit one run at a time. */
const startParameters = [...PGlite.defaultStartParams, '-c', 'shared_buffers=32MB', '-c', 'jit=off'];

async function run(
  engine: Pick<PGliteInterface | Transaction, 'query'>,
  statement: string,
  parameters: readonly unknown[],
): Promise<unknown> {
  const { rows, affectedRows } = await engine.query(statement, [...parameters]);
  return bareChange.test(statement) ? [rows, affectedRows] : rows;
}

function syncFile(path: string): void {
  const file = openSync(path, 'r');
  try {
    fsyncSync(file);
  } finally {
    closeSync(file);
  }
}

function syncTree(folder: string): void {
  if (!existsSync(folder)) return;
  for (const entry of readdirSync(folder, { withFileTypes: true })) {
    const path = join(folder, entry.name);
    if (entry.isDirectory()) syncTree(path);
    else if (entry.isFile()) syncFile(path);
  }
}
