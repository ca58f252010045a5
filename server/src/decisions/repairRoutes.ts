import type { FastifyInstance, FastifyReply } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  type DecisionKind,
  type FailureGroup,
  type GroupName,
  groupNameSchema,
  mostInFile,
  problemSchema,
  repairSchema,
  takenInSchema,
} from '@anchor-knot/contracts';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import type { LoadedKnot } from '../knots/knots.js';
import { decisionsOfGroup, failureGroups, type FailureGroup as GroupRow } from '../persistence/tables/failures.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import { memberSummaries } from '../views/summaries.js';
import { systemClock } from '../worker/systemClock.js';
import { NoRepairFile, readRepairFile, repairFile, takeIn } from './repairFile.js';

/** More reasons than anybody looks through; the largest groups are shown. */
const mostGroups = 200;
const largestFile = 8 * 1024 * 1024;
/** Of these the record itself is wrong, in its own system. */
const correctable: ReadonlySet<DecisionKind> = new Set<DecisionKind>(['unreadable', 'rejected']);
const groupQuery = groupNameSchema.extend({ field: z.string().optional() });

/** What failed, over all runs, by why it did; and its records in a file that is corrected and taken in again. */
export function repairRoutes(app: FastifyInstance, { data, knots, systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();
  app.addContentTypeParser('text/csv', { parseAs: 'string', bodyLimit: largestFile }, (_request, body, done) =>
    done(null, body),
  );

  typed.get(
    '/api/repair',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['decisions'],
        summary: 'What failed and waits to be repaired, by why it did; the largest groups first',
        querystring: z.object({ knot: z.string().optional() }),
        response: { 200: repairSchema },
      },
    },
    async (request) => {
      const rows = await failureGroups(data, request.query.knot, mostGroups);
      const loaded = new Map((await knots.all()).map((knot) => [knot.id, knot]));
      const connected = await systems.all();
      return { groups: rows.map((row) => groupView(row, loaded.get(row.knot), connected)), mostGroups };
    },
  );

  typed.get(
    '/api/repair/file',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: `The records of a group as CSV, to be corrected and taken in again; the first ${mostInFile}`,
        querystring: groupQuery,
        response: { 404: problemSchema, 409: problemSchema },
      },
    },
    async (request, reply) => {
      const group = groupOf(request.query);
      return withMember(group, reply, async (knot, connector) => {
        const decisions = await decisionsOfGroup(data, group, mostInFile);
        const text = await repairFile(data, knot, connector, decisions, group.field);
        return reply.type('text/csv; charset=utf-8').send(text as never);
      });
    },
  );

  typed.post(
    '/api/repair/file',
    {
      config: { role: 'operator' },
      bodyLimit: largestFile,
      schema: {
        tags: ['decisions'],
        summary: 'Take in a file of a group in which records were corrected: it is written into their system',
        querystring: groupQuery,
        body: z.string(),
        response: { 200: takenInSchema, 404: problemSchema, 409: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const group = groupOf(request.query);
      return withMember(group, reply, async (knot, connector) => {
        try {
          const rows = readRepairFile(request.body);
          const isOfGroup = (decision: { kind: string; member: string | null }): boolean =>
            decision.kind === group.kind && decision.member === group.member;
          const person = request.person?.name ?? '';
          const taken = await takeIn(data, knot, connector, rows, isOfGroup, person);
          const { corrected, refused } = taken;
          const detail = { knot: knot.id, member: group.member, corrected, refused: refused.length };
          await writeAudit(data, request.person, 'records corrected by file', detail);
          return taken;
        } catch (error) {
          if (!(error instanceof NoRepairFile)) throw error;
          return reply.code(422).send({
            code: 'not valid',
            says: error.message,
            advice: 'Take the file that is given out here, and change only the last column.',
          });
        }
      });
    },
  );

  /** Does something with the records of a group; a system in trouble is told as that. */
  async function withMember<Answer>(
    group: GroupName,
    reply: FastifyReply,
    act: (knot: LoadedKnot, connector: Connector) => Promise<Answer>,
  ) {
    const knot = await knots.inForce(group.knot);
    const member = knot?.definition.members.find(({ id }) => id === group.member);
    if (!knot || !member || !correctable.has(group.kind)) return reply.code(404).send(noSuch('group to correct'));
    let connector: Connector | undefined;
    try {
      connector = await systems.connect(member, systemClock);
      return await act(knot, connector);
    } catch (error) {
      if (!(error instanceof SystemTrouble)) throw error;
      return reply.code(409).send({ code: 'not possible', says: error.message, advice: error.advice });
    } finally {
      await connector?.close();
    }
  }
}

const groupOf = ({ field, ...group }: z.output<typeof groupQuery>): GroupName => ({ ...group, field: field ?? null });

function groupView(row: GroupRow, knot: LoadedKnot | undefined, systems: readonly SystemRow[]): FailureGroup {
  const members = knot ? memberSummaries(knot.definition, systems) : [];
  const { first, latest, member, ...group } = row;
  const isThere = members.some(({ id }) => id === member);
  return {
    ...group,
    member: member ?? '',
    knotName: knot?.definition.name ?? row.knot,
    system: members.find(({ id }) => id === member) ?? null,
    fieldName: knot?.definition.fields.find(({ id }) => id === row.field)?.name ?? row.field,
    firstAt: first.toISOString(),
    latestAt: latest.toISOString(),
    canTryAgain: row.kind === 'refused',
    canCorrect: isThere && correctable.has(row.kind),
  };
}
