import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { type FirstLoad, type FirstLoadMember, firstLoadsSchema } from '@anchor-knot/contracts';
import type { ApiContext } from '../api/context.js';
import type { LoadedKnot } from '../knots/knots.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import { firstRunOf, lastDryRunOf, lastRunOf, openRunOf } from '../persistence/tables/runLists.js';
import { standingOf } from '../persistence/tables/standing.js';
import { knotStates } from '../persistence/tables/versions.js';
import { isByHandOnly } from '../triggers/timings.js';
import { memberSummaries, runSummary } from './summaries.js';

const writes = ['create', 'update', 'archive', 'delete'] as const;

/** Setting everything up: which knots, in which order, what each would do, and what has been done. */
export function firstLoadRoutes(
  app: FastifyInstance,
  { data, knots, drafts, systems, timings }: Pick<ApiContext, 'data' | 'knots' | 'drafts' | 'systems' | 'timings'>,
): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  async function stepOf(
    knot: LoadedKnot,
    after: readonly string[],
    rows: readonly SystemRow[],
  ): Promise<Omit<FirstLoad, 'state'>> {
    const { id, version, definition } = knot;
    const [dryRun, lastRun, firstRun, openRun] = await Promise.all([
      lastDryRunOf(data, id, version),
      lastRunOf(data, id),
      firstRunOf(data, id),
      openRunOf(data, id),
    ]);
    const { timing } = await timings.of(id);
    return {
      knot: id,
      name: definition.name,
      after: [...after],
      members: membersOf(knot, rows),
      dryRun: dryRun ? runSummary(dryRun) : null,
      lastRun: lastRun ? runSummary(lastRun) : null,
      firstRun: firstRun ? runSummary(firstRun) : null,
      openRun: openRun ? runSummary(openRun) : null,
      isByHand: isByHandOnly(timing),
      ...(await standingOf(data, id)),
    };
  }

  typed.get(
    '/api/first-loads',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['knots'],
        summary: 'Knots in the order in which they are loaded first, with what each would do and has done',
        response: { 200: firstLoadsSchema },
      },
    },
    async () => {
      const [rows, states] = [await systems.all(), await knotStates(data)];
      const steps: FirstLoad[] = [];
      for (const { id, after } of await knots.inOrder()) {
        const knot = await knots.inForce(id);
        if (knot) steps.push({ ...(await stepOf(knot, after, rows)), state: states.get(id)?.state ?? 'running' });
      }
      const begun = (await drafts.list()).filter(({ version }) => version === 0);
      return { steps, drafts: begun.map(({ id, name }) => ({ knot: id, name })) };
    },
  );
}

function membersOf({ definition, compiled }: LoadedKnot, rows: readonly SystemRow[]): FirstLoadMember[] {
  return memberSummaries(definition, rows).map((summary) => {
    const { may } = compiled.member(summary.id);
    const lenses = compiled.fields.flatMap(({ mappings }) => mappings.get(summary.id)?.lens ?? []);
    const allowed = writes.filter((kind) => may[kind]);
    return {
      ...summary,
      gives: lenses.some(({ reads }) => reads),
      takes: allowed.length > 0 && lenses.some(({ writes }) => writes),
      may: allowed,
    };
  });
}
