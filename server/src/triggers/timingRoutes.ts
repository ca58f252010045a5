import type { FastifyInstance, FastifyRequest } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  keepTimingSchema,
  keptTimingSchema,
  problemSchema,
  type System,
  systemSchema,
  type TimingView,
  timingViewSchema,
  calledObject,
} from '@anchor-knot/contracts';
import { SystemTrouble } from '@anchor-knot/connectors';
import { type Knot, problemsOfTiming, type Timing } from '@anchor-knot/core';
import { writeAudit } from '../api/audit.js';
import { type ApiContext, publicAddressOf } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { cursorsOf } from '../persistence/tables/runs.js';
import { hasSucceeded } from '../persistence/tables/timings.js';
import { knotStates } from '../persistence/tables/versions.js';
import { tellsChanges } from '../systems/objects.js';
import { problemOfOrder } from './order.js';
import { orTrouble } from '../systems/orTrouble.js';
import { memberSummaries } from '../views/summaries.js';

const parameters = z.object({ knot: z.string() });

export function timingRoutes(app: FastifyInstance, context: ApiContext): void {
  const { data, knots, systems, inbox, timings } = context;
  const typed = app.withTypeProvider<ZodTypeProvider>();

  typed.get(
    '/api/knots/:knot/timing',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['knots'],
        summary: 'When a knot runs by itself, and how each member can tell of changes',
        params: parameters,
        response: { 200: timingViewSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot in force'));
      const { timing, revision, changedBy, changedAt } = await timings.of(knot.id);
      return {
        timing,
        revision,
        changedBy,
        changedAt: changedAt?.toISOString() ?? null,
        hasRun: await hasSucceeded(data, knot.id),
        others: await otherKnots(knot.id),
        members: await membersOf(knot.definition),
      };
    },
  );

  async function otherKnots(id: string): Promise<TimingView['others']> {
    const standings = await knotStates(data);
    return (await knots.all()).flatMap(({ id: other, definition: { name } }) =>
      other === id || standings.get(other)?.state === 'ended' ? [] : [{ id: other, name }],
    );
  }

  async function membersOf(knot: Knot): Promise<TimingView['members']> {
    const rows = await systems.all();
    const cursors = await cursorsOf(data, knot.id);
    return Promise.all(
      memberSummaries(knot, rows).map(async (member) => {
        const row = rows.find(({ id }) => id === member.system);
        const description = row && systemSchema.parse(row.description);
        const subscription = row && (await inbox.subscriptionOf(row, member.object));
        const readUntil = cursors.get(member.id)?.readAt;
        return {
          ...member,
          tells: description !== undefined && hasEvents(description, member.object),
          isLookedAt: description?.kind === 'files',
          saysChanges: description !== undefined && tellsChanges(description, member.object),
          subscription: subscription
            ? { state: subscription.state, words: subscription.words, lastAt: subscription.lastAt }
            : null,
          readAt: readUntil === undefined ? null : new Date(readUntil).toISOString(),
        };
      }),
    );
  }

  typed.put(
    '/api/knots/:knot/timing',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary: 'Set when a knot runs by itself; it holds at once',
        params: parameters,
        body: keepTimingSchema,
        response: { 200: keptTimingSchema, 404: problemSchema, 409: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot in force'));
      const timing = request.body.timing as Timing;
      const [problem] = problemsOfTiming(timing, Date.now());
      const order = await problemOfOrder(data, knot.id, timing.after ?? []);
      const stranger = Object.keys(timing.triggers).find((id) => !knot.definition.members.some((one) => one.id === id));
      if (problem ?? stranger ?? order)
        return reply.code(422).send({
          code: 'not possible',
          says: problem ? `${problem.where}: ${problem.says}.` : (order ?? `There is no member ${stranger}.`),
          advice: 'Correct it, and save again.',
        });
      const person = request.person?.name ?? '';
      return orTrouble(reply, async () => {
        await subscribeAll(knot.definition, timing, request);
        const revision = await timings.keep(knot.definition, request.body.revision, timing, person, Date.now());
        if (revision === undefined)
          return reply.code(409).send({
            code: 'changed meanwhile',
            says: 'Somebody changed the timing meanwhile.',
            advice: 'Load it again; what you set is kept here until then.',
          });
        await writeAudit(data, request.person, 'timing set', { knot: knot.id, revision });
        return { revision };
      });
    },
  );

  /** Whose word is to start runs has to be subscribed to. @throws {SystemTrouble} */
  async function subscribeAll(knot: Knot, timing: Timing, request: FastifyRequest): Promise<void> {
    for (const { id, system, object } of knot.members) {
      if (timing.triggers[id]?.kind !== 'events') continue;
      const row = await systems.find(system);
      if (!row || (await inbox.subscriptionOf(row, object))) continue;
      if (request.person?.role !== 'administrator')
        throw new SystemTrouble(
          'not allowed',
          `Nothing is subscribed to at ${row.name} for ${object}`,
          'An administrator can do that on the page of the system, or by saving this.',
        );
      await inbox.subscribe(row, object, publicAddressOf(context, request));
    }
  }
}

/** Whether a system can tell by itself of what happens to an object. */
function hasEvents(description: System, object: string): boolean {
  return (
    description.kind === 'http' &&
    description.webhooks !== undefined &&
    (description.objects[calledObject(description, object)]?.events.length ?? 0) > 0
  );
}
