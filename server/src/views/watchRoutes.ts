import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { IsNull } from 'typeorm';
import { type SystemSummary, type Watch, watchSchema } from '@anchor-knot/contracts';
import type { ApiContext } from '../api/context.js';
import { RunEntity } from '../persistence/entities/entities.js';
import { memberSummaries, runSummary, systemSummary } from './summaries.js';

export function watchRoutes(app: FastifyInstance, { data, knots, systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  async function allSystems(): Promise<SystemSummary[]> {
    const loaded = (await Promise.all((await knots.ids()).map((id) => knots.inForce(id)))).flatMap(
      (knot) => knot ?? [],
    );
    return (await systems.all()).map((row) =>
      systemSummary(
        row,
        loaded
          .filter(({ definition }) => definition.members.some(({ system }) => system === row.id))
          .map(({ id, definition }) => ({ knot: id, name: definition.name })),
      ),
    );
  }

  typed.get(
    '/api/watch',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['watch'],
        summary: 'How everything stands, and what waits for a person',
        response: { 200: watchSchema },
      },
    },
    async () => {
      const rows = await systems.all();
      const runs = data.getRepository(RunEntity);
      const list: Watch['knots'] = [];
      for (const id of await knots.ids()) {
        const knot = await knots.inForce(id);
        if (!knot) continue;
        const [counts] = (await data.query(
          'select count(*)::int as anchors, (count(*) filter (where not open))::int as agree from anchor where ' +
            'knot_id = $1',
          [id],
        )) as [{ anchors: number; agree: number }];
        const ties = (await data.query(
          'select member, count(*)::int as count from tie where knot_id = $1 and not gone group by member',
          [id],
        )) as {
          member: string;
          count: number;
        }[];
        const waiting = (await data.query(
          'select member, count(*)::int as count from decision where knot_id = $1 and closed_at is null and ' +
            'member is not null group by member',
          [id],
        )) as { member: string; count: number }[];
        const lastRun = await runs.findOne({ where: { knotId: id, kind: 'run' }, order: { startedAt: 'DESC' } });
        const openRun = await runs.findOne({ where: { knotId: id, endedAt: IsNull() } });
        const troubled = new Set(rows.filter(({ trouble }) => trouble).map((row) => row.id));
        list.push({
          id,
          name: knot.definition.name,
          thing: knot.definition.thing,
          ...counts,
          members: memberSummaries(knot.definition, rows).map((member) => ({
            ...member,
            ties: ties.find((one) => one.member === member.id)?.count ?? 0,
            waiting: waiting.find((one) => one.member === member.id)?.count ?? 0,
            trouble: troubled.has(member.system),
          })),
          lastRun: lastRun ? runSummary(lastRun) : null,
          openRun: openRun ? runSummary(openRun) : null,
        });
      }
      const waiting = (await data.query(
        `select knot_id as knot, kind, count(*)::int as count, min(says) as example, min(opened_at) as since
          from decision where closed_at is null group by knot_id, kind order by count(*) desc`,
      )) as { knot: string; kind: string; count: number; example: string; since: Date }[];
      const written =
        (await data.query(`select h as hour, (select count(*)::int from journal j where j.kind in ('create', 'update')
          and j.at >= h and j.at < h + interval '1 hour') as values
       from generate_series(date_trunc('hour', now()) - interval '23 hours', date_trunc('hour', now()),
         interval '1 hour') h order by h`)) as {
          hour: Date;
          values: number;
        }[];
      return {
        knots: list,
        systems: await allSystems(),
        waiting: waiting.map((one) => ({ ...one, since: one.since.toISOString() })),
        written: written.map(({ hour, values }) => ({ hour: hour.toISOString(), values })),
        lastRuns: (await runs.find({ order: { startedAt: 'DESC' }, take: 6 })).map(runSummary),
      };
    },
  );
}
