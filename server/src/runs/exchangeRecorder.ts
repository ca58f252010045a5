import type { CompiledKnot, MemberId } from '@anchor-knot/core';
import type { Exchange, ExchangeListener } from '@anchor-knot/connectors';
import { addExchanges, type KeptExchange } from '../persistence/tables/exchanges.js';
import type { SqlConnection } from '../persistence/sql.js';
import { withoutQuery, withoutSensitive } from './strikeOut.js';

/** More calls of a run are only counted, and longer texts are cut. */
const mostKept = 2000;
const longestText = 10_000;
const keptAtOnce = 100;

/** Keeps the calls of one run, with everything struck out that nobody is to read. */
export class ExchangeRecorder {
  readonly #db: SqlConnection;
  readonly #run: string;
  readonly #knot: CompiledKnot;
  #waiting: KeptExchange[] = [];
  #count = 0;
  #keeping: Promise<void> = Promise.resolve();

  constructor(db: SqlConnection, run: string, knot: CompiledKnot) {
    this.#db = db;
    this.#run = run;
    this.#knot = knot;
  }

  listenerOf(member: MemberId): ExchangeListener {
    const names = sensitiveNames(this.#knot, member);
    return (exchange) => {
      this.#count += 1;
      if (this.#count > mostKept) return;
      this.#waiting.push(shortened(member, exchange, names));
      if (this.#waiting.length >= keptAtOnce) this.#keep();
    };
  }

  /** @returns how many calls were not kept */
  async end(): Promise<number> {
    this.#keep();
    await this.#keeping;
    return Math.max(0, this.#count - mostKept);
  }

  /** A log that cannot be kept stops no run. */
  #keep(): void {
    const some = this.#waiting;
    this.#waiting = [];
    if (some.length === 0) return;
    this.#keeping = this.#keeping.then(() => addExchanges(this.#db, this.#run, some)).catch(() => undefined);
  }
}

/** How a member calls what is sensitive: the last part of each path. */
function sensitiveNames({ fields }: CompiledKnot, member: MemberId): ReadonlySet<string> {
  const paths = fields.flatMap((field) => (field.sensitive ? (field.mappings.get(member)?.field ?? []) : []));
  return new Set(paths.map((path) => path.split('.').at(-1) ?? path));
}

function shortened(member: MemberId, exchange: Exchange, names: ReadonlySet<string>): KeptExchange {
  const text = (whole: string | undefined): string | null => {
    if (whole === undefined) return null;
    const shown = withoutSensitive(whole, names);
    return shown.length > longestText ? `${shown.slice(0, longestText)}… (${shown.length} characters)` : shown;
  };
  return {
    member,
    at: new Date(exchange.at),
    tookMs: Math.round(exchange.tookMs),
    method: exchange.method,
    target: withoutQuery(exchange.target, exchange.method === 'SQL' ? new Set() : names).slice(0, longestText),
    status: exchange.status ?? null,
    sent:
      exchange.method === 'SQL' && names.size > 0 ? text(exchange.sent && '(values not shown)') : text(exchange.sent),
    received: text(exchange.received),
    trouble: exchange.trouble ?? null,
  };
}
