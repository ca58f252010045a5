import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { page } from './pages.js';

/** What a stand-in does wrong on purpose. */
export interface Faults {
  /** Each call takes this much longer, in milliseconds. */
  delayMs: number;
  /** Share of calls that are answered with 500 and have no effect, 0 to 1. */
  errorRate: number;
  /** Calls per second that are answered; 0 is no limit. */
  callsPerSecond: number;
  /** Share of writes that take effect and whose connection then breaks, 0 to 1. */
  dropAfterWrite: number;
  /** Pages of a listing come as broken JSON. */
  brokenPages: boolean;
  /** Every sign-in is refused. */
  refuseSignIn: boolean;
}

export const noFaults: Faults = {
  delayMs: 0,
  errorRate: 0,
  callsPerSecond: 0,
  dropAfterWrite: 0,
  brokenPages: false,
  refuseSignIn: false,
};

const labels: Readonly<Record<keyof Faults, string>> = {
  delayMs: 'Each call takes longer by (milliseconds)',
  errorRate: 'Share of calls that fail with 500 (0 to 1)',
  callsPerSecond: 'Calls allowed per second (0: no limit)',
  dropAfterWrite: 'Share of writes after which the connection breaks (0 to 1)',
  brokenPages: 'Listings come as broken JSON',
  refuseSignIn: 'Every sign-in is refused',
};

/** A small generator of numbers from 0 up to 1 (mulberry32), so that faults can be repeated. */
export function seededRandom(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296;
  };
}

/** Switchable faults for the calls of an API: what is registered under `prefix` gets them, pages for people do not. */
export class FaultSwitch {
  faults: Faults;
  readonly #random: () => number;
  #second = 0;
  #calls = 0;

  constructor(start: Partial<Faults> = {}, seed = 1) {
    this.faults = { ...noFaults, ...start };
    this.#random = seededRandom(seed);
  }

  /** For `onRequest` of API routes. Answers itself when the call is to fail. */
  async before(
    _: FastifyRequest,
    reply: FastifyReply,
    tooMany: (reply: FastifyReply) => FastifyReply,
  ): Promise<FastifyReply | undefined> {
    const { delayMs, errorRate } = this.faults;
    if (delayMs > 0) await new Promise((resolve) => setTimeout(resolve, delayMs));
    if (this.#overLimit()) return tooMany(reply.header('retry-after', '1').code(429));
    if (errorRate > 0 && this.#random() < errorRate) return reply.code(500).send({ error: 'internal error' });
    return undefined;
  }

  /** After a write took effect: true when the connection was broken instead of an answer. */
  drops(reply: FastifyReply): boolean {
    if (this.faults.dropAfterWrite <= 0 || this.#random() >= this.faults.dropAfterWrite) return false;
    reply.hijack();
    reply.raw.destroy();
    return true;
  }

  #overLimit(): boolean {
    const { callsPerSecond } = this.faults;
    if (callsPerSecond <= 0) return false;
    const second = Math.floor(Date.now() / 1000);
    if (second !== this.#second) {
      this.#second = second;
      this.#calls = 0;
    }
    this.#calls += 1;
    return this.#calls > callsPerSecond;
  }

  /** The page on which faults are switched, and the same as JSON. */
  register(app: FastifyInstance, name: string, path = '/faults'): void {
    app.get(path, async (_, reply) => reply.type('text/html').send(page(name, 'Faults', this.#form(path))));
    app.get(`${path}.json`, async () => this.faults);
    app.put(`${path}.json`, async (request) => this.#set(request.body as Record<string, unknown>));
    app.post(path, async (request, reply) => {
      const body = request.body as Record<string, string>;
      this.#set(
        Object.fromEntries(
          Object.entries(noFaults).map(([fault, off]) => [
            fault,
            typeof off === 'boolean' ? body[fault] === 'on' : Number(body[fault]),
          ]),
        ),
      );
      return reply.redirect(path);
    });
  }

  #set(values: Record<string, unknown>): Faults {
    for (const fault of Object.keys(noFaults) as (keyof Faults)[]) {
      const value = values[fault];
      if (typeof value === 'boolean' || (typeof value === 'number' && Number.isFinite(value) && value >= 0))
        Object.assign(this.faults, { [fault]: value });
    }
    return this.faults;
  }

  #form(path: string): string {
    const rows = (Object.keys(noFaults) as (keyof Faults)[]).map((fault) => {
      const value = this.faults[fault];
      const control =
        typeof value === 'boolean'
          ? `<input type="checkbox" name="${fault}" id="${fault}"${value ? ' checked' : ''}>`
          : `<input type="number" min="0" step="any" name="${fault}" id="${fault}" value="${value}">`;
      return `<tr><th><label for="${fault}">${labels[fault]}</label></th><td>${control}</td></tr>`;
    });
    return `<p>What this system does wrong on purpose,
      from the next call on.</p><form method="post"
        action="${path}"><table>${rows.join('')}</table><p><button>Switch</button></p></form>`;
  }
}
