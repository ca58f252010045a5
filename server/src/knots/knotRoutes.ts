import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { IsNull } from 'typeorm';
import { z } from 'zod';
import { definitionChangeSchema, knotViewSchema, problemSchema } from '@anchor-knot/contracts';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { KnotVersionEntity, RunEntity } from '../persistence/entities/entities.js';
import { memberSummaries, runSummary } from '../views/summaries.js';
import { checkDefinition } from './knots.js';

const parameters = z.object({ knot: z.string() });

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
      const versions = await data.getRepository(KnotVersionEntity).find({
        where: { knotId: knot.id },
        order: { version: 'DESC' },
        select: { knotId: true, version: true, note: true, madeBy: true, madeAt: true },
        take: 100,
      });
      const [counts] = (await data.query(
        'select count(*)::int as anchors, (count(*) filter (where not open))::int as agree, (select ' +
          'count(*)::int from decision where knot_id = $1 and closed_at is null) as decisions from anchor ' +
          'where knot_id = $1',
        [knot.id],
      )) as [{ anchors: number; agree: number; decisions: number }];
      const ties = (await data.query(
        'select member, count(*)::int as count from tie where knot_id = $1 and not gone group by member',
        [knot.id],
      )) as {
        member: string;
        count: number;
      }[];
      const runs = data.getRepository(RunEntity);
      const lastRun = await runs.findOne({ where: { knotId: knot.id, kind: 'run' }, order: { startedAt: 'DESC' } });
      const openRun = await runs.findOne({ where: { knotId: knot.id, endedAt: IsNull() } });
      return {
        id: knot.id,
        name: knot.definition.name,
        thing: knot.definition.thing,
        version: knot.version,
        definition: knot.definition as never,
        members: memberSummaries(knot.definition, await systems.all()).map((member) => ({
          ...member,
          ties: ties.find((one) => one.member === member.id)?.count ?? 0,
        })),
        versions: versions.map(({ version, note, madeBy, madeAt }) => ({
          version,
          note,
          madeBy,
          madeAt: madeAt.toISOString(),
        })),
        ...counts,
        lastRun: lastRun ? runSummary(lastRun) : null,
        openRun: openRun ? runSummary(openRun) : null,
      };
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
      const problems = checked.ok ? idProblem(checked.definition.id, request.params.knot) : [...checked.problems];
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
