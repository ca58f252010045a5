import type { DataSource } from 'typeorm';
import type { NoticeRule } from '@anchor-knot/contracts';
import type { Knots } from '../knots/knots.js';
import type { SqlConnection } from '../persistence/sql.js';
import { unacknowledgedCounts } from '../persistence/tables/acknowledgements.js';
import { addMessages } from '../persistence/tables/noticeMessages.js';
import {
  addNoticeRule,
  changeNoticeRule,
  findNoticeRule,
  noticeRules,
  type NoticeRuleRow,
  noteTold,
} from '../persistence/tables/noticeRules.js';
import { lastStep, lockFinding } from '../persistence/tables/notices.js';
import { cursorsOf } from '../persistence/tables/runs.js';
import { hasSucceeded } from '../persistence/tables/timings.js';
import { knotStates } from '../persistence/tables/versions.js';
import { workingSubscriptions } from '../persistence/tables/webhooks.js';
import { newSigningSecret, type SecretBox } from '../systems/secretBox.js';
import type { Systems } from '../systems/systems.js';
import { freshnessOf, latestMember } from '../triggers/freshness.js';
import type { Timings } from '../triggers/timings.js';
import { findNotices } from './findNotices.js';
import type { LateKnot, UnacknowledgedMember } from './noticeWords.js';
import { renderNotice } from './renderNotice.js';
import { type Post, secretName } from './sendMessages.js';
import { messagesOf, nextDue, tellRules } from './tellRules.js';

export interface NoticeParts {
  readonly data: DataSource;
  readonly knots: Knots;
  readonly systems: Systems;
  readonly timings: Timings;
  readonly secrets: SecretBox;
  readonly post: Post;
  /** Where people reach this installation. */
  readonly address: string;
}

/** What needs somebody, and who is told of it. */
export class Notices {
  readonly #parts: NoticeParts;

  constructor(parts: NoticeParts) {
    this.#parts = parts;
  }

  get noMail(): string | undefined {
    return this.#parts.post.noMail;
  }

  /** Finds what is new or over, and makes the messages that are due. Of several workers one does it at a time. */
  async find(now: () => Date): Promise<void> {
    const { data, address } = this.#parts;
    await data.transaction(async (db) => {
      if (!(await lockFinding(db))) return;
      const rules = await noticeRules(db);
      const surroundings = {
        knotName: (knot: string) => this.#knotName(knot),
        systemOf: (knot: string, member: string) => this.#systemOf(knot, member),
        lateKnots: () => this.#lateKnots(db, now()),
        unacknowledged: () => this.#unacknowledged(db, now()),
      };
      await findNotices(db, surroundings, rules, now());
      await tellRules(db, rules, address, now());
    });
  }

  /** Sends what is due by now. */
  async send(now: () => Date): Promise<void> {
    await this.#parts.post.sendDue(now);
  }

  /**
   * Keeps a rule; a new one tells of what happens from now on.
   * @param seen the revision that the change was made on, 0 for a new one
   * @returns its revision, and the secret of a program's messages where one is made; `undefined` when somebody changed
   *   the rule meanwhile
   */
  async keep(
    id: string,
    rule: NoticeRule,
    seen: number,
    person: string,
    now: Date,
  ): Promise<{ readonly revision: number; readonly secret: string | null } | undefined> {
    return this.#parts.data.transaction(async (db) => {
      const known = await findNoticeRule(db, id);
      if ((known?.revision ?? 0) !== seen) return undefined;
      const { sealed, secret } = this.#secretFor(id, rule, known);
      const common = { id, rule, secret: sealed, changed_by: person, due_at: nextDue(rule, now) ?? null };
      if (!known) {
        await addNoticeRule(db, { ...common, told_through: await lastStep(db) });
        return { revision: 1, secret };
      }
      const revision = await changeNoticeRule(db, { ...common, revision: seen });
      if (revision === undefined) return undefined;
      // What happened while nobody was to be told of it is told to nobody.
      if (rule.isOn && !known.rule.isOn) await noteTold(db, id, await lastStep(db), nextDue(rule, now));
      return { revision, secret };
    });
  }

  #secretFor(
    id: string,
    { recipients }: NoticeRule,
    known: NoticeRuleRow | undefined,
  ): { readonly sealed: Buffer | null; readonly secret: string | null } {
    if (known?.secret) return { sealed: known.secret, secret: null };
    if (!recipients.some(({ kind }) => kind === 'webhook')) return { sealed: null, secret: null };
    const secret = newSigningSecret();
    return { sealed: this.#parts.secrets.seal(secret, secretName(id)), secret };
  }

  /** Sends a message to everybody of a rule that says only that it comes. @returns false where there is no such rule */
  async test(id: string, person: string, now: Date): Promise<boolean> {
    const { data, address } = this.#parts;
    const row = await findNoticeRule(data, id);
    if (!row) return false;
    const words = `A test of “${row.rule.name}”, sent by ${person}: nothing has happened.`;
    const [topic = 'run failed'] = row.rule.topics;
    const step = { step: 'began' as const, topic, words, at: now, path: '/notices', knot: null, system: null };
    await addMessages(data, messagesOf(row, await renderNotice(row, [step], address)), now);
    return true;
  }

  async #knotName(knot: string): Promise<string> {
    return (await this.#parts.knots.inForce(knot))?.definition.name ?? knot;
  }

  async #systemOf(knot: string, member: string): Promise<string> {
    const { knots, systems } = this.#parts;
    const system = (await knots.inForce(knot))?.definition.members.find(({ id }) => id === member)?.system ?? member;
    return (await systems.find(system))?.name ?? system;
  }

  async #lateKnots(db: SqlConnection, now: Date): Promise<readonly LateKnot[]> {
    const { knots, timings } = this.#parts;
    const states = await knotStates(db);
    const hearings = await workingSubscriptions(db);
    const late: LateKnot[] = [];
    for (const { id, definition } of await knots.all()) {
      const { timing } = await timings.of(id, db);
      if (timing.lateAfterMinutes === undefined || states.get(id)?.state !== 'running') continue;
      if (!(await hasSucceeded(db, id))) continue;
      const freshness = freshnessOf(definition, timing, await cursorsOf(db, id), hearings, now.getTime());
      const furthest = latestMember(timing, freshness, now.getTime());
      if (furthest)
        late.push({
          knot: id,
          systemName: await this.#systemOf(id, furthest.member),
          knownAt: furthest.knownAt,
        });
    }
    return late;
  }

  async #unacknowledged(db: SqlConnection, now: Date): Promise<readonly UnacknowledgedMember[]> {
    const found: UnacknowledgedMember[] = [];
    for (const { id, definition } of await this.#parts.knots.all()) {
      const minutesOf = new Map(
        definition.members.flatMap(({ id: member, acknowledges }) =>
          acknowledges ? [[member, acknowledges.lateAfter] as const] : [],
        ),
      );
      for (const [member, { late }] of await unacknowledgedCounts(db, id, minutesOf, now))
        if (late > 0) found.push({ knot: id, member, late, minutes: minutesOf.get(member) ?? 0 });
    }
    return found;
  }
}
