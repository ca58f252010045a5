import type { FastifyInstance } from 'fastify';
import { pino } from 'pino';
import { type Role, roles } from '@anchor-knot/contracts';
import { makeApp } from '../api/app.js';
import { ServerEvents } from '../api/serverEvents.js';
import { addPerson } from '../signIn/signInRoutes.js';
import type { RealInstallation } from './realInstallation.js';

export interface Call {
  readonly method?: string;
  readonly url: string;
  readonly headers?: Record<string, string>;
  readonly payload?: unknown;
}

export interface SignedIn {
  readonly cookie: string;
  readonly 'x-csrf-token': string;
}

const password = 'correct horse battery';

/** The web server of an installation, over real HTTP, with a person of each role. */
export class ApiClient {
  readonly address: string;
  /** Every body that was answered, and every line that was logged. */
  readonly answered: string[] = [];
  readonly logged: string[];
  readonly #app: FastifyInstance;
  readonly #events: ServerEvents;
  readonly #sessions = new Map<Role, Promise<SignedIn>>();

  private constructor(address: string, app: FastifyInstance, events: ServerEvents, logged: string[]) {
    this.address = address;
    this.#app = app;
    this.#events = events;
    this.logged = logged;
  }

  static async start(installation: RealInstallation): Promise<ApiClient> {
    const logged: string[] = [];
    const events = new ServerEvents(installation.url, installation.parts.data);
    await events.open();
    const log = pino({ level: 'debug' }, { write: (line: string) => void logged.push(line) });
    const app = await makeApp(
      { ...installation.parts, events },
      { SECRET_KEY: installation.key, COOKIE_SECURE: false, WEB_FOLDER: undefined },
      log,
    );
    const address = await app.listen({ host: '127.0.0.1', port: 0 });
    for (const role of roles)
      await addPerson(installation.parts.data, { name: role, email: `${role}@x.example`, role }, password);
    return new ApiClient(address, app, events, logged);
  }

  async call(what: Call | string) {
    const { method = 'GET', url, headers = {}, payload }: Call = typeof what === 'string' ? { url: what } : what;
    const answer = await fetch(this.address + url, {
      method,
      headers: { ...headers, ...(payload === undefined ? {} : { 'content-type': 'application/json' }) },
      ...(payload === undefined ? {} : { body: JSON.stringify(payload) }),
    });
    const body = await answer.text();
    this.answered.push(body);
    return {
      statusCode: answer.status,
      body,
      json: () => JSON.parse(body) as unknown,
      cookies: answer.headers.getSetCookie(),
    };
  }

  /** A session of its own. */
  async signIn(role: Role): Promise<SignedIn> {
    const answer = await this.call({
      method: 'POST',
      url: '/api/session',
      payload: { email: `${role.toUpperCase()}@x.example`, password },
    });
    expect(answer.statusCode).toBe(200);
    for (const cookie of answer.cookies) expect(cookie).toMatch(/HttpOnly; SameSite=Strict/);
    return {
      cookie: answer.cookies.map((cookie) => cookie.split(';')[0]).join('; '),
      'x-csrf-token': (answer.json() as { csrfToken: string }).csrfToken,
    };
  }

  /** The session that all tests of a file share: sign-ins are limited. */
  once(role: Role): Promise<SignedIn> {
    const known = this.#sessions.get(role) ?? this.signIn(role);
    this.#sessions.set(role, known);
    return known;
  }

  /** A call as somebody. */
  async as(role: Role, method: string, url: string, payload?: unknown) {
    return this.call({ method, url, headers: { ...(await this.once(role)) }, payload });
  }

  async close(): Promise<void> {
    await this.#app.close();
    await this.#events.close();
  }
}
