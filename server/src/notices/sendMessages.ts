import { createTransport, type Transporter } from 'nodemailer';
import { Webhook } from 'standardwebhooks';
import { request } from 'undici';
import { type AddressFilter, filteredAgent, SystemTrouble } from '@anchor-knot/connectors';
import type { Message } from '@anchor-knot/contracts';
import type { SqlConnection } from '../persistence/sql.js';
import { type MessageRow, noteSending, takeMessage } from '../persistence/tables/noticeMessages.js';
import { findNoticeRule } from '../persistence/tables/noticeRules.js';
import type { SecretBox } from '../systems/secretBox.js';

const minuteMs = 60_000;
/** How long to wait after each attempt; when they are used up, it is given up. */
const pausesMs = [1, 5, 15, 60, 180, 360, 720, 1440].map((minutes) => minutes * minuteMs);
const silenceMs = 20_000;
/** Who takes a message has so long for it: more than a slow server may take. */
const heldSeconds = 120;
const longestTrouble = 500;
/** So many are sent in one go; then other work has its turn. */
const mostAtOnce = 20;

export interface PostSettings {
  /** The server that takes mail; none can be sent where it is left out. */
  readonly smtpUrl: string | undefined;
  readonly from: string;
  readonly addresses: AddressFilter;
}

/** Something that will not be otherwise when it is tried again. */
class Refused extends Error {}

/**
 * Sends what is to be sent. A message is taken by one worker at a time; one that died in the middle leaves it to the
 * next, so that a message may come twice, with the same id, and never not at all.
 */
export class Post {
  readonly #db: SqlConnection;
  readonly #secrets: SecretBox;
  readonly #settings: PostSettings;
  #transport: Transporter | undefined;

  constructor(db: SqlConnection, secrets: SecretBox, settings: PostSettings) {
    this.#db = db;
    this.#secrets = secrets;
    this.#settings = settings;
  }

  /** Why no mail can be sent; `undefined` where it can. */
  get noMail(): string | undefined {
    return this.#settings.smtpUrl === undefined
      ? 'No mail can be sent: the installation’s setting SMTP_URL names no server that takes it.'
      : undefined;
  }

  /** Sends what is due. @returns how many were tried */
  async sendDue(now: () => Date): Promise<number> {
    for (let count = 0; count < mostAtOnce; count += 1) {
      const message = await takeMessage(this.#db, now(), heldSeconds);
      if (!message) return count;
      await noteSending(this.#db, message.id, await this.#try(message, now));
    }
    return mostAtOnce;
  }

  close(): void {
    this.#transport?.close();
  }

  async #try(
    message: MessageRow,
    now: () => Date,
  ): Promise<{ state: Message['state']; trouble: string | null; nextAt?: Date; sentAt?: Date }> {
    try {
      await (message.recipient.kind === 'mail' ? this.#mail(message) : this.#call(message));
      return { state: 'sent', trouble: null, sentAt: now() };
    } catch (error) {
      const trouble = (error as Error).message.slice(0, longestTrouble);
      if (error instanceof Refused) return { state: 'refused', trouble };
      const pause = pausesMs[message.attempts - 1];
      if (pause === undefined) return { state: 'given up', trouble };
      return { state: 'waiting', trouble, nextAt: new Date(now().getTime() + pause) };
    }
  }

  async #mail({ id, recipient, subject, text, html }: MessageRow): Promise<void> {
    const { smtpUrl, from } = this.#settings;
    if (smtpUrl === undefined) throw new Error(this.noMail);
    this.#transport ??= createTransport({
      url: smtpUrl,
      connectionTimeout: silenceMs,
      greetingTimeout: silenceMs,
      socketTimeout: silenceMs,
      disableFileAccess: true,
      disableUrlAccess: true,
    });
    try {
      await this.#transport.sendMail({
        from,
        to: recipient.address,
        subject,
        text,
        html,
        // Who gets it twice can see that it is the same (RFC 5322 section 3.6.4).
        messageId: `<${id}@${from.slice(from.indexOf('@') + 1)}>`,
        // No automatic answer is wanted (RFC 3834 section 5).
        headers: { 'Auto-Submitted': 'auto-generated' },
      });
    } catch (error) {
      // What is wrong with the address stays wrong (RFC 5321 section 4.2.1); what is wrong with the sign-in may not.
      const { responseCode: code, command } = error as { responseCode?: number; command?: string };
      const isOfMessage = command === 'RCPT TO' || command === 'DATA' || command === 'MAIL FROM';
      if (code !== undefined && code >= 500 && isOfMessage) throw new Refused((error as Error).message);
      throw error;
    }
  }

  async #call({ id, rule_id: rule, recipient, body }: MessageRow): Promise<void> {
    const row = rule === null ? undefined : await findNoticeRule(this.#db, rule);
    if (!row?.secret) throw new Refused('The rule was removed, and its secret with it.');
    const sentAt = new Date();
    const content = JSON.stringify({ ...(body as object), timestamp: sentAt.toISOString() });
    const signature = new Webhook(this.#secrets.open(row.secret, secretName(row.id))).sign(id, sentAt, content);
    const dispatcher = filteredAgent(this.#settings.addresses, new URL(recipient.address).host, silenceMs);
    try {
      const answer = await request(recipient.address, {
        method: 'POST',
        dispatcher,
        headers: {
          'content-type': 'application/json',
          'webhook-id': id,
          'webhook-timestamp': String(Math.floor(sentAt.getTime() / 1000)),
          'webhook-signature': signature,
        },
        body: content,
      });
      await answer.body.dump({ limit: 16_384 });
      if (answer.statusCode === 410) throw new Refused('It answered 410: it wants no more of them.');
      if (answer.statusCode >= 300) throw new Error(`It answered ${answer.statusCode}.`);
    } catch (error) {
      if (error instanceof SystemTrouble && error.code === 'not allowed') throw new Refused(error.message);
      throw error;
    } finally {
      await dispatcher.close();
    }
  }
}

/** What a rule's secret is bound to. */
export const secretName = (rule: string): string => `notices ${rule}`;
