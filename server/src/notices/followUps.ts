import type { DataSource } from 'typeorm';
import { v7 as uuid } from 'uuid';
import { z } from 'zod';
import { type FollowedOutcome, type FollowUp, type FollowUpPreview, pagesOf } from '@anchor-knot/contracts';
import { type Anchor, anchorId } from '@anchor-knot/core';
import type { Knots, LoadedKnot } from '../knots/knots.js';
import { anchorIds, loadAnchors } from '../persistence/tables/anchors.js';
import {
  followedSince,
  followedWrites,
  type FollowedWrite,
  type FollowUpRow,
  followUps,
  keepFollowUp,
  takeUnfollowedRuns,
} from '../persistence/tables/followUps.js';
import { addMessages, type NewMessage } from '../persistence/tables/noticeMessages.js';
import type { SqlConnection } from '../persistence/sql.js';
import type { Systems } from '../systems/systems.js';
import {
  problemsOfTemplates,
  type RenderedFollowUp,
  renderFollowUp,
  type TemplateValues,
  textOf,
} from './followUpTemplate.js';

const hourMs = 3_600_000;
const runsAtOnce = 20;
const outcomeOf: Readonly<Record<FollowedWrite['kind'], FollowedOutcome>> = {
  create: 'created',
  update: 'updated',
  archive: 'removed',
  delete: 'removed',
};

export interface FollowUpParts {
  readonly data: DataSource;
  readonly knots: Knots;
  readonly systems: Systems;
  /** Where people reach this installation. */
  readonly address: string;
}

/** What became of one record, or of the one that a preview shows. */
type Followed = Pick<FollowedWrite, 'record_key' | 'title' | 'words'> & {
  readonly anchor: Anchor | undefined;
  readonly outcome: FollowedOutcome;
};

/** Mails about single records, after runs have written them or a system has refused them. */
export class FollowUps {
  readonly #parts: FollowUpParts;

  constructor(parts: FollowUpParts) {
    this.#parts = parts;
  }

  /** What keeps a follow-up from being kept, in words; none where nothing does. */
  async problemsOf({ knot: id, member, addressField, ...templates }: FollowUp): Promise<string[]> {
    const knot = await this.#parts.knots.inForce(id);
    if (!knot) return ['The knot is not in force.'];
    const { members, fields } = knot.definition;
    const field = fields.find((one) => one.id === addressField);
    return [
      ...(members.some((one) => one.id === member) ? [] : ['The knot has no such member.']),
      ...(addressField === null || field ? [] : ['The knot has no such field to take the address from.']),
      ...(field?.sensitive ? [`“${field.name}” is sensitive: it stays out of mails.`] : []),
      ...problemsOfTemplates(templates, knot.definition),
    ];
  }

  /** @returns its revision; `undefined` when somebody changed it meanwhile */
  keep(id: string, followUp: FollowUp, seen: number, person: string): Promise<number | undefined> {
    return keepFollowUp(this.#parts.data, id, followUp, seen, person);
  }

  /**
   * What the mail about some thing of the knot would be; `undefined` where it has none.
   * @returns words where it cannot be made
   */
  async preview(followUp: FollowUp): Promise<FollowUpPreview | string | undefined> {
    const example = await this.#example(followUp);
    if (!example) return undefined;
    const rendered = await this.#render(followUp, example.knot, example.followed, '').catch((error: Error) => error);
    if (rendered instanceof Error) return `It cannot be made: ${rendered.message}`;
    const { subject, text } = rendered;
    return { subject, text, title: example.followed.title, to: addressesOf(followUp, example.followed.anchor) };
  }

  /** Sends the mail about some thing of the knot to a person alone. @returns false where the knot has none */
  async test({ id, follow_up: followUp }: FollowUpRow, address: string, now: Date): Promise<boolean> {
    const example = await this.#example(followUp);
    if (!example) return false;
    const rendered = await this.#render(followUp, example.knot, example.followed, id).catch((error: unknown) =>
      unrendered(followUp, example.followed, error),
    );
    await addMessages(this.#parts.data, [messageTo(address, id, followUp, rendered)], now);
    return true;
  }

  /** Makes the mails about what ended runs did. Of several workers each takes other runs. */
  async tell(now: Date): Promise<void> {
    await this.#parts.data.transaction(async (db) => {
      const rows = (await followUps(db)).filter((row) => row.follow_up.isOn);
      const knots = [...new Set(rows.map((row) => row.follow_up.knot))];
      for (const run of await takeUnfollowedRuns(db, knots, runsAtOnce))
        for (const row of rows)
          if (row.follow_up.knot === run.knot) await addMessages(db, await this.#messagesOf(db, row, run.id, now), now);
    });
  }

  async #messagesOf(db: SqlConnection, row: FollowUpRow, run: string, now: Date): Promise<NewMessage[]> {
    const { id, follow_up: followUp } = row;
    const knot = await this.#parts.knots.inForce(followUp.knot);
    if (!knot) return [];
    const made = await followedSince(db, id, new Date(now.getTime() - hourMs));
    const room = Math.max(0, followUp.mostPerHour - made);
    const { writes, count } = await followedWrites(db, run, followUp.member, followUp.outcomes, room);
    const anchors = await loadAnchors(
      db,
      writes.map((write) => anchorId(write.anchor_id)),
    );
    const messages: NewMessage[] = [];
    for (const write of writes) {
      const anchor = anchors.get(anchorId(write.anchor_id))?.anchor;
      const outcome = write.state === 'refused' ? 'refused' : outcomeOf[write.kind];
      const followed = { ...write, anchor, outcome };
      const rendered = await this.#render(followUp, knot, followed, id).catch((error: unknown) =>
        unrendered(followUp, followed, error),
      );
      for (const address of addressesOf(followUp, anchor)) messages.push(messageTo(address, id, followUp, rendered));
    }
    if (count > writes.length) messages.push(...this.#rest(row, knot, run, count - writes.length));
    return messages;
  }

  /** One mail for what would be more than may be sent: to the addresses that are always told. */
  #rest({ id, follow_up: followUp }: FollowUpRow, knot: LoadedKnot, run: string, more: number): NewMessage[] {
    const { name } = knot.definition;
    const page = new URL(`/runs/${run}`, this.#parts.address).href;
    const subject = `${name}: ${more} more of “${followUp.name}”`;
    const text =
      `${more} more records were ${followUp.outcomes.join(' or ')} in a run. They are listed there: ${page}\n\n` +
      `At most ${followUp.mostPerHour} mails an hour are sent by “${followUp.name}”.\n`;
    return followUp.addresses.map((address) => messageTo(address, id, followUp, { subject, text, html: '' }));
  }

  async #example(followUp: FollowUp): Promise<{ readonly knot: LoadedKnot; readonly followed: Followed } | undefined> {
    const { data, knots } = this.#parts;
    const knot = await knots.inForce(followUp.knot);
    const [first] = knot ? await anchorIds(data, knot.id, undefined, 1) : [];
    const anchor = first && (await loadAnchors(data, [first])).get(first)?.anchor;
    if (!knot || !anchor) return undefined;
    const key = anchor.ties.find(({ member }) => member === followUp.member)?.key ?? null;
    const title = textOf(anchor.agreed[knot.definition.titleField]?.value);
    const [outcome = 'created'] = followUp.outcomes;
    const words = outcome === 'refused' ? 'what the system says' : null;
    return { knot, followed: { record_key: key, title, words, anchor, outcome } };
  }

  async #render(
    followUp: FollowUp,
    { definition }: LoadedKnot,
    { record_key: key, title, words, anchor, outcome }: Followed,
    id: string,
  ): Promise<RenderedFollowUp> {
    const { systems, address } = this.#parts;
    const member = definition.members.find((one) => one.id === followUp.member);
    const system = member && (await systems.find(member.system));
    const page = system && member ? pagesOf(system.description, member.object).recordPage : null;
    const isOpen = (field: string): boolean => definition.fields.some((one) => one.id === field && !one.sensitive);
    const values: TemplateValues = {
      fields: Object.fromEntries(
        Object.entries(anchor?.agreed ?? {}).flatMap(([field, { value }]) =>
          isOpen(field) ? [[field, textOf(value)]] : [],
        ),
      ),
      title: isOpen(definition.titleField) ? title : (key ?? ''),
      outcome,
      words: words ?? '',
      knot: definition.name,
      system: system?.name ?? followUp.member,
      key: key ?? '',
      page: page && key !== null ? page.replaceAll('{key}', encodeURIComponent(key)) : '',
      here: anchor ? new URL(`/anchors/${anchor.id}`, address).href : address,
    };
    return renderFollowUp(followUp, values, new URL(`/notices/records/${id}`, address).href);
  }
}

/** One that could not be made keeps no other from being sent, and is not silent. */
function unrendered({ name }: FollowUp, { record_key: key, outcome }: Followed, error: unknown): RenderedFollowUp {
  const why = (error as Error).message;
  const text = `A record (${key ?? 'without a key'}) was ${outcome}; its mail could not be made: ${why}`;
  return { subject: `${name}: a mail could not be made`, text, html: '' };
}

/** The fixed addresses, and the one in the record where it is one. */
function addressesOf({ addresses, addressField }: FollowUp, anchor: Anchor | undefined): string[] {
  const own = addressField === null ? '' : textOf(anchor?.agreed[addressField]?.value);
  return [...new Set([...addresses, ...(z.email().safeParse(own).success ? [own] : [])])];
}

function messageTo(address: string, id: string, { name }: FollowUp, rendered: RenderedFollowUp): NewMessage {
  return { id: uuid(), followUp: id, ruleName: name, recipient: { kind: 'mail', address }, ...rendered, body: {} };
}
