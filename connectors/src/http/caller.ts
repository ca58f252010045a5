import { type Agent, type Dispatcher, request } from 'undici';
import type { HttpSystem } from '@anchor-knot/contracts';
import type { Raw } from '@anchor-knot/core';
import type { AddressFilter } from '../addressFilter.js';
import { SystemTrouble } from '../connector.js';
import type { ExchangeListener } from '../exchange.js';
import { parseExactJson } from '../json/exactJson.js';
import { askedPauseMs, mostAttempts, pause } from '../pause.js';
import { isRefusedConnection } from '../refusedConnection.js';
import { filteredAgent } from './agent.js';
import { SignInHeaders, type SignInDependencies } from './signIn.js';

/** What a system answered. `body` is JSON; an answer without a body is null. */
export interface Answer {
  readonly status: number;
  readonly headers: Readonly<Record<string, string>>;
  readonly body: Raw;
}

export interface Call {
  readonly method: Dispatcher.HttpMethod;
  /** Below the system's address, with its query; or absolute, on the same host. */
  readonly path: string;
  readonly headers?: Readonly<Record<string, string>>;
  readonly body?: string | undefined;
  readonly signal?: AbortSignal | undefined;
  /** The answer is not JSON, and is given as the text that it is. */
  readonly isText?: boolean;
}

/** What a system bears, shared by all that call it. */
export interface CallBudget {
  /**
   * Waits until one more call may be made.
   * @returns what says that the call has ended
   * @throws {SystemTrouble} when no call is left for today
   */
  take(signal?: AbortSignal): Promise<() => void>;
  /** The system asked to be left alone for so long, by all. */
  rest(milliseconds: number): Promise<void>;
}

export interface CallerDependencies extends SignInDependencies {
  /** Where systems may be. */
  readonly addresses: AddressFilter;
  readonly budget?: CallBudget | undefined;
  /** Is told of each call. */
  readonly onExchange?: ExchangeListener | undefined;
}

/** The time limit is for each silence; an answer that drips for ever is left after so many times as long. */
const wholeAnswerFactor = 4;
/** A page or a record larger than this is no page and no record. */
const largestAnswerBytes = 64 * 1024 * 1024;

/** What the calls to a system need to know of it. */
export type CalledSystem = Pick<HttpSystem, 'name' | 'address' | 'signIn' | 'timeoutMs'> &
  Partial<Pick<HttpSystem, 'unit' | 'times'>>;

/**
 * Calls one system: signs in, keeps the connection, repeats what may be repeated. Reads are repeated after network
 * errors and 5xx; writes only after 429 and 503 with Retry-After, where the system says that it did nothing.
 */
export class Caller {
  readonly #system: CalledSystem;
  readonly #dependencies: CallerDependencies;
  readonly #agent: Agent;
  readonly #origin: URL;
  readonly #signIn: SignInHeaders;
  #offset: { readonly milliseconds: number; readonly took: number } | undefined;

  constructor(system: CalledSystem, dependencies: CallerDependencies) {
    this.#system = system;
    this.#dependencies = dependencies;
    this.#origin = new URL(system.address);
    this.#agent = filteredAgent(dependencies.addresses, system.name, system.timeoutMs);
    this.#signIn = new SignInHeaders(system, dependencies, this.#agent);
  }

  /**
   * The whole URL of a path: below the address, which may have a path of its own; what is absolute already stays so.
   */
  url(path: string): URL {
    return /^https?:/.test(path)
      ? new URL(path)
      : new URL(this.#origin.origin + this.#origin.pathname.replace(/\/+$/, '') + path);
  }

  /**
   * How far the system's clock is ahead: as it was said, or by the Date header (RFC 9110 section 6.6.1) of the quickest
   * answer so far.
   */
  get clockOffset(): number {
    if (this.#system.times?.aheadMs !== undefined) return this.#system.times.aheadMs;
    // The header has whole seconds: smaller differences are noise.
    return this.#offset && Math.abs(this.#offset.milliseconds) > 1500 ? this.#offset.milliseconds : 0;
  }

  /** A call that changes nothing. Repeated until it is answered or the attempts are used up. @throws {SystemTrouble} */
  async read(call: Call): Promise<Answer> {
    return this.#repeating(call, true);
  }

  /**
   * A call that changes something.
   * @returns the answer, or why it is not known whether the call took effect
   * @throws {SystemTrouble} when it certainly took no effect, for a reason that is the system's
   */
  async write(call: Call): Promise<Answer | { readonly unknown: string }> {
    try {
      const answer = await this.#repeating(call, false);
      return answer.status >= 500 ? { unknown: `answered ${answer.status}: ${wordsOf(answer)}` } : answer;
    } catch (error) {
      if (error instanceof LostAnswer) return { unknown: error.message };
      throw error;
    }
  }

  async close(): Promise<void> {
    await this.#agent.close();
  }

  async #repeating(call: Call, isRead: boolean): Promise<Answer> {
    let renewed = false;
    let refused = false;
    for (let attempt = 1; ; attempt += 1) {
      let answer: Answer;
      try {
        const signIn = await this.#signIn.headers(refused);
        refused = false;
        answer = await this.#once(call, signIn);
      } catch (error) {
        if (call.signal?.aborted || error instanceof SystemTrouble) throw error;
        const neverSent = isRefusedConnection(error);
        if ((isRead || neverSent) && attempt < (neverSent ? 3 : mostAttempts)) {
          await pause(this.#dependencies, attempt, undefined, call.signal);
          continue;
        }
        if (isRead || neverSent) throw unreachable(this.#system, error);
        throw new LostAnswer(`the connection broke before the answer: ${messageOf(error)}`, { cause: error });
      }
      if (answer.status === 401 && this.#signIn.renewable && !renewed) {
        renewed = true;
        refused = true;
        continue;
      }
      const mayRepeat =
        answer.status === 429 ||
        (answer.status === 503 && answer.headers['retry-after'] !== undefined) ||
        (isRead && answer.status >= 500);
      if (mayRepeat && attempt < mostAttempts) {
        const asked = askedPauseMs(answer.headers['retry-after'], this.#dependencies.clock);
        // What one is asked, all are asked: the others wait too.
        if (asked !== undefined) await this.#dependencies.budget?.rest(asked);
        await pause(this.#dependencies, attempt, answer.headers['retry-after'], call.signal);
        continue;
      }
      this.#refuseTrouble(answer, isRead);
      return answer;
    }
  }

  async #once(call: Call, signIn: Readonly<Record<string, string>>): Promise<Answer> {
    const url = this.url(call.path);
    if (url.origin !== this.#origin.origin)
      throw new SystemTrouble(
        'answer not understood',
        `${this.#system.name} points to another host: ${url.host}`,
        'Check the address of the system; its pages must come from the same host.',
      );
    const { clock, budget } = this.#dependencies;
    const { unit } = this.#system;
    const ended = await budget?.take(call.signal);
    // Not AbortSignal.timeout: within AbortSignal.any nothing holds it, and once it is collected it never fires
    // (Node.js 20).
    const limit = new AbortController();
    const timer = setTimeout(
      () => limit.abort(new DOMException('the whole answer took too long', 'TimeoutError')),
      this.#system.timeoutMs * wholeAnswerFactor,
    );
    const sentAt = clock.now();
    let [status, text]: [number?, string?] = [];
    let trouble: unknown;
    try {
      const response = await request(url, {
        method: call.method,
        dispatcher: this.#agent,
        headers: {
          accept: 'application/json',
          ...(unit?.chosen === undefined ? {} : { [unit.header]: unit.chosen }),
          ...signIn,
          ...call.headers,
        },
        ...(call.body === undefined ? {} : { body: call.body }),
        signal: call.signal ? AbortSignal.any([call.signal, limit.signal]) : limit.signal,
      });
      status = response.statusCode;
      text = await boundedText(response.body, this.#system.name);
      const headers: Record<string, string> = {};
      for (const [name, value] of Object.entries(response.headers))
        if (value !== undefined) headers[name] = Array.isArray(value) ? value.join(', ') : value;
      this.#measureClock(headers.date, sentAt, clock.now());
      return {
        status: response.statusCode,
        headers,
        body: call.isText ? text : this.#parse(text, response.statusCode),
      };
    } catch (error) {
      trouble = error;
      throw error;
    } finally {
      clearTimeout(timer);
      ended?.();
      this.#dependencies.onExchange?.({
        at: sentAt,
        tookMs: clock.now() - sentAt,
        method: call.method,
        target: url.pathname + url.search,
        sent: call.body,
        status,
        received: text,
        trouble: trouble === undefined ? undefined : messageOf(trouble),
      });
    }
  }

  #parse(text: string, status: number): Raw {
    if (text.trim() === '') return null;
    try {
      return parseExactJson(text);
    } catch (cause) {
      // An error page of a proxy is no reason to doubt what the status says.
      if (status >= 400) return text.slice(0, 500);
      throw new SystemTrouble(
        'answer not understood',
        `${this.#system.name} answered with something that is not JSON: “${text.slice(0, 80).trim()}”`,
        'Look at the address: it may lead to a sign-in page or a proxy. If only one page is broken, its ' +
          'system has to mend it.',
        { cause },
      );
    }
  }

  #refuseTrouble(answer: Answer, isRead: boolean): void {
    const { name } = this.#system;
    const words = wordsOf(answer);
    if (answer.status === 401)
      throw new SystemTrouble(
        'sign-in refused',
        `${name} refused the sign-in: ${words}`,
        'Check the credential of this system, and enter it again if it was replaced there.',
      );
    if (answer.status === 403)
      throw new SystemTrouble(
        'not allowed',
        `${name} does not allow this: ${words}`,
        'Give the account of this connection the right to read and write these records.',
      );
    if (answer.status === 429)
      throw new SystemTrouble(
        'too many calls',
        `${name} still says too many calls after ${mostAttempts} tries`,
        'Its allowance is used up; run again later.',
      );
    if (isRead && answer.status >= 500)
      throw new SystemTrouble(
        'server error',
        `${name} answered ${answer.status}: ${words}`,
        'Try again later; if it stays so, ask whoever runs that system.',
      );
  }

  #measureClock(date: string | undefined, sentAt: number, answeredAt: number): void {
    const theirs = date === undefined ? Number.NaN : Date.parse(date);
    const took = answeredAt - sentAt;
    if (Number.isNaN(theirs) || (this.#offset && this.#offset.took < took)) return;
    this.#offset = { milliseconds: theirs + 500 - (sentAt + answeredAt) / 2, took };
  }
}

/** A write whose answer never came: it may have taken effect. */
class LostAnswer extends Error {}

export async function boundedText(body: AsyncIterable<Uint8Array>, name: string): Promise<string> {
  const parts: Uint8Array[] = [];
  let size = 0;
  for await (const part of body) {
    size += part.length;
    if (size > largestAnswerBytes)
      throw new SystemTrouble(
        'answer not understood',
        `${name} sent an answer of more than ${largestAnswerBytes / 1024 / 1024} MB`,
        'Use smaller pages.',
      );
    parts.push(part);
  }
  return Buffer.concat(parts).toString('utf8');
}

function messageOf(error: unknown): string {
  if ((error as { name?: unknown } | undefined)?.name === 'TimeoutError') return 'its answer did not end in time';
  return error instanceof Error ? error.message || (error as NodeJS.ErrnoException).code || error.name : String(error);
}

function unreachable(system: CalledSystem, cause: unknown): SystemTrouble {
  return new SystemTrouble(
    'unreachable',
    `${system.name} cannot be reached at ${system.address}: ${messageOf(cause)}`,
    'See whether it is running and whether the address and port are right.',
    { cause },
  );
}

/** What a system says of an error, in its own words: the usual members of JSON error bodies, or the text itself. */
export function wordsOf(answer: Answer): string {
  const found = findWords(answer.body, 0);
  return found ? found.slice(0, 500) : `status ${answer.status}`;
}

function findWords(body: Raw, depth: number): string | undefined {
  if (typeof body === 'string')
    return body.trim() === ''
      ? undefined
      : body
          .replaceAll(/<[^>]*>/g, ' ')
          .replaceAll(/\s+/g, ' ')
          .trim();
  if (body === null || typeof body !== 'object' || depth > 3) return undefined;
  if (Array.isArray(body))
    return (
      body
        .map((item: Raw) => findWords(item, depth + 1))
        .filter(Boolean)
        .join('; ') || undefined
    );
  const members = body as Record<string, Raw>;
  const found = ['detail', 'message', 'error_description', 'error', 'title', 'reason']
    .map((name) => (members[name] === undefined ? undefined : findWords(members[name], depth + 1)))
    .find(Boolean);
  // A general word and the particulars: both are needed to act.
  const particulars = members.errors === undefined ? undefined : findWords(members.errors, depth + 1);
  return [found, particulars].filter(Boolean).join(': ') || undefined;
}
