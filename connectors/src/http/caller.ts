import { isIP, type LookupFunction } from 'node:net';
import { Agent, type Dispatcher, request } from 'undici';
import type { Credential, HttpSystem } from '@anchor-knot/contracts';
import type { Raw } from '@anchor-knot/core';
import type { AddressFilter } from '../addressFilter.js';
import { type Clock, SystemTrouble } from '../connector.js';
import { parseExactJson } from '../json/exactJson.js';
import { isRefusedConnection } from '../refusedConnection.js';

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
}

export interface CallerDependencies {
  readonly clock: Clock;
  /** A number from 0 up to 1, for jitter. */
  readonly random: () => number;
  readonly credential?: Credential | undefined;
  /** Where systems may be. */
  readonly addresses: AddressFilter;
}

const mostAttempts = 6;
const firstDelayMs = 250;
const longestDelayMs = 20_000;
/** A page or a record larger than this is no page and no record. */
const largestAnswerBytes = 64 * 1024 * 1024;

/**
 * Calls one system: signs in, keeps the connection, repeats what may be repeated. Reads are repeated after network
 * errors and 5xx; writes only after 429 and 503 with Retry-After, where the system says that it did nothing.
 */
export class Caller {
  readonly #system: HttpSystem;
  readonly #dependencies: CallerDependencies;
  readonly #agent: Agent;
  readonly #origin: URL;
  #token: { readonly value: string; readonly until: number } | undefined;
  #offset: { readonly milliseconds: number; readonly took: number } | undefined;

  constructor(system: HttpSystem, dependencies: CallerDependencies) {
    this.#system = system;
    this.#dependencies = dependencies;
    this.#origin = new URL(system.address);
    this.#agent = new Agent({
      connections: 8,
      headersTimeout: system.timeoutMs,
      bodyTimeout: system.timeoutMs,
      connect: { timeout: Math.min(system.timeoutMs, 10_000), lookup: this.#lookUp },
    });
  }

  readonly #lookUp: LookupFunction = (host, options, done) => {
    this.#judged(host).then(
      (address) => (options.all ? done(null, [{ address, family: isIP(address) }]) : done(null, address, isIP(address))),
      (error: Error) => done(error, ''),
    );
  };

  #judged(host: string): Promise<string> {
    return this.#dependencies.addresses.resolve(host, Number(this.#origin.port || (this.#origin.protocol === 'https:' ? 443 : 80)), this.#system.name);
  }

  /** The whole URL of a path: below the address, which may have a path of its own; what is absolute already stays so. */
  url(path: string): URL {
    return /^https?:/.test(path) ? new URL(path) : new URL(this.#origin.origin + this.#origin.pathname.replace(/\/+$/, '') + path);
  }

  /** How far the system's clock is ahead, by the Date header (RFC 9110 section 6.6.1) of the quickest answer so far. */
  get clockOffset(): number {
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
    for (let attempt = 1; ; attempt += 1) {
      let answer: Answer;
      try {
        answer = await this.#once(call, await this.#signIn());
      } catch (error) {
        if (call.signal?.aborted || error instanceof SystemTrouble) throw error;
        const refused = isRefusedConnection(error);
        if ((isRead || refused) && attempt < (refused ? 3 : mostAttempts)) {
          await this.#pause(attempt, undefined, call.signal);
          continue;
        }
        if (isRead || refused) throw unreachable(this.#system, error);
        throw new LostAnswer(`the connection broke before the answer: ${messageOf(error)}`, { cause: error });
      }
      if (answer.status === 401 && this.#system.signIn.kind === 'client credentials' && !renewed) {
        renewed = true;
        this.#token = undefined;
        continue;
      }
      const mayRepeat = answer.status === 429 || (answer.status === 503 && answer.headers['retry-after'] !== undefined) || (isRead && answer.status >= 500);
      if (mayRepeat && attempt < mostAttempts) {
        await this.#pause(attempt, answer.headers['retry-after'], call.signal);
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
    // Names are judged when they are looked up; an address that needs no looking up is judged here.
    if (isIP(url.hostname.replace(/^\[|\]$/g, ''))) await this.#judged(url.hostname);
    const { clock } = this.#dependencies;
    const sentAt = clock.now();
    const response = await request(url, {
      method: call.method,
      dispatcher: this.#agent,
      headers: { accept: 'application/json', ...signIn, ...call.headers },
      ...(call.body === undefined ? {} : { body: call.body }),
      ...(call.signal ? { signal: call.signal } : {}),
    });
    const text = await boundedText(response.body, this.#system.name);
    const headers: Record<string, string> = {};
    for (const [name, value] of Object.entries(response.headers)) if (value !== undefined) headers[name] = Array.isArray(value) ? value.join(', ') : value;
    this.#measureClock(headers.date, sentAt, clock.now());
    return { status: response.statusCode, headers, body: this.#parse(text, response.statusCode) };
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
        'Look at the address: it may lead to a sign-in page or a proxy. If only one page is broken, its system has to mend it.',
        { cause },
      );
    }
  }

  /** The headers that sign in. */
  async #signIn(): Promise<Readonly<Record<string, string>>> {
    const { signIn } = this.#system;
    const { credential, clock } = this.#dependencies;
    if (signIn.kind === 'none') return {};
    if (!credential) throw new SystemTrouble('sign-in refused', `no credential is kept for ${this.#system.name}`, 'Enter the credential of this system.');
    switch (signIn.kind) {
      case 'key and secret':
        return { authorization: `Basic ${Buffer.from(`${credential.id}:${credential.secret}`).toString('base64')}` };
      case 'bearer token':
        return { authorization: `Bearer ${credential.secret}` };
      case 'header key':
        return { [signIn.header.toLowerCase()]: credential.secret };
      case 'client credentials':
        if (!this.#token || this.#token.until <= clock.now()) this.#token = await this.#fetchToken(signIn.tokenPath, signIn.scope, credential);
        return { authorization: `Bearer ${this.#token.value}` };
      default:
        throw new Error(`unknown sign-in ${JSON.stringify(signIn satisfies never)}`);
    }
  }

  /** OAuth 2.0 client credentials grant, RFC 6749 section 4.4. */
  async #fetchToken(path: string, scope: string | undefined, { id, secret }: Credential): Promise<{ value: string; until: number }> {
    const form = new URLSearchParams({ grant_type: 'client_credentials', ...(scope ? { scope } : {}) });
    // RFC 6749 section 2.3.1: id and secret are form-encoded before they are joined.
    const basic = Buffer.from(`${encodeURIComponent(id)}:${encodeURIComponent(secret)}`).toString('base64');
    for (let attempt = 1; ; attempt += 1) {
      try {
        const answer = await this.#once(
          { method: 'POST', path: this.#origin.origin + path, body: form.toString(), headers: { 'content-type': 'application/x-www-form-urlencoded' } },
          { authorization: `Basic ${basic}` },
        );
        const body = answer.body as { access_token?: unknown; expires_in?: unknown } | null;
        if (answer.status === 200 && typeof body === 'object' && typeof body?.access_token === 'string') {
          const seconds = typeof body.expires_in === 'number' ? body.expires_in : 300;
          return { value: body.access_token, until: this.#dependencies.clock.now() + Math.max(1, seconds - 30) * 1000 };
        }
        if (answer.status < 500 && answer.status !== 429) {
          throw new SystemTrouble(
            'sign-in refused',
            `${this.#system.name} refused the sign-in: ${wordsOf(answer)}`,
            'Check the client id and secret of this system, and enter them again if they were replaced there.',
          );
        }
        if (attempt >= mostAttempts)
          throw new SystemTrouble('server error', `${this.#system.name} cannot give a token: ${wordsOf(answer)}`, 'Try again later; if it stays so, ask whoever runs that system.');
        await this.#pause(attempt, answer.headers['retry-after'], undefined);
      } catch (error) {
        if (error instanceof SystemTrouble) throw error;
        if (attempt >= 3) throw unreachable(this.#system, error);
        await this.#pause(attempt, undefined, undefined);
      }
    }
  }

  #refuseTrouble(answer: Answer, isRead: boolean): void {
    const { name } = this.#system;
    const words = wordsOf(answer);
    if (answer.status === 401)
      throw new SystemTrouble('sign-in refused', `${name} refused the sign-in: ${words}`, 'Check the credential of this system, and enter it again if it was replaced there.');
    if (answer.status === 403)
      throw new SystemTrouble('not allowed', `${name} does not allow this: ${words}`, 'Give the account of this connection the right to read and write these records.');
    if (answer.status === 429)
      throw new SystemTrouble('too many calls', `${name} still says too many calls after ${mostAttempts} tries`, 'Its allowance is used up; run again later.');
    if (isRead && answer.status >= 500)
      throw new SystemTrouble('server error', `${name} answered ${answer.status}: ${words}`, 'Try again later; if it stays so, ask whoever runs that system.');
  }

  /** Retry-After (RFC 9110 section 10.2.3) where the system gives it; otherwise exponential backoff with full jitter. */
  async #pause(attempt: number, retryAfter: string | undefined, signal: AbortSignal | undefined): Promise<void> {
    const { clock, random } = this.#dependencies;
    const asked = retryAfter === undefined ? undefined : /^\d+$/.test(retryAfter) ? Number(retryAfter) * 1000 : Date.parse(retryAfter) - clock.now();
    const backoff = Math.min(longestDelayMs, firstDelayMs * 2 ** (attempt - 1));
    await clock.sleep(asked !== undefined && asked >= 0 ? Math.min(asked, 60_000) + random() * 100 : backoff * (0.5 + random() / 2), signal);
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

async function boundedText(body: AsyncIterable<Uint8Array>, name: string): Promise<string> {
  const parts: Uint8Array[] = [];
  let size = 0;
  for await (const part of body) {
    size += part.length;
    if (size > largestAnswerBytes)
      throw new SystemTrouble('answer not understood', `${name} sent an answer of more than ${largestAnswerBytes / 1024 / 1024} MB`, 'Use smaller pages.');
    parts.push(part);
  }
  return Buffer.concat(parts).toString('utf8');
}

function messageOf(error: unknown): string {
  return error instanceof Error ? error.message || (error as NodeJS.ErrnoException).code || error.name : String(error);
}

function unreachable(system: HttpSystem, cause: unknown): SystemTrouble {
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
