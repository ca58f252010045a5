import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { duplicateListSchema, matchRecordsSchema, problemSchema, verdictListSchema } from '@anchor-knot/contracts';
import { recordKey, type RecordName } from '@anchor-knot/core';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { spreadsheetCsv } from '../api/spreadsheetCsv.js';
import type { LoadedKnot } from '../knots/knots.js';
import { countDuplicates, type DuplicateRow, waitingDuplicates } from '../persistence/tables/decisionLists.js';
import { findMatchDecision } from '../persistence/tables/decisions.js';
import { recordsSetAside, takeInAgain } from '../persistence/tables/recordLists.js';
import { countVerdicts, dropVerdict, verdictsBefore } from '../persistence/tables/verdicts.js';
import { memberSummaries } from '../views/summaries.js';
import { knownRecords, matchRecords } from './matchRecords.js';

const pageSize = 100;
const exportedAtOnce = 1000;
const parameters = z.object({ knot: z.string() });
const after = z.object({ after: z.coerce.number().int().min(0).default(0) });

/** What matching left to people: pairs to look at, duplicates of one system, and what was said. */
export function matchRoutes(app: FastifyInstance, { data, knots, systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  typed.get(
    '/api/knots/:knot/decisions/:decision/records',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['decisions'],
        summary: 'The records that a decision on a match is about, side by side',
        params: parameters.extend({ decision: z.coerce.number().int().positive() }),
        response: { 200: matchRecordsSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      const row = await findMatchDecision(data, request.params.knot, request.params.decision);
      return knot && row ? matchRecords(data, knot, row) : reply.code(404).send(noSuch('decision'));
    },
  );

  const recordsIn = ({ member, detail }: DuplicateRow): RecordName[] =>
    [...(detail.tiedKey === null ? [] : [detail.tiedKey]), ...detail.keys].map((key) => ({
      member,
      key: recordKey(key),
    }));
  async function setAside(knot: LoadedKnot, limit: number) {
    const rows = await recordsSetAside(data, knot.id, limit);
    const known = await knownRecords(
      data,
      knot,
      rows.map(({ member, record_key }) => ({ member, key: recordKey(record_key) })),
    );
    return known.map(({ fields: _, ...record }, place) => ({
      ...record,
      person: rows[place]?.set_aside_by ?? null,
      at: rows[place]?.set_aside_at?.toISOString() ?? null,
    }));
  }

  typed.get(
    '/api/knots/:knot/duplicates',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['decisions'],
        summary: 'Records of one system that seem to be one thing, and those that were set aside',
        params: parameters,
        querystring: after,
        response: { 200: duplicateListSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      const rows = await waitingDuplicates(data, knot.id, request.query.after, pageSize);
      const refs = rows.map(recordsIn);
      const known = await knownRecords(data, knot, refs.flat());
      const { total, aside } = await countDuplicates(data, knot.id);
      let at = 0;
      const groups = rows.map((row, place) => ({
        decision: row.id,
        fingerprint: row.fingerprint,
        member: row.member,
        says: row.says,
        anchor: row.anchor_id,
        title: row.title,
        tiedKey: row.detail.tiedKey,
        records: known.slice(at, (at += refs[place]?.length ?? 0)).map(({ fields: _, ...record }) => record),
        openedAt: row.opened_at.toISOString(),
      }));
      return {
        groups,
        next: rows.length === pageSize ? (rows.at(-1)?.id ?? null) : null,
        total,
        setAside: await setAside(knot, pageSize),
        setAsideTotal: aside,
        members: memberSummaries(knot.definition, await systems.all()),
      };
    },
  );

  typed.get(
    '/api/knots/:knot/duplicates.csv',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['decisions'],
        summary: 'The same as CSV (RFC 4180), safe to open in a spreadsheet',
        params: parameters,
        response: { 404: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      const names = new Map(
        memberSummaries(knot.definition, await systems.all()).map(({ id, systemName }) => [id, systemName]),
      );
      const fields = knot.compiled.fields;
      const lines: unknown[][] = [['group', 'system', 'key', 'state', 'why', ...fields.map(({ name }) => name)]];
      const add = async (
        group: string,
        refs: readonly RecordName[],
        state: (record: RecordName) => string,
        why: string,
      ): Promise<void> => {
        for (const record of await knownRecords(data, knot, refs)) {
          const values = knot.compiled.sharedValues(record.member, record.fields);
          lines.push([
            group,
            names.get(record.member) ?? record.member,
            record.key,
            state({ member: record.member, key: recordKey(record.key) }),
            why,
            ...fields.map(({ id }) => String(values.get(id) ?? '')),
          ]);
        }
      };
      for (let from = 0; ;) {
        const rows = await waitingDuplicates(data, knot.id, from, exportedAtOnce);
        for (const row of rows)
          await add(row.id, recordsIn(row), ({ key }) => (key === row.detail.tiedKey ? 'tied' : 'waits'), row.says);
        if (rows.length < exportedAtOnce) break;
        from = Number(rows.at(-1)?.id);
      }
      for (const { member, key, person } of await setAside(knot, 100_000))
        await add('', [{ member, key: recordKey(key) }], () => 'set aside', person === null ? '' : `by ${person}`);
      const text = spreadsheetCsv(lines);
      return reply
        .type('text/csv; charset=utf-8')
        .header('content-disposition', `attachment; filename="${knot.id}-duplicates.csv"`)
        .send(`\uFEFF${text}` as never);
    },
  );

  typed.post(
    '/api/knots/:knot/set-aside/take-back',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Have a record that was set aside take part again',
        params: parameters,
        body: z.object({ member: z.string().max(40), key: z.string().max(500) }),
        response: { 200: z.object({ changed: z.literal(true) }), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { member, key } = request.body;
      if (!(await takeInAgain(data, request.params.knot, member, key)))
        return reply.code(404).send(noSuch('record that is set aside'));
      await writeAudit(data, request.person, 'taken in again', { knot: request.params.knot, member, key });
      return { changed: true as const };
    },
  );

  typed.get(
    '/api/knots/:knot/verdicts',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['decisions'],
        summary: 'What people have said of pairs of records, the last first',
        params: parameters,
        querystring: z.object({ before: z.coerce.number().int().min(1).optional() }),
        response: { 200: verdictListSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      const rows = await verdictsBefore(data, knot.id, request.query.before, pageSize);
      const total = await countVerdicts(data, knot.id);
      const known = await knownRecords(
        data,
        knot,
        rows.flatMap((row) => [
          { member: row.member_a, key: recordKey(row.key_a) },
          { member: row.member_b, key: recordKey(row.key_b) },
        ]),
      );
      const named = known.map(({ fields: _, ...record }) => record);
      return {
        verdicts: rows.map(({ id, same, person, at }, place) => ({
          id,
          a: named[2 * place] as (typeof named)[number],
          b: named[2 * place + 1] as (typeof named)[number],
          same,
          person,
          at: at.toISOString(),
        })),
        next: rows.length === pageSize ? (rows.at(-1)?.id ?? null) : null,
        total,
        members: memberSummaries(knot.definition, await systems.all()),
      };
    },
  );

  typed.delete(
    '/api/knots/:knot/verdicts/:verdict',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Take a verdict back; ties that it made stay',
        params: parameters.extend({ verdict: z.coerce.number().int().positive() }),
        response: { 204: z.null(), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const row = await dropVerdict(data, request.params.knot, request.params.verdict);
      if (!row) return reply.code(404).send(noSuch('verdict'));
      await writeAudit(data, request.person, 'verdict taken back', { knot: request.params.knot, ...row });
      return reply.code(204).send(null);
    },
  );
}
