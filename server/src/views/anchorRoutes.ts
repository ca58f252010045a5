import type { FastifyInstance, FastifyReply } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  anchorListSchema,
  anchorViewSchema,
  forecastRequestSchema,
  forecastSchema,
  type JournalEntry,
  problemSchema,
  regroupSchema,
  tieSchema,
} from '@anchor-knot/contracts';
import { forecast, type HandOutcome, mergeByHand, type Refusal, splitByHand, tieByHand } from '../anchors/handTies.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { decisionColumns, decisionView, type DecisionViewRow } from '../decisions/decisionRoutes.js';
import { anchorFromRows, type AnchorRow, type TieRow } from '../persistence/rows.js';
import type { LoadedKnot } from '../knots/knots.js';
import { systemClock } from '../worker/systemClock.js';
import { anchorView } from './anchorView.js';
import { memberSummaries } from './summaries.js';

const pageSize = 60;

/** Open decisions on whether a record belongs to an anchor, of those `d`. */
const namesAnchor = (anchor: string): string =>
  `d.kind = 'unsure match' and d.closed_at is null and d.detail @> jsonb_build_object('candidates', ` +
  `jsonb_build_array(jsonb_build_object('anchor', ${anchor}::text)))`;

interface JournalViewRow {
  id: string;
  run_id: string | null;
  member: string | null;
  record_key: string | null;
  kind: string;
  field: string | null;
  before: never;
  after: never;
  meaning: never;
  cause: never;
  at: Date;
}

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
      const pattern = search?.trim()
        ? `%${search
            .trim()
            .toLowerCase()
            .replaceAll(/[\\%_]/g, '\\$&')}%`
        : null;
      const where = `a.knot_id = $1 and ($2 = 'all' or a.open) and ($3::text is null or lower(a.title) like $3
        or exists (select 1 from tie t where t.anchor_id = a.id and lower(t.record_key) like $3))`;
      const parameters = [knot.id, state, pattern];
      const rows = (await data.query(
        `select a.id, a.title, a.open, a.changed_at, (select count(*)::int from decision d where d.anchor_id = a.id
          and d.closed_at is null) + (select count(*)::int from decision d where ${namesAnchor('a.id')}) as decisions,
         (select coalesce(jsonb_agg(jsonb_build_object('member', t.member, 'key', t.record_key, 'gone', t.gone)
           order by t.member), '[]') from tie t where t.anchor_id = a.id) as ties
       from anchor a where ${where} and ($4::text is null or (lower(a.title), a.id) > ($4, $5::uuid))
         order by lower(a.title), a.id limit ${pageSize}`,
        [...parameters, afterTitle?.toLowerCase() ?? null, afterId ?? '00000000-0000-0000-0000-000000000000'],
      )) as {
        id: string;
        title: string;
        open: boolean;
        changed_at: Date;
        decisions: number;
        ties: { member: string; key: string; gone: boolean }[];
      }[];
      const [{ total }] = (await data.query(
        `select count(*)::int as total from anchor a where ${where}`,
        parameters,
      )) as [{ total: number }];
      const anchors = rows.map((row) => ({
        id: row.id,
        title: row.title,
        agrees: !row.open,
        ties: row.ties,
        decisions: row.decisions,
        changedAt: row.changed_at.toISOString(),
      }));
      return { anchors, next: rows.length === pageSize ? (rows.at(-1)?.id ?? null) : null, total };
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
      const [row] = (await data.query(
        'select id, knot_id, title, open, agreed, began_in, parked_creates, revision from anchor where id = $1',
        [id],
      )) as (AnchorRow & {
        knot_id: string;
        title: string;
        open: boolean;
      })[];
      const knot = row && (await knots.inForce(row.knot_id));
      if (!row || !knot) {
        const [moved] = (await data.query('select to_id from anchor_redirect where from_id = $1', [id])) as {
          to_id: string;
        }[];
        return moved
          ? reply
              .code(410)
              .send({ code: 'merged', says: 'This anchor was merged into another one.', movedTo: moved.to_id })
          : reply.code(404).send(noSuch('anchor'));
      }
      const ties = (await data.query('select * from tie where anchor_id = $1 order by member', [id])) as TieRow[];
      const decisions = (await data.query(
        `select ${decisionColumns} from decision d left join anchor a on a.id = d.anchor_id where (d.anchor_id = $1
          and d.closed_at is null) or (${namesAnchor('$1')}) order by d.id`,
        [id],
      )) as DecisionViewRow[];
      const journal = (await data.query(
        'select id, run_id, member, record_key, kind, field, before, after, meaning, cause, at from journal ' +
          'where anchor_id = $1 order by id desc limit 200',
        [id],
      )) as JournalViewRow[];
      return anchorView(
        knot,
        anchorFromRows(row, ties),
        row.title,
        !row.open,
        memberSummaries(knot.definition, await systems.all()),
        decisions.map((one) =>
          decisionView(
            one,
            knot.definition.name,
            knot.definition.fields.find(({ id: field }) => field === one.field)?.name,
          ),
        ),
        journal.map((one): JournalEntry => ({
          id: one.id,
          run: one.run_id,
          member: one.member,
          key: one.record_key,
          kind: one.kind,
          field: one.field,
          before: one.before,
          after: one.after,
          meaning: one.meaning,
          cause: one.cause,
          at: one.at.toISOString(),
        })),
      );
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

  async function names(knot: LoadedKnot): Promise<(member: string) => string> {
    const members = memberSummaries(knot.definition, await systems.all());
    return (id) => members.find((member) => member.id === id)?.systemName ?? id;
  }

  async function knotOf(anchor: string): Promise<LoadedKnot | undefined> {
    const [row] = (await data.query('select knot_id from anchor where id = $1', [anchor])) as { knot_id: string }[];
    return row && (await knots.inForce(row.knot_id));
  }
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
