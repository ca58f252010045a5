import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  accountsSchema,
  type ListedRecord,
  listedRecordsSchema,
  problemSchema,
  recordActSchema,
  recordListSchema,
} from '@anchor-knot/contracts';
import { recordKey } from '@anchor-knot/core';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import type { LoadedKnot } from '../knots/knots.js';
import { emptyAccount, type MemberAccount } from '../orchestration/runResult.js';
import { accounts } from '../persistence/tables/outsideRecords.js';
import {
  unacknowledgedCounts,
  unacknowledgedRecords,
  type UnacknowledgedRow,
} from '../persistence/tables/acknowledgements.js';
import {
  type ListedRow,
  lockOutside,
  type RecordList,
  recordsOfList,
  setAside,
} from '../persistence/tables/recordLists.js';
import { startThing } from './startThing.js';

const pageSize = 100;
const mostValues = 3;

/** Every record that was read is in a list: how many are in which, and which they are. */
export function recordRoutes(app: FastifyInstance, { data, knots }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();
  const parameters = z.object({ knot: z.string() });

  typed.get(
    '/api/knots/:knot/accounts',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['records'],
        summary: 'How many records of each member are tied, wait, were rejected or set aside, or take no part',
        params: parameters,
        response: { 200: accountsSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      const known = await accounts(data, knot.id);
      const { members } = knot.definition;
      const lateAfter = members.flatMap(({ id, acknowledges }) =>
        acknowledges ? [[id, acknowledges.lateAfter] as const] : [],
      );
      const waited = await unacknowledgedCounts(data, knot.id, new Map(lateAfter), new Date());
      return {
        members: members.map(({ id }) => {
          const account = known.get(id) ?? emptyAccount;
          const unacknowledged = waited.get(id) ?? { count: 0, late: 0 };
          return { member: id, account, total: totalOf(account), unacknowledged };
        }),
      };
    },
  );

  typed.get(
    '/api/knots/:knot/records',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['records'],
        summary: 'The records of a member in one list, in order of their keys',
        params: parameters,
        querystring: z.object({ member: z.string(), list: recordListSchema, after: z.string().max(500).default('') }),
        response: { 200: listedRecordsSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      const { member, list, after } = request.query;
      if (!knot || !knot.definition.members.some(({ id }) => id === member))
        return reply.code(404).send(noSuch(knot ? 'member' : 'knot'));
      const records =
        list === 'unacknowledged' ? await unacknowledged(knot, member, after) : await untied(knot, member, list, after);
      return { records, next: records.length === pageSize ? (records.at(-1)?.key ?? null) : null };
    },
  );

  async function untied(knot: LoadedKnot, member: string, list: RecordList, after: string): Promise<ListedRecord[]> {
    const rows = await recordsOfList(data, knot.id, member, list, after, pageSize);
    return rows.map((row) => ({
      key: row.record_key,
      title: titleOf(knot, member, row),
      why: whyIn(list, row),
      anchor: null,
    }));
  }

  async function unacknowledged(knot: LoadedKnot, member: string, after: string): Promise<ListedRecord[]> {
    const lateAfter = knot.compiled.member(member).acknowledges?.lateAfter;
    const rows = await unacknowledgedRecords(data, knot.id, member, after, pageSize);
    return rows.map((row) => ({
      key: row.record_key,
      title: row.title,
      why: whyWaited(row, lateAfter, new Date()),
      anchor: row.anchor_id,
    }));
  }

  typed.post(
    '/api/knots/:knot/records/:member/:key',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['records'],
        summary: 'Let a record start a thing, set it aside, or take that back',
        params: z.object({ knot: z.string(), member: z.string(), key: z.string().max(500) }),
        body: recordActSchema,
        response: { 200: z.object({ anchor: z.string().nullable() }), 404: problemSchema, 409: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      const { member } = request.params;
      if (!knot || !knot.definition.members.some(({ id }) => id === member))
        return reply.code(404).send(noSuch(knot ? 'member' : 'knot'));
      const key = recordKey(request.params.key);
      const { act } = request.body;
      const person = request.person?.name ?? '';
      const now = new Date();
      let anchor: string | null = null;
      if (act === 'start') {
        const outcome = await startThing(data, knot, { member, key }, person, now);
        if (outcome.kind !== 'started')
          return reply.code(409).send({ code: 'not possible', says: outcome.says, advice: 'Load the list again.' });
        anchor = outcome.anchor;
      } else {
        const isThere = await data.transaction(async (db) => {
          if (!(await lockOutside(db, knot.id, { member, key }))) return false;
          await setAside(db, knot.id, member, [key], act === 'set aside' ? { person, at: now } : undefined);
          return true;
        });
        if (!isThere)
          return reply.code(409).send({
            code: 'not possible',
            says: 'This record is tied by now, or not there any more.',
            advice: 'Load the list again.',
          });
      }
      await writeAudit(data, request.person, `record: ${act}`, { knot: knot.id, member, key });
      return { anchor };
    },
  );
}

function titleOf({ compiled }: LoadedKnot, member: string, { reading, title, record_key }: ListedRow): string {
  if (!reading) return title === null || title === '' ? record_key : title;
  const values = compiled.comparableValues(member, reading.fields);
  const called = values.get(compiled.titleField);
  if (typeof called === 'string' && called !== '') return called;
  // Without its name, what else there is tells one record from another.
  const others = [...values.values()].filter(
    (value) => typeof value === 'string' && value !== '' && value !== record_key,
  );
  return others.length === 0 ? record_key : others.slice(0, mostValues).join(', ');
}

/** @param lateAfter minutes; none where nothing is to be acknowledged any more */
function whyWaited({ unacknowledged_since: since }: UnacknowledgedRow, lateAfter: number | undefined, now: Date) {
  const minutes = (now.getTime() - since.getTime()) / 60_000;
  const written = `It was written at ${since.toISOString().slice(0, 16).replace('T', ' ')} UTC`;
  return lateAfter !== undefined && minutes > lateAfter
    ? `${written}, and should have been acknowledged within ${lateAfter} min: it is late.`
    : `${written}, and its system has not acknowledged it yet.`;
}

const reasons: Readonly<Record<Exclude<RecordList, 'rejected'>, string>> = {
  waiting: 'A person has to say what it is the same as: see Decisions.',
  aside: 'Somebody set it aside.',
  untied: 'It matches nothing, and nothing may start in this member.',
  filtered: 'The filter of this member leaves it out.',
};

function whyIn(list: RecordList, { reading }: ListedRow): string {
  return list === 'rejected' ? (reading?.rejected ?? []).join('; ') : reasons[list];
}

function totalOf({ tied, waiting, rejected, aside, untied, filtered }: MemberAccount): number {
  return tied + waiting + rejected + aside + untied + filtered;
}
