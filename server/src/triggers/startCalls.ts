import type { DataSource } from 'typeorm';
import { v7 as uuid } from 'uuid';
import { DeliveryRefused, verifyDelivery } from '@anchor-knot/connectors';
import { type CalledScope, calledScopeSchema } from '@anchor-knot/contracts';
import type { Knots } from '../knots/knots.js';
import {
  addStartCall,
  findStartCall,
  lockStartCall,
  noteRefused,
  noteTaken,
  runOfCall,
  type StartCallRow,
} from '../persistence/tables/startCalls.js';
import { newSigningSecret, type SecretBox } from '../systems/secretBox.js';
import type { Scheduler } from './scheduler.js';

/** Signed times are good for five minutes to either side; who was taken is remembered for longer than that. */
const rememberedMinutes = 15;
const longestMessageId = 200;
const signature = { signature: { kind: 'standard webhooks' } } as Parameters<typeof verifyDelivery>[0];

export type CallOutcome =
  | { readonly kind: 'started'; readonly run: string }
  /** It was not signed as it has to be. */
  | { readonly kind: 'refused'; readonly says: string }
  /** Signed, and still nothing that can be done. */
  | { readonly kind: 'not possible'; readonly says: string };

/** Other programs start knots: each at an address of its own, with calls that it signs. */
export class StartCalls {
  readonly #data: DataSource;
  readonly #secrets: SecretBox;
  readonly #knots: Knots;
  readonly #scheduler: Scheduler;

  constructor(data: DataSource, secrets: SecretBox, knots: Knots, scheduler: Scheduler) {
    this.#data = data;
    this.#secrets = secrets;
    this.#knots = knots;
    this.#scheduler = scheduler;
  }

  /** @returns the secret of the signatures, in the form of the Standard Webhooks specification; it is given once */
  async make(knot: string, name: string, person: string): Promise<{ readonly id: string; readonly secret: string }> {
    const id = uuid();
    const secret = newSigningSecret();
    const sealed = this.#secrets.seal(secret, secretName(id));
    await addStartCall(this.#data, { id, knot_id: knot, name, secret: sealed, made_by: person });
    return { id, secret };
  }

  /**
   * Takes a call that is signed and was sent just now. The same call again is answered as before and starts nothing.
   * @param headers with names in small letters
   * @returns `undefined` where there is no such address
   */
  async receive(
    id: string,
    headers: Readonly<Record<string, string | undefined>>,
    body: Buffer,
  ): Promise<CallOutcome | undefined> {
    const row = await findStartCall(this.#data, id);
    if (!row) return undefined;
    const message = await this.#verified(row, headers, body);
    if (typeof message !== 'string') return message;
    const scope = await this.#scopeOf(row, body);
    if ('kind' in scope) return scope;
    return this.#data.transaction(async (db) => {
      if (!(await lockStartCall(db, id))) return undefined;
      const before = await runOfCall(db, id, message);
      if (before !== undefined) return { kind: 'started', run: before };
      const run = await this.#scheduler.startCalled(db, row.knot_id, scope);
      if (run === undefined)
        return {
          kind: 'not possible',
          says: 'The knot is paused or ended, or nobody has seen a first run of it yet.',
        };
      await noteTaken(db, id, message, run, rememberedMinutes);
      return { kind: 'started', run };
    });
  }

  /** @returns the id of the message; or why it is refused */
  async #verified(
    row: StartCallRow,
    headers: Readonly<Record<string, string | undefined>>,
    body: Buffer,
  ): Promise<string | CallOutcome> {
    try {
      const secret = this.#secrets.open(row.secret, secretName(row.id));
      return verifyDelivery(signature, secret, headers, body, Date.now()).slice(0, longestMessageId);
    } catch (error) {
      if (!(error instanceof DeliveryRefused)) throw error;
      await noteRefused(this.#data, row.id);
      return { kind: 'refused', says: error.message };
    }
  }

  async #scopeOf({ knot_id: knot }: StartCallRow, body: Buffer): Promise<CalledScope | CallOutcome> {
    const parsed = calledScopeSchema.safeParse(parsedJson(body));
    if (!parsed.success) {
      const [issue] = parsed.error.issues;
      return {
        kind: 'not possible',
        says: `${issue?.path.join('.') || 'The body'}: ${issue?.message ?? 'is not right'}`,
      };
    }
    const members = (await this.#knots.inForce(knot))?.definition.members.map(({ id }) => id) ?? [];
    const { records, members: asked } = parsed.data;
    const stranger = [...(asked ?? []), ...(records ?? []).map(({ member }) => member)].find(
      (member) => !members.includes(member),
    );
    if (stranger === undefined) return parsed.data;
    return { kind: 'not possible', says: `There is no member ${stranger}; there are ${members.join(', ')}.` };
  }
}

/** An empty body asks for what changed; what is no JSON is nothing that the schema knows. */
function parsedJson(body: Buffer): unknown {
  const text = body.toString('utf8').trim();
  if (text === '') return {};
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}

/** What the secret of an address is bound to. */
const secretName = (call: string): string => `start call ${call}`;
