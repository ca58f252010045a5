import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { type SystemSummary, type Watch, watchSchema } from '@anchor-knot/contracts';
import type { ApiContext } from '../api/context.js';
import { lastRunOf, openRunOf, runsBefore } from '../persistence/tables/runLists.js';
import { standingOf, waitingByKind, waitingByMember, writtenByHour } from '../persistence/tables/standing.js';
import { type UsedAllowance, usedAllowances } from '../persistence/tables/callBudget.js';
import { cursorsOf } from '../persistence/tables/runs.js';
import { dueRetries } from '../persistence/tables/retries.js';
import { recordCounts } from '../persistence/tables/recordCounts.js';
import { lastRunDays } from '../persistence/tables/runDays.js';
import { nextDue } from '../persistence/tables/timings.js';
import { knotStates } from '../persistence/tables/versions.js';
import { workingSubscriptions } from '../persistence/tables/webhooks.js';
import { emptyAt } from '../systems/callBudget.js';
import { freshnessOf, latestMember } from '../triggers/freshness.js';
import { memberSummaries, runSummary, systemSummary } from './summaries.js';

const timeOf = (at: number | undefined): string | null => (at === undefined ? null : new Date(at).toISOString());

/** How many of the last runs are shown. */
const lastRuns = 6;
const trendDays = 30;

export function watchRoutes(app: FastifyInstance, { data, knots, systems, timings }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  async function allSystems(): Promise<Watch['systems']> {
    const allowances = new Map((await usedAllowances(data)).map((allowance) => [allowance.system, allowance]));
    return (await summaries()).map((summary) => ({ ...summary, calls: callsOf(allowances.get(summary.id)) }));
  }

  function callsOf(allowance: UsedAllowance | undefined): Watch['systems'][number]['calls'] {
    if (!allowance) return null;
    const { used, perDay } = allowance;
    const empty = emptyAt(used, perDay, new Date());
    return { used, perDay, emptyAt: empty === undefined ? null : new Date(empty).toISOString() };
  }

  async function summaries(): Promise<SystemSummary[]> {
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
      const states = await knotStates(data);
      const due = await nextDue(data);
      const retries = await dueRetries(data);
      const hearings = await workingSubscriptions(data);
      const now = Date.now();
      const list: Watch['knots'] = [];
      for (const id of await knots.ids()) {
        const knot = await knots.inForce(id);
        if (!knot) continue;
        const { anchors, agree } = await standingOf(data, id);
        const ties = await recordCounts(data, id, 'tied');
        const waiting = await waitingByMember(data, id);
        const lastRun = await lastRunOf(data, id);
        const openRun = await openRunOf(data, id);
        const state = states.get(id)?.state ?? 'running';
        const { timing } = await timings.of(id);
        const cursors = await cursorsOf(data, id);
        const freshness = freshnessOf(knot.definition, timing, cursors, hearings, now);
        const known = new Map(freshness.map(({ member, knownAt }) => [member, knownAt]));
        const troubled = new Set(rows.filter(({ trouble }) => trouble).map((row) => row.id));
        list.push({
          id,
          name: knot.definition.name,
          thing: knot.definition.thing,
          state,
          anchors,
          agree,
          members: memberSummaries(knot.definition, rows).map((member) => ({
            ...member,
            ties: ties.get(member.id) ?? 0,
            waiting: waiting.get(member.id) ?? 0,
            trouble: troubled.has(member.system),
            knownAt: timeOf(known.get(member.id)),
          })),
          isLate: lastRun !== undefined && state === 'running' && latestMember(timing, freshness, now) !== undefined,
          lastRun: lastRun ? runSummary(lastRun) : null,
          openRun: openRun ? runSummary(openRun) : null,
          retryAt: state === 'running' ? (retries.get(id)?.at.toISOString() ?? null) : null,
          attempts: retries.get(id)?.attempts ?? 0,
          nextAt: lastRun && state === 'running' ? (due.get(id)?.toISOString() ?? null) : null,
        });
      }
      const waiting = await waitingByKind(data);
      const written = await writtenByHour(data);
      return {
        knots: list,
        systems: await allSystems(),
        waiting: waiting.map(({ since, ...kind }) => ({ ...kind, since: since.toISOString() })),
        written: written.map(({ hour, values }) => ({ hour: hour.toISOString(), values })),
        days: [...(await lastRunDays(data, trendDays))],
        lastRuns: (await runsBefore(data, {}, lastRuns)).map(runSummary),
      };
    },
  );
}
