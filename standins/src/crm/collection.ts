import { createHash, randomUUID } from 'node:crypto';
import type { FastifyInstance, FastifyReply } from 'fastify';
import type { FaultSwitch } from '../kit/faults.js';
import type { RecordLog } from '../kit/recordLog.js';

export interface CollectionRecord {
  readonly id: string;
  readonly modifiedAt: string;
}

export interface Collection<T extends CollectionRecord> {
  readonly path: string;
  readonly log: RecordLog<T>;
  readonly idPrefix: string;
  /** The fields that callers may give, with what each must be. */
  readonly fields: Readonly<Record<string, 'text' | 'number' | 'date' | readonly string[]>>;
  readonly faults: FaultSwitch;
  readonly now: () => Date;
  readonly fail: (reply: FastifyReply, code: number, message: string, details?: readonly string[]) => FastifyReply;
  readonly changed: (record: T, isNew: boolean) => void;
}

/** People and deals of the CRM: pages by cursor, a filter by modification time, entity tags. */
export function registerCollection<T extends CollectionRecord>(
  api: FastifyInstance,
  { path, log, idPrefix, fields, faults, now, fail, changed }: Collection<T>,
): void {
  const etagOf = (record: T): string =>
    `"${createHash('sha1').update(JSON.stringify(record)).digest('hex').slice(0, 16)}"`;

  function problemsOf(body: Readonly<Record<string, unknown>>): string[] {
    return Object.entries(body).flatMap(([field, value]) => {
      const rule = fields[field];
      if (rule === undefined) return field === 'id' || field === 'modifiedAt' ? [] : [`${field} is unknown`];
      if (value === null) return [];
      if (rule === 'number') return typeof value === 'number' ? [] : [`${field} must be a number`];
      if (typeof value !== 'string') return [`${field} must be a string`];
      if (rule === 'date') return /^\d{4}-\d\d-\d\d$/.test(value) ? [] : [`${field} must be a date`];
      return rule === 'text' || rule.includes(value) ? [] : [`${field} must be one of ${rule.join(', ')}`];
    });
  }

  async function save(known: T | undefined, input: unknown, reply: FastifyReply): Promise<FastifyReply> {
    const body = typeof input === 'object' && input !== null ? (input as Record<string, unknown>) : {};
    const problems = problemsOf(body);
    if (problems.length > 0) return fail(reply, 422, 'the record is not valid', problems);
    const given = Object.fromEntries(Object.entries(body).filter(([field]) => field in fields));
    const blank = Object.fromEntries(Object.keys(fields).map((field) => [field, null]));
    const record = {
      ...blank,
      ...known,
      ...given,
      id: known?.id ?? `${idPrefix}${randomUUID().slice(0, 8)}`,
      modifiedAt: now().toISOString(),
    } as unknown as T;
    log.put(record);
    changed(record, known === undefined);
    return faults.drops(reply)
      ? reply
      : reply
          .code(known ? 200 : 201)
          .header('etag', etagOf(record))
          .send(record);
  }

  api.get(path, async (request, reply) => {
    const {
      limit: asked,
      cursor,
      modifiedSince,
    } = request.query as { limit?: string; cursor?: string; modifiedSince?: string };
    const limit = Math.min(Math.max(Number(asked ?? 50) || 50, 1), 1000);
    const since = modifiedSince === undefined ? 0 : Date.parse(modifiedSince);
    if (Number.isNaN(since)) return fail(reply, 400, 'modifiedSince is not a time in ISO 8601');
    if (faults.faults.brokenPages) return reply.type('application/json').send('{"data":[{"id":"');
    const after = cursor === undefined ? '' : Buffer.from(cursor, 'base64url').toString();
    const from = new Date(since).toISOString();
    const found: T[] = [];
    for (const record of log.after(after)) {
      if (record.modifiedAt >= from) found.push(record);
      if (found.length > limit) break;
    }
    const data = found.slice(0, limit);
    return {
      data: data.map((record) => ({ ...record, etag: etagOf(record) })),
      nextCursor: found.length > limit ? Buffer.from(data.at(-1)?.id ?? '').toString('base64url') : null,
    };
  });
  api.get(`${path}/:id`, async (request, reply) => {
    const record = log.get((request.params as { id: string }).id);
    return record ? reply.header('etag', etagOf(record)).send(record) : fail(reply, 404, 'no such record');
  });
  api.post(path, async (request, reply) => save(undefined, request.body, reply));
  api.patch(`${path}/:id`, async (request, reply) => {
    const known = log.get((request.params as { id: string }).id);
    if (!known) return fail(reply, 404, 'no such record');
    const ifMatch = request.headers['if-match'];
    if (ifMatch !== undefined && ifMatch !== '*' && ifMatch !== etagOf(known))
      return fail(reply, 412, 'the record has changed since it was read');
    return save(known, request.body, reply);
  });
}
