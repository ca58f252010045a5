import { Client, DatabaseError } from 'pg';
import type { Credential, SqlSystem } from '@anchor-knot/contracts';
import type { Raw } from '@anchor-knot/core';
import type { AddressFilter } from '../addressFilter.js';
import { SystemTrouble } from '../connector.js';
import type { ExchangeListener } from '../exchange.js';
import { valueParser } from './values.js';

export interface Column {
  readonly name: string;
  /** As PostgreSQL calls it: `numeric`, `timestamp with time zone`. */
  readonly type: string;
}

export interface Answer {
  readonly columns: readonly string[];
  readonly typeIds: readonly number[];
  readonly rows: readonly Readonly<Record<string, Raw>>[];
}

/**
 * One connection to a PostgreSQL database, opened when it is first needed, and told apart troubles of the system from
 * those of a statement.
 */
export class Database {
  readonly #system: SqlSystem;
  readonly #credential: Credential | undefined;
  readonly #addresses: AddressFilter;
  readonly #onExchange: ExchangeListener | undefined;
  #client: Promise<Client> | undefined;
  #arrays: ReadonlySet<number> | undefined;

  constructor(
    system: SqlSystem,
    credential: Credential | undefined,
    addresses: AddressFilter,
    onExchange?: ExchangeListener,
  ) {
    this.#system = system;
    this.#credential = credential;
    this.#addresses = addresses;
    this.#onExchange = onExchange;
  }

  /**
   * @throws {SystemTrouble} when the database cannot be reached or used; {DatabaseError} when the statement is at fault
   */
  async query(text: string, values: readonly unknown[]): Promise<Answer> {
    if (!this.#onExchange) return this.#query(text, values);
    const at = Date.now();
    const told = { at, method: 'SQL', target: text, sent: JSON.stringify(values), status: undefined };
    try {
      const answer = await this.#query(text, values);
      const received = JSON.stringify(answer.rows);
      this.#onExchange({ ...told, tookMs: Date.now() - at, received, trouble: undefined });
      return answer;
    } catch (error) {
      const trouble = (error as Error).message;
      this.#onExchange({ ...told, tookMs: Date.now() - at, received: undefined, trouble });
      throw error;
    }
  }

  async #query(text: string, values: readonly unknown[]): Promise<Answer> {
    const client = await this.#connected();
    const isArray = (typeId: number): boolean => this.#arrays?.has(typeId) ?? false;
    try {
      // With values, even none, PostgreSQL takes one statement and no more.
      const result = await client.query<Raw[]>({
        text,
        values: [...values],
        rowMode: 'array',
        queryMode: 'extended',
        types: { getTypeParser: ((typeId: number) => valueParser(typeId, isArray)) as never },
      } as never);
      const columns = result.fields.map(({ name }) => name);
      return {
        columns,
        typeIds: result.fields.map(({ dataTypeID }) => dataTypeID),
        rows: result.rows.map((row) => Object.fromEntries(columns.map((name, index) => [name, row[index] as Raw]))),
      };
    } catch (error) {
      throw this.#sorted(error);
    }
  }

  /** A transaction that can change nothing, with a limit on the time of each statement. */
  async reading<T>(work: () => Promise<T>): Promise<T> {
    await this.query('begin transaction isolation level repeatable read, read only', []);
    try {
      return await work();
    } finally {
      await this.query('rollback', []).catch(() => this.#forget());
    }
  }

  async close(): Promise<void> {
    const client = this.#client;
    this.#client = undefined;
    await (await client?.catch(() => undefined))?.end().catch(() => undefined);
  }

  #forget(): void {
    void this.close();
  }

  async #connected(): Promise<Client> {
    this.#client ??= this.#connect();
    try {
      return await this.#client;
    } catch (error) {
      this.#client = undefined;
      throw this.#sorted(error);
    }
  }

  async #connect(): Promise<Client> {
    const { host, port, database, tls, timeoutMs, name } = this.#system;
    if (!this.#credential)
      throw new SystemTrouble(
        'sign-in refused',
        `no credential is kept for ${name}`,
        'Enter the role and the password of this system.',
      );
    const address = await this.#addresses.resolve(host, port, name);
    const client = new Client({
      host: address,
      port,
      database,
      user: this.#credential.id,
      password: this.#credential.secret,
      // The certificate is for the name, not for the address that it leads to.
      ssl: tls === 'off' ? false : { rejectUnauthorized: tls === 'verified', servername: host },
      connectionTimeoutMillis: Math.min(timeoutMs, 10_000),
      query_timeout: timeoutMs + 2000,
      statement_timeout: timeoutMs,
      idle_in_transaction_session_timeout: 60_000,
      application_name: 'Anchor Knot',
      options: '-c timezone=UTC -c datestyle=ISO',
    });
    // A connection that breaks while nobody uses it is opened again when it is needed.
    client.on('error', () => (this.#client = undefined));
    await client.connect();
    const { rows } = await client.query<{ oid: number }>(`select oid::int from pg_type where typcategory = 'A'`);
    this.#arrays = new Set(rows.map(({ oid }) => oid));
    return client;
  }

  /** Errors of the database by their codes (manual, appendix A). */
  #sorted(error: unknown): unknown {
    if (error instanceof SystemTrouble) return error;
    const { name, host, port, database } = this.#system;
    const code = (error as { code?: string }).code ?? '';
    const words = error instanceof Error ? error.message || code : String(error);
    const trouble = (kind: ConstructorParameters<typeof SystemTrouble>[0], says: string, advice: string) =>
      new SystemTrouble(kind, `${name}: ${says}`, advice, { cause: error });
    if (error instanceof DatabaseError) {
      if (code.startsWith('28'))
        return trouble(
          'sign-in refused',
          words,
          'Check the role and its password, and that this role may connect from here.',
        );
      if (code === '3D000') return trouble('object is gone', words, 'Check the name of the database.');
      if (code === '42P01' || code === '3F000')
        return trouble('object is gone', words, 'The table was renamed or removed there, or this role cannot see it.');
      if (code === '42501')
        return trouble(
          'not allowed',
          words,
          'Give the role the right to do this, or take it out of what may be done here.',
        );
      if (code === '57014')
        return trouble(
          'server error',
          `it took longer than ${this.#system.timeoutMs / 1000} s and was ended`,
          'Make the query cheaper (an index on its key), or allow more time.',
        );
      if (code.startsWith('53') || code.startsWith('57P') || code.startsWith('08')) {
        this.#forget();
        return trouble('server error', words, 'Try again later; if it stays so, ask whoever runs that database.');
      }
      return error;
    }
    this.#forget();
    if (/password must be a string|SASL/.test(words))
      return trouble('sign-in refused', words, 'Check the role and its password.');
    if (/does not support SSL/.test(words))
      return trouble(
        'unreachable',
        'it does not speak TLS',
        'Switch TLS on at the database, or off here if the way there is safe without.',
      );
    if (/certificate|self.signed/i.test(words))
      return trouble(
        'unreachable',
        `its certificate was not accepted: ${words}`,
        'Give the host name that the certificate is for, or have it renewed.',
      );
    return trouble(
      'unreachable',
      `${database} cannot be reached at ${host}:${port}: ${words}`,
      'See whether it is running and whether host and port are right.',
    );
  }
}
