import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { definitionChangeSchema, knotStateSchema, knotViewSchema, problemSchema } from '@anchor-knot/contracts';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { recordCounts } from '../persistence/tables/recordCounts.js';
import { latestVersions } from '../persistence/tables/knots.js';
import { lastRunOf, openRunOf } from '../persistence/tables/runLists.js';
import { knotStates, setAllStates, setKnotState } from '../persistence/tables/versions.js';
import { standingOf } from '../persistence/tables/standing.js';
import { memberSummaries, runSummary, standingView } from '../views/summaries.js';
import { referenceProblems } from './referenceProblems.js';
import { seriesProblems } from './seriesProblems.js';
import { checkDefinition } from './knots.js';

const parameters = z.object({ knot: z.string() });
const versionsShown = 100;

export function knotRoutes(app: FastifyInstance, { data, knots, drafts, systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();
  /** A knot that is still being made is shown as its draft stands. */
  const notInForce = async (id: string) => {
    const draft = await drafts.find(id);
    return draft?.basedOn === 0 ? { id, version: 0, definition: draft.definition } : undefined;
  };

  typed.get(
    '/api/knots/:knot',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['knots'],
        summary: 'A knot: its definition in force, its members and how it stands',
        params: parameters,
        response: { 200: knotViewSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = (await knots.inForce(request.params.knot)) ?? (await notInForce(request.params.knot));
      if (!knot) return reply.code(404).send(noSuch('knot'));
      const versions = await latestVersions(data, knot.id, versionsShown);
      const counts = await standingOf(data, knot.id);
      const ties = await recordCounts(data, knot.id, 'tied');
      const lastRun = await lastRunOf(data, knot.id);
      const openRun = await openRunOf(data, knot.id);
      return {
        id: knot.id,
        name: knot.definition.name,
        thing: knot.definition.thing,
        version: knot.version,
        definition: knot.definition as never,
        members: memberSummaries(knot.definition, await systems.all()).map((member) => ({
          ...member,
          ties: ties.get(member.id) ?? 0,
        })),
        versions: versions.map(({ version, note, madeBy, madeAt }) => ({
          version,
          note,
          madeBy,
          madeAt: madeAt.toISOString(),
        })),
        ...counts,
        standing: standingView((await knotStates(data)).get(knot.id)),
        lastRun: lastRun ? runSummary(lastRun) : null,
        openRun: openRun ? runSummary(openRun) : null,
      };
    },
  );

  typed.put(
    '/api/knots/:knot/state',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary: 'Pause a knot, end it, or take it up again; a run that is under way ends first',
        params: parameters,
        body: z.object({ state: knotStateSchema, until: z.iso.datetime().optional() }),
        response: { 200: z.object({ changed: z.literal(true) }), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { knot } = request.params;
      const { state, until } = request.body;
      const resumeAt = state === 'paused' && until !== undefined ? new Date(until) : undefined;
      const isThere = await setKnotState(data, knot, state, request.person?.name ?? '', new Date(), resumeAt);
      if (!isThere) return reply.code(404).send(noSuch('knot in force'));
      await writeAudit(data, request.person, `knot ${state}`, { knot });
      return { changed: true as const };
    },
  );

  typed.put(
    '/api/knot-states',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary: 'Pause all knots that run, or take up again those that were paused so',
        body: z.object({ state: z.enum(['running', 'paused']) }),
        response: { 200: z.object({ changed: z.number() }) },
      },
    },
    async (request) => {
      const { state } = request.body;
      const changed = await setAllStates(data, state, request.person?.name ?? '', new Date());
      await writeAudit(data, request.person, `all knots ${state}`, { changed });
      return { changed };
    },
  );

  typed.put(
    '/api/knots/:knot/definition',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary: 'Put a new version in force',
        params: parameters,
        body: definitionChangeSchema,
        response: {
          200: z.object({ version: z.number(), waits: z.boolean() }),
          404: problemSchema,
          409: problemSchema,
          422: problemSchema,
        },
      },
    },
    async (request, reply) => {
      const { definition, basedOn, draft, note } = request.body;
      if (!(await knots.inForce(request.params.knot)) && !(await drafts.find(request.params.knot)))
        return reply.code(404).send(noSuch('knot'));
      const checked = checkDefinition(definition);
      const problems = checked.ok
        ? [
            ...idProblem(checked.definition.id, request.params.knot),
            ...(await referenceProblems(knots, checked.definition)),
            ...(await seriesProblems(data, checked.definition)),
          ]
        : [...checked.problems];
      if (!checked.ok || problems.length > 0)
        return reply.code(422).send({
          code: 'not a knot',
          says:
            `The definition has ${problems.length === 1 ? 'a problem' : `${problems.length} problems`}; ` +
            'nothing was changed.',
          problems,
        });
      const known = new Set((await systems.all()).map(({ id }) => id));
      const missing = checked.definition.members.filter(({ system }) => !known.has(system));
      if (missing.length > 0)
        return reply.code(422).send({
          code: 'not a knot',
          says: 'A member names a system that is not connected here; nothing was changed.',
          problems: missing.map(({ id, system }) => ({
            at: `members.${id}.system`,
            says: `there is no system “${system}” here; there are ${[...known].join(', ')}`,
          })),
        });
      const change = { definition: checked.definition, basedOn, draft, note };
      const changed = await knots.change(change, request.person?.name ?? '');
      if (changed === 'somebody else changed it') {
        return reply.code(409).send({
          code: 'changed meanwhile',
          says: 'Somebody else changed this knot meanwhile; nothing was put in force.',
          advice: 'Load it again and look at what was changed.',
        });
      }
      await writeAudit(data, request.person, 'version put in force', {
        knot: checked.definition.id,
        version: basedOn + 1,
        note,
      });
      return { version: basedOn + 1, waits: changed === 'when the run has ended' };
    },
  );
}

function idProblem(id: string, expected: string): { at: string; says: string }[] {
  return id === expected ? [] : [{ at: 'id', says: `the id of this knot is “${expected}” and cannot be changed` }];
}
