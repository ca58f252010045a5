import type { FastifyInstance, FastifyReply } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  choiceSchema,
  colleaguesSchema,
  type Decision,
  decidedManySchema,
  decideManySchema,
  decisionKindSchema,
  decisionListSchema,
  decisionSchema,
  giveSchema,
  mostDecisions,
  type MemberSummary,
  problemSchema,
  putOffSchema,
  undoManySchema,
} from '@anchor-knot/contracts';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import type { LoadedKnot } from '../knots/knots.js';
import {
  type DecisionFilter,
  type DecisionViewRow,
  alikeWith,
  openDecision,
  waitingDecisions,
  waitingKinds,
} from '../persistence/tables/decisionLists.js';
import { giveTo, putOffUntil } from '../persistence/tables/decisions.js';
import { colleagues } from '../persistence/tables/people.js';
import { memberSummaries } from '../views/summaries.js';
import { decisionParameters as parameters } from './correctionRoutes.js';
import { decide, type DecideOutcome, undoDecision } from './decide.js';
import { decisionViews, viewWithoutKnot } from './decisionView.js';

const pageSize = 100;
const msPerDay = 86_400_000;
const decided = {
  200: z.object({ decided: z.literal(true) }),
  404: problemSchema,
  409: problemSchema,
  422: problemSchema,
};

export function decisionRoutes(app: FastifyInstance, { data, knots, systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  /** Decisions of any knots, in their order. */
  async function views(rows: readonly DecisionViewRow[], loaded: ReadonlyMap<string, LoadedKnot | undefined>) {
    const seen = new Map<string, Decision>();
    const connected = await systems.all();
    for (const [id, knot] of loaded) {
      const own = rows.filter(({ knot_id }) => knot_id === id);
      for (const view of knot ? await decisionViews(data, knot, own, connected) : own.map(viewWithoutKnot))
        seen.set(view.id, view);
    }
    return rows.flatMap(({ id }) => seen.get(id) ?? []);
  }

  async function loadKnots(rows: readonly DecisionViewRow[]): Promise<Map<string, LoadedKnot | undefined>> {
    const ids = [...new Set(rows.map(({ knot_id }) => knot_id))];
    return new Map(await Promise.all(ids.map(async (id) => [id, await knots.inForce(id)] as const)));
  }

  /** The members of all knots in a system. */
  async function membersIn(system: string): Promise<{ knot: string; member: string }[]> {
    const all = await knots.all();
    return all.flatMap(({ id, definition }) =>
      definition.members.flatMap((member) => (member.system === system ? [{ knot: id, member: member.id }] : [])),
    );
  }

  typed.get(
    '/api/decisions',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['decisions'],
        summary: 'What waits for a person',
        querystring: z.object({
          knot: z.string().optional(),
          kind: decisionKindSchema.optional(),
          system: z.string().optional(),
          field: z.string().optional(),
          reason: z.string().max(4000).optional(),
          /** Of references that wait: the value, or the id of the thing. */
          lacks: z.string().max(4000).optional(),
          /** Open for at least so many days. */
          days: z.coerce.number().int().min(0).max(10_000).optional(),
          list: z.enum(['waiting', 'put off', 'mine']).default('waiting'),
          after: z.coerce.number().int().positive().optional(),
        }),
        response: { 200: decisionListSchema },
      },
    },
    async (request) => {
      const { knot, kind, system, field, reason, lacks, days, list, after } = request.query;
      const now = new Date();
      const filter: DecisionFilter = {
        knot,
        kind,
        field,
        reason,
        lacks,
        members: system === undefined ? undefined : await membersIn(system),
        openedBefore: days === undefined ? undefined : new Date(now.getTime() - days * msPerDay),
        isPutOff: list === 'put off',
        givenTo: list === 'mine' ? (request.person?.email ?? '') : undefined,
        now,
      };
      const rows = await waitingDecisions(data, filter, after, pageSize);
      const kinds = await waitingKinds(data, filter);
      const total = kinds.filter((one) => !kind || one.kind === kind).reduce((sum, one) => sum + one.count, 0);
      const loaded = await loadKnots(rows);
      const all = await systems.all();
      const members: Record<string, MemberSummary[]> = {};
      for (const [id, one] of loaded) if (one) members[id] = memberSummaries(one.definition, all);
      const asked = knot === undefined ? undefined : await knots.inForce(knot);
      return {
        decisions: await views(rows, loaded),
        next: rows.length === pageSize ? (rows.at(-1)?.id ?? null) : null,
        total,
        kinds,
        members,
        fields: asked?.definition.fields.map(({ id, name }) => ({ id, name })) ?? [],
      };
    },
  );

  typed.get(
    '/api/decisions/:decision',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['decisions'],
        summary: 'One decision that is open, in whatever list it stands',
        params: z.object({ decision: z.coerce.number().int().positive() }),
        response: {
          200: z.object({ decision: decisionSchema, members: decisionListSchema.shape.members.valueType }),
          404: problemSchema,
        },
      },
    },
    async (request, reply) => {
      const row = await openDecision(data, String(request.params.decision));
      if (!row) return reply.code(404).send(noSuch('open decision'));
      const loaded = await loadKnots([row]);
      const knot = loaded.get(row.knot_id);
      const [decision] = await views([row], loaded);
      return {
        decision: decision as Decision,
        members: knot ? memberSummaries(knot.definition, await systems.all()) : [],
      };
    },
  );

  typed.get(
    '/api/colleagues',
    {
      config: { role: 'operator' },
      schema: { tags: ['decisions'], summary: 'Who can decide', response: { 200: colleaguesSchema } },
    },
    async () => ({ people: [...(await colleagues(data))] }),
  );

  typed.post(
    '/api/decisions/put-off',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Have decisions stand in no list until a time; or take that back',
        body: putOffSchema,
        response: { 200: z.object({ changed: z.number() }) },
      },
    },
    async (request) => {
      const { decisions, until } = request.body;
      const ids = decisions.map(({ decision }) => decision);
      const changed = await putOffUntil(data, ids, until === null ? undefined : new Date(until));
      await writeAudit(data, request.person, 'decisions put off', { decisions: ids, until });
      return { changed };
    },
  );

  typed.post(
    '/api/decisions/give',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Ask a colleague to look at decisions; or take that back',
        body: giveSchema,
        response: { 200: z.object({ changed: z.number() }), 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { decisions, to, note } = request.body;
      const known = await colleagues(data);
      if (to !== null && !known.some(({ email }) => email === to))
        return reply.code(422).send({ code: 'nobody', says: 'Nobody with that address can decide here.' });
      const ids = decisions.map(({ decision }) => decision);
      const changed = await giveTo(data, ids, to ?? undefined, to === null ? '' : note);
      await writeAudit(data, request.person, 'decisions given', { decisions: ids, to });
      return { changed };
    },
  );

  /** Does one thing with each of several, and tells which it could not be done with. */
  async function withEach<Name extends { readonly knot: string; readonly decision: string }>(
    names: readonly Name[],
    act: (knot: LoadedKnot, name: Name) => Promise<DecideOutcome>,
  ) {
    const done: string[] = [];
    const not: { decision: string; says: string }[] = [];
    for (const name of names) {
      const knot = await knots.inForce(name.knot);
      const outcome: DecideOutcome = knot ? await act(knot, name) : { kind: 'not found' };
      if (outcome.kind === 'decided') done.push(name.decision);
      else not.push({ decision: name.decision, says: wordsOf(outcome).says });
    }
    return { done, not };
  }

  typed.post(
    '/api/decisions/decide',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Decide several; each is decided or not by itself',
        body: decideManySchema,
        response: { 200: decidedManySchema },
      },
    },
    async (request) =>
      withEach(request.body.decisions, (knot, { decision, choice }) =>
        decide(data, knot, decision, choice, request.person?.name ?? '', new Date()),
      ),
  );

  typed.post(
    '/api/knots/:knot/decisions/:decision/alike',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Try again all writes that a system refused in the same words, at most 500 at once',
        params: parameters,
        body: z.object({ fingerprint: z.string() }),
        response: { 200: decidedManySchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { knot: id, decision } = request.params;
      const choice = { choose: 'try again', fingerprint: request.body.fingerprint } as const;
      const alike = await alikeWith(data, id, String(decision), mostDecisions);
      if (alike.length === 0) return reply.code(404).send(noSuch('open decision'));
      return withEach(
        alike.map((one) => ({ knot: id, decision: one })),
        (knot, { decision: one }) => decide(data, knot, one, choice, request.person?.name ?? '', new Date()),
      );
    },
  );

  typed.post(
    '/api/decisions/undo',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Take several decisions back; each by itself',
        body: undoManySchema,
        response: { 200: decidedManySchema },
      },
    },
    async (request) =>
      withEach(request.body.decisions, (knot, { decision }) =>
        undoDecision(data, knot, decision, request.person?.name ?? '', new Date()),
      ),
  );

  typed.post(
    '/api/knots/:knot/decisions/:decision',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Decide',
        params: parameters,
        body: choiceSchema,
        response: decided,
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      return answer(
        await decide(data, knot, String(request.params.decision), request.body, request.person?.name ?? '', new Date()),
        reply,
      );
    },
  );

  typed.post(
    '/api/knots/:knot/decisions/:decision/undo',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Take a decision back as long as no run has acted on it, or have one that was put off wait again',
        params: parameters,
        response: decided,
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      const person = request.person?.name ?? '';
      return answer(await undoDecision(data, knot, String(request.params.decision), person, new Date()), reply);
    },
  );
}

function answer(outcome: DecideOutcome, reply: FastifyReply) {
  if (outcome.kind === 'decided') return { decided: true as const };
  return reply.code(statusOf[outcome.kind]).send({ code: outcome.kind, ...wordsOf(outcome) });
}

const statusOf = { 'not found': 404, 'changed meanwhile': 409, 'not a choice': 422 } as const;

function wordsOf(outcome: Exclude<DecideOutcome, { kind: 'decided' }>): { says: string; advice?: string } {
  switch (outcome.kind) {
    case 'not found':
      return { says: 'This decision is no longer open: it was decided, or it settled by itself.' };
    case 'changed meanwhile':
      return {
        says: 'The values have changed since you saw them; nothing was decided.',
        advice: 'Look at the values as they are now and choose again.',
      };
    case 'not a choice':
      return { says: outcome.says };
    default:
      throw new Error(`unknown outcome ${JSON.stringify(outcome satisfies never)}`);
  }
}
