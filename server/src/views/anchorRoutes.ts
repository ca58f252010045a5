import type { FastifyInstance, FastifyReply } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { type AnchorId, anchorId, type Knot } from '@anchor-knot/core';
import {
  anchorListSchema,
  anchorRowsSchema,
  type AnchorView,
  foundAnchorsSchema,
  anchorViewSchema,
  forecastRequestSchema,
  forecastSchema,
  type JournalEntry,
  journalEntrySchema,
  problemSchema,
  regroupSchema,
  rowsAs,
  tieSchema,
} from '@anchor-knot/contracts';
import { forecast, type HandOutcome, mergeByHand, type Refusal, splitByHand, tieByHand } from '../anchors/handTies.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { decisionViews } from '../decisions/decisionView.js';
import {
  anchorMergedInto,
  anchorPage,
  anchorPages,
  anchorsByTitle,
  countAnchors,
  findAnchors,
  mostCounted,
} from '../persistence/tables/anchorPages.js';
import { knotOfAnchor } from '../persistence/tables/ties.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import { decisionsAbout, decisionsOfAnchors } from '../persistence/tables/decisionLists.js';
import { historyOf, type JournalViewRow } from '../persistence/tables/journal.js';
import type { LoadedKnot } from '../knots/knots.js';
import { bindReferences } from '../orchestration/bindReferences.js';
import { referenceSource } from '../persistence/referenceSource.js';
import { referringOf, referringTo } from '../persistence/tables/references.js';
import { systemClock } from '../worker/systemClock.js';
import { anchorView } from './anchorView.js';
import { memberSummaries } from './summaries.js';
import { withThings } from './things.js';

const pageSize = 60;
const longestHistory = 200;
/** As many as are looked at in a list of suggestions. */
const mostFound = 12;
/** What refers to a thing is counted; so much of it is named. */
const mostReferring = 60;
const rowsShown = 50;

export function anchorRoutes(app: FastifyInstance, { data, knots, systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  typed.get(
    '/api/knots/:knot/anchors',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['anchors'],
        summary: 'Anchors by title, searched by title or record key',
        params: z.object({ knot: z.string() }),
        querystring: z.object({
          search: z.string().max(200).optional(),
          state: z.enum(['all', 'open']).default('all'),
          afterTitle: z.string().max(600).optional(),
          afterId: z.uuid().optional(),
        }),
        response: { 200: anchorListSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { search, state, afterTitle, afterId } = request.query;
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      const wanted = { knot: knot.id, state, text: search };
      const rows = await anchorsByTitle(data, wanted, { title: afterTitle, id: afterId }, pageSize);
      const total = await countAnchors(data, wanted);
      const anchors = rows.map((row) => ({
        id: row.id,
        title: row.title,
        agrees: !row.open,
        ties: row.ties,
        decisions: row.decisions,
        changedAt: row.changed_at.toISOString(),
      }));
      return {
        anchors,
        next: rows.length === pageSize ? (rows.at(-1)?.id ?? null) : null,
        total: Math.min(total, mostCounted),
        isMore: total > mostCounted,
      };
    },
  );

  typed.get(
    '/api/anchors',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['anchors'],
        summary: 'Some anchors of any knot, by a part of their title or of a record key',
        querystring: z.object({ search: z.string().trim().min(2).max(200) }),
        response: { 200: foundAnchorsSchema },
      },
    },
    async (request) => {
      const rows = await findAnchors(data, request.query.search, mostFound);
      const found = await Promise.all([...new Set(rows.map((row) => row.knot_id))].map((id) => knots.inForce(id)));
      const names = new Map(found.flatMap((knot) => (knot ? [[knot.id, knot.definition.name] as const] : [])));
      return {
        anchors: rows.map(({ id, knot_id: knot, title, keys }) => ({
          id,
          title,
          keys: [...keys],
          knotName: names.get(knot) ?? knot,
        })),
      };
    },
  );

  typed.get(
    '/api/anchors/:anchor',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['anchors'],
        summary: 'One anchor: what is agreed, what each system says, and why',
        params: z.object({ anchor: z.uuid() }),
        response: { 200: anchorViewSchema, 404: problemSchema, 410: problemSchema.extend({ movedTo: z.uuid() }) },
      },
    },
    async (request, reply) => {
      const id = request.params.anchor;
      const page = await anchorPage(data, id);
      const knot = page && (await knots.inForce(page.knot));
      if (!page || !knot) {
        const movedTo = await anchorMergedInto(data, id);
        return movedTo === undefined
          ? reply.code(404).send(noSuch('anchor'))
          : reply.code(410).send({ code: 'merged', says: 'This anchor was merged into another one.', movedTo });
      }
      const decisions = await decisionsAbout(data, id);
      const connected = await systems.all();
      const journal = await historyOf(data, id, longestHistory);
      const compiled = await bindReferences(referenceSource(data), knot.compiled, [page]);
      const view = anchorView(
        { ...knot, compiled },
        page.anchor,
        page.title,
        !page.open,
        memberSummaries(knot.definition, connected),
        await decisionViews(data, knot, decisions, connected),
        journal.map(journalEntry),
        await referringView(page.anchor.id, knot),
      );
      const [named] = await withThings(data, knot.definition, [view]);
      return named as AnchorView;
    },
  );

  typed.get(
    '/api/anchors/:anchor/rows/:knot',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['anchors'],
        summary: 'The things of a knot that refer to an anchor, each with what all systems say: the lines of an order',
        params: z.object({ anchor: z.uuid(), knot: z.string() }),
        querystring: z.object({ skip: z.coerce.number().int().min(0).max(1_000_000).default(0) }),
        response: { 200: anchorRowsSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { anchor, knot: id } = request.params;
      const knot = await knots.inForce(id);
      if (!knot) return reply.code(404).send(noSuch('knot in force'));
      const thing = anchorId(anchor);
      const counts = (await referringTo(data, thing, 0)).counts;
      const ids = await referringOf(data, thing, id, { skip: request.query.skip, limit: rowsShown });
      return { total: counts.get(id) ?? 0, rows: [...(await rowViews(knot, ids))] };
    },
  );

  const changed = z.object({ changed: z.literal(true) });
  const answers = { 200: changed, 404: problemSchema, 409: problemSchema };

  typed.post(
    '/api/anchors/:anchor/regroup',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['anchors'],
        summary:
          'Take records out of an anchor, to be a thing of their own; or bring another anchor’s records to this one',
        params: z.object({ anchor: z.uuid() }),
        body: regroupSchema,
        response: answers,
      },
    },
    async (request, reply) => {
      const { anchor } = request.params;
      const knot = await knotOf(anchor);
      if (!knot) return reply.code(404).send(noSuch('anchor'));
      const { body } = request;
      const person = request.person?.name ?? '';
      const outcome =
        body.kind === 'split'
          ? await splitByHand(data, knot, anchor, body.members, person, new Date())
          : await mergeByHand(data, knot, await names(knot), anchor, body.with, person, new Date());
      return answer(outcome, reply);
    },
  );

  typed.post(
    '/api/anchors/:anchor/forecast',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['anchors'],
        summary: 'What the next run would do after a regrouping, or after a record was tied; nothing is changed',
        params: z.object({ anchor: z.uuid() }),
        body: forecastRequestSchema,
        response: { 200: forecastSchema, 404: problemSchema, 409: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knotOf(request.params.anchor);
      if (!knot) return reply.code(404).send(noSuch('anchor'));
      const { body } = request;
      const member = body.kind === 'tie' ? knot.definition.members.find(({ id }) => id === body.member) : undefined;
      if (body.kind === 'tie' && !member) return reply.code(404).send(noSuch('member'));
      const outcome = await forecast(
        data,
        knot,
        {
          connect: () => systems.connect(member as NonNullable<typeof member>, systemClock),
          nameOf: await names(knot),
        },
        request.params.anchor,
        body,
        new Date(),
      );
      return outcome.kind === 'forecast' ? outcome.forecast : refuse(outcome, reply);
    },
  );

  typed.post(
    '/api/anchors/:anchor/tie',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['anchors'],
        summary: 'Tie a record to an anchor',
        params: z.object({ anchor: z.uuid() }),
        body: tieSchema,
        response: answers,
      },
    },
    async (request, reply) => {
      const knot = await knotOf(request.params.anchor);
      const member = knot?.definition.members.find(({ id }) => id === request.body.member);
      if (!knot || !member) return reply.code(404).send(noSuch(knot ? 'member' : 'anchor'));
      const outcome = await tieByHand(
        data,
        knot,
        () => systems.connect(member, systemClock),
        { anchor: request.params.anchor, ...request.body },
        request.person?.name ?? '',
        new Date(),
      );
      return answer(outcome, reply);
    },
  );

  async function rowViews(knot: LoadedKnot, ids: readonly AnchorId[]): Promise<readonly AnchorView[]> {
    const pages = await anchorPages(data, ids);
    const connected = await systems.all();
    const rows = await decisionsOfAnchors(data, ids);
    const decisions = await decisionViews(data, knot, rows, connected);
    const compiled = await bindReferences(referenceSource(data), knot.compiled, pages);
    const members = memberSummaries(knot.definition, connected);
    const views = pages.map(({ anchor, title, open }) => {
      const own = decisions.filter(({ anchor: about }) => about === anchor.id);
      return anchorView({ ...knot, compiled }, anchor, title, !open, members, own, [], []);
    });
    return withThings(data, knot.definition, views);
  }

  /** What refers to a thing of a knot, with the names of its knots. */
  async function referringView(anchor: AnchorId, { definition }: LoadedKnot): Promise<AnchorView['referring']> {
    const connected = await systems.all();
    const { first, counts } = await referringTo(data, anchor, mostReferring);
    const loaded = await Promise.all([...counts.keys()].map((id) => knots.inForce(id)));
    const nameOf = new Map(loaded.flatMap((knot) => (knot ? [[knot.id, knot.definition.name] as const] : [])));
    return [...counts].map(([knot, count]) => ({
      knot,
      knotName: nameOf.get(knot) ?? knot,
      count,
      isRows: isRowsOf(loaded.find((one) => one?.id === knot)?.definition, definition, connected),
      first: first.filter((one) => one.knot === knot).map(({ anchor: id, title }) => ({ id, title })),
    }));
  }

  async function names(knot: LoadedKnot): Promise<(member: string) => string> {
    const members = memberSummaries(knot.definition, await systems.all());
    return (id) => members.find((member) => member.id === id)?.systemName ?? id;
  }

  async function knotOf(anchor: string): Promise<LoadedKnot | undefined> {
    const id = await knotOfAnchor(data, anchor);
    return id === undefined ? undefined : knots.inForce(id);
  }
}

/** Whether the records of a knot are, in some system, rows of the records of another one. */
function isRowsOf(knot: Knot | undefined, parents: Knot, connected: readonly SystemRow[]): boolean {
  return (knot?.members ?? []).some(({ system, object }) => {
    const of = rowsAs(connected.find(({ id }) => id === system)?.description, object)?.of;
    return of !== undefined && parents.members.some((parent) => parent.system === system && parent.object === of);
  });
}

function journalEntry({ run_id: run, record_key: key, at, ...entry }: JournalViewRow): JournalEntry {
  return journalEntrySchema.parse({ ...entry, run, key, at: at.toISOString() });
}

/** @returns what is sent when it was done; otherwise why not has been sent */
function answer(outcome: HandOutcome, reply: FastifyReply) {
  return outcome.kind === 'done' ? { changed: true as const } : refuse(outcome, reply);
}

function refuse(outcome: Refusal, reply: FastifyReply) {
  return outcome.kind === 'not found'
    ? reply.code(404).send({ code: 'not found', says: outcome.says })
    : reply.code(409).send({ code: 'not possible', says: outcome.says, advice: outcome.advice });
}
