import { timingSafeEqual } from 'node:crypto';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { Pool } from 'pg';
import type { FaultSwitch } from '../kit/faults.js';
import { metadata } from './odataMetadata.js';
import { condition, orderOf, parsed } from './odataQuery.js';
import { type Column, propertyName, Refusal, type SetName, sets } from './odataSets.js';

const usualPage = 50;
const largestPage = 500;
export interface ODataFaceOptions {
  readonly pool: Pool;
  readonly id: string;
  readonly secret: string;
  readonly faults: FaultSwitch;
}

/**
 * The OData v4 face of the ERP (OASIS, OData Version 4.01): `$metadata`, `$filter`, `$orderby`, `$top`, `$skip`,
 * `$count`, pages by `$skiptoken`, entity tags, JSON batches. What it does not know, it refuses with 501, as the
 * standard asks.
 */
export async function registerODataFace(
  app: FastifyInstance,
  { pool, id, secret, faults }: ODataFaceOptions,
): Promise<void> {
  const wanted = Buffer.from(`Basic ${Buffer.from(`${id}:${secret}`).toString('base64')}`);

  async function columnsOf(table: string): Promise<Column[]> {
    const { rows } = await pool.query<Omit<Column, 'property'>>(
      `select a.attname as column, t.typname as type, a.attnotnull and not a.atthasdef
        and a.attidentity = '' as required, a.attgenerated <> '' or a.attidentity = 'a'
          or a.attname = 'changed_at' as generated,
              case when t.typname = 'varchar' and a.atttypmod > 4 then a.atttypmod - 4 end as longest,
              (select string_agg(e.enumlabel, ',' order by e.enumsortorder) from pg_enum e
                where e.enumtypid = a.atttypid) as choices,
              (select f.relname from pg_constraint c join pg_class f on f.oid = c.confrelid
                where c.conrelid = a.attrelid and c.contype = 'f' and c.conkey = array[a.attnum] limit 1) as refers
       from pg_attribute a join pg_type t on t.oid = a.atttypid where a.attrelid = $1::regclass and a.attnum > 0
         and not a.attisdropped order by a.attnum`,
      [table],
    );
    return rows.map((row) => ({ ...row, property: propertyName(row.column) }));
  }

  const entitySql = (columns: readonly Column[]): string =>
    `json_build_object('@odata.etag', 'W/"' || source.xmin::text || '"', ` +
    `${columns.map(({ column, property }) => `'${property}', source.${column}`).join(', ')})::text`;

  async function entity(name: SetName, key: string): Promise<{ body: string; etag: string } | undefined> {
    const { table, key: keyColumn } = sets[name];
    const { rows } = await pool.query<{ body: string; etag: string }>(
      `select ${entitySql(await columnsOf(table))} as body, 'W/"' || xmin::text || '"' as etag from ${table} source
        where ${keyColumn}::text = $1`,
      [key],
    );
    return rows[0];
  }

  async function list(name: SetName, request: FastifyRequest, reply: FastifyReply): Promise<FastifyReply> {
    const { table, key } = sets[name];
    const columns = await columnsOf(table);
    const query = request.query as Record<string, string>;
    const unknown = Object.keys(query).find(
      (option) =>
        option.startsWith('$') &&
        !['$filter', '$orderby', '$top', '$skip', '$count', '$skiptoken', '$format'].includes(option),
    );
    if (unknown) throw new Refusal(501, 'NotImplemented', `${unknown} is not implemented`);
    const values: unknown[] = [];
    const conditions = query.$filter ? [condition(parsed(query.$filter), columns, values)] : [];
    const { rows: counted } =
      query.$count === 'true'
        ? await pool.query<{ count: string }>(`select count(*) from ${table} source ${where(conditions)}`, values)
        : { rows: [] };
    const order = orderOf(query.$orderby, columns, key);
    const token =
      query.$skiptoken === undefined
        ? undefined
        : (JSON.parse(Buffer.from(query.$skiptoken, 'base64url').toString()) as { after?: string; skip?: number });
    const byKey = order.length === 1 && order[0]?.column === key && !order[0].descending;
    if (token?.after !== undefined) conditions.push(`source.${key} > $${values.push(token.after)}`);
    const skip = token?.skip ?? count(query.$skip, '$skip') ?? 0;
    const asked = /odata\.maxpagesize=(\d+)/.exec(String(request.headers.prefer ?? ''))?.[1];
    const page = Math.min(largestPage, Math.max(1, Number(asked ?? usualPage)));
    const top = count(query.$top, '$top');
    const limit = Math.min(page, top ?? page);
    const { rows } = await pool.query<{ body: string; key: string }>(
      `select ${entitySql(columns)} as body, source.${key}::text as key from ${table} source ${where(conditions)}
       order by ${order.map(({ column, descending }) => `source.${column}${descending ? ' desc' : ''}`).join(', ')}
         limit ${limit + 1} offset ${skip}`,
      values,
    );
    const shown = rows.slice(0, limit);
    const isMore = rows.length > limit && (top === undefined || top > limit);
    const next = isMore
      ? nextLink(request, {
          token: byKey ? { after: shown.at(-1)?.key } : { skip: skip + limit },
          left: top === undefined ? undefined : top - limit,
        })
      : undefined;
    const members = [
      `"@odata.context":${JSON.stringify(`${rootOf(request)}$metadata#${name}`)}`,
      ...(counted[0] ? [`"@odata.count":${counted[0].count}`] : []),
      `"value":[${shown.map(({ body }) => body).join(',')}]`,
      ...(next ? [`"@odata.nextLink":${JSON.stringify(next)}`] : []),
    ];
    return json(reply, `{${members.join(',')}}`);
  }

  async function write(
    name: SetName,
    key: string | undefined,
    request: FastifyRequest,
    reply: FastifyReply,
  ): Promise<FastifyReply> {
    const { table, key: keyColumn, insert, update } = sets[name];
    if (key === undefined ? !insert : !update)
      throw new Refusal(405, 'NotAllowed', `${name} cannot be ${key === undefined ? 'inserted into' : 'updated'}`);
    const columns = await columnsOf(table);
    const given = Object.entries((request.body ?? {}) as Record<string, unknown>).map(([property, value]) => {
      const column = columns.find((one) => one.property === property);
      if (!column) throw new Refusal(400, 'UnknownProperty', `${sets[name].type} has no property "${property}"`);
      if (column.generated) throw new Refusal(400, 'ReadOnly', `${property} is computed`);
      return [column.column, value] as const;
    });
    const match = request.headers['if-match'];
    if (key !== undefined) {
      const known = await entity(name, key);
      if (!known) throw new Refusal(match === '*' ? 412 : 404, 'NotFound', `there is no ${sets[name].type} ${key}`);
      if (match === undefined) throw new Refusal(428, 'PreconditionRequired', 'an update needs If-Match');
      if (match !== '*' && match !== known.etag)
        throw new Refusal(412, 'PreconditionFailed', 'the entity has changed since it was read');
    }
    const values = given.map(([, value]) => value);
    const names = given.map(([column]) => column);
    const text =
      key === undefined
        ? `insert into ${table} (${names.join(', ')}) values (${values.map((_, index) => `$${index + 1}`).join(', ')})
          returning ${keyColumn}::text as key`
        : `update ${table} set ${names.map((column, index) => `${column} = $${index + 1}`).join(', ')}
          where ${keyColumn}::text = $${values.length + 1} and ($${values.length + 2}::text is null
            or xmin::text = $${values.length + 2}) returning ${keyColumn}::text as key`;
    const version = match === undefined || match === '*' ? null : /^W\/"(\d+)"$/.exec(match)?.[1];
    let written: string | undefined;
    try {
      if (names.length > 0) {
        const { rows } = await pool.query<{ key: string }>(
          text,
          key === undefined ? values : [...values, key, version],
        );
        written = rows[0]?.key;
        if (written === undefined)
          throw new Refusal(412, 'PreconditionFailed', 'the entity has changed since it was read');
      } else written = key;
    } catch (error) {
      if (error instanceof Refusal) throw error;
      throw new Refusal(400, 'Invalid', (error as Error).message);
    }
    if (faults.drops(reply)) return reply;
    const after = await entity(name, written ?? '');
    return json(reply.code(key === undefined ? 201 : 200).header('etag', after?.etag ?? ''), after?.body ?? '{}');
  }

  await app.register(
    async (face) => {
      face.addHook('onRequest', async (request, reply) => {
        const stopped = await faults.before(request, reply, (late) =>
          late.send(problem('TooManyRequests', 'the allowance is used up')),
        );
        if (stopped) return stopped;
        const given = Buffer.from(request.headers.authorization ?? '');
        if (faults.faults.refuseSignIn || given.length !== wanted.length || !timingSafeEqual(given, wanted))
          return reply
            .code(401)
            .header('www-authenticate', 'Basic realm="Coldharbour"')
            .send(problem('Unauthorized', 'user or password is wrong'));
        reply.header('odata-version', '4.0');
        return undefined;
      });
      face.setErrorHandler((error, _, reply) => {
        if (error instanceof Refusal) return reply.code(error.status).send(problem(error.code, error.message));
        const { statusCode = 500, message } = error as { statusCode?: number; message: string };
        return reply.code(statusCode).send(problem('Error', statusCode < 500 ? message : 'internal error'));
      });
      face.get('/', async (request, reply) =>
        json(
          reply,
          JSON.stringify({
            '@odata.context': `${rootOf(request)}$metadata`,
            value: Object.keys(sets).map((name) => ({ name, kind: 'EntitySet', url: name })),
          }),
        ),
      );
      face.get('/$metadata', async (_, reply) => reply.type('application/xml').send(await metadata(columnsOf)));
      face.post('/$batch', async (request, reply) => {
        const { requests } = (request.body ?? {}) as { requests?: unknown };
        if (!Array.isArray(requests) || requests.length > 200)
          throw new Refusal(400, 'BadBatch', 'a batch needs 1 to 200 requests');
        const responses = [];
        for (const one of requests as {
          id: string;
          method: 'POST' | 'PATCH' | 'DELETE';
          url: string;
          headers?: Record<string, string>;
          body?: object;
        }[]) {
          const answer = await app.inject({
            method: one.method,
            url: `/odata/${one.url}`,
            headers: { ...one.headers, authorization: request.headers.authorization ?? '' },
            ...(one.body ? { payload: one.body } : {}),
          });
          const [id, headers] = [JSON.stringify(one.id), JSON.stringify(answer.headers)];
          const body = answer.body || 'null';
          responses.push(`{"id":${id},"status":${answer.statusCode},"headers":${headers},"body":${body}}`);
        }
        return json(reply, `{"responses":[${responses.join(',')}]}`);
      });
      face.get('/:target', async (request, reply) => {
        const { name, key } = target(request);
        if (faults.faults.brokenPages) return json(reply, '{"value":[{"Debto');
        if (key === undefined) return list(name, request, reply);
        const found = await entity(name, key);
        if (!found) throw new Refusal(404, 'NotFound', `there is no ${sets[name].type} ${key}`);
        return json(reply.header('etag', found.etag), found.body);
      });
      face.post('/:target', async (request, reply) => write(target(request).name, undefined, request, reply));
      face.delete('/:target', async (request, reply) => {
        const { name, key } = target(request);
        const known = key === undefined ? undefined : await entity(name, key);
        const match = request.headers['if-match'];
        if (key === undefined || !sets[name].insert)
          throw new Refusal(405, 'NotAllowed', `${name} cannot be deleted from`);
        if (!known) throw new Refusal(match === '*' ? 412 : 404, 'NotFound', `there is no ${sets[name].type} ${key}`);
        if (match !== undefined && match !== '*' && match !== known.etag)
          throw new Refusal(412, 'PreconditionFailed', 'the entity has changed since it was read');
        try {
          await pool.query(`delete from ${sets[name].table} where ${sets[name].key}::text = $1`, [key]);
        } catch (error) {
          throw new Refusal(409, 'InUse', (error as Error).message);
        }
        return faults.drops(reply) ? reply : reply.code(204).send();
      });
      face.patch('/:target', async (request, reply) => {
        const { name, key } = target(request);
        if (key === undefined) throw new Refusal(405, 'NotAllowed', 'a set cannot be patched');
        return write(name, key, request, reply);
      });
    },
    { prefix: '/odata' },
  );
}

const where = (conditions: readonly string[]): string =>
  conditions.length > 0 ? `where ${conditions.join(' and ')}` : '';
const problem = (code: string, message: string) => ({ error: { code, message } });
const json = (reply: FastifyReply, text: string): FastifyReply =>
  reply.type('application/json;odata.metadata=minimal').send(text);

function rootOf(request: FastifyRequest): string {
  return `${request.protocol}://${request.host}/odata/`;
}

/** `Debtors`, or `Debtors('D10001')`. */
function target(request: FastifyRequest): { name: SetName; key: string | undefined } {
  const text = (request.params as { target: string }).target;
  const [, name = '', literal] = /^(\w+)(?:\((.*)\))?$/s.exec(text) ?? [];
  if (!Object.hasOwn(sets, name)) throw new Refusal(404, 'NotFound', `there is no entity set "${text.slice(0, 60)}"`);
  const quoted = literal === undefined ? undefined : /^'((?:[^']|'')*)'$/s.exec(literal)?.[1]?.replaceAll("''", "'");
  return { name: name as SetName, key: literal === undefined ? undefined : (quoted ?? literal) };
}

function nextLink(request: FastifyRequest, { token, left }: { token: object; left: number | undefined }): string {
  const query = new URLSearchParams(request.query as Record<string, string>);
  query.delete('$skip');
  query.set('$skiptoken', Buffer.from(JSON.stringify(token)).toString('base64url'));
  if (left !== undefined) query.set('$top', String(left));
  return `${rootOf(request)}${(request.params as { target: string }).target}?${query.toString()}`;
}

function count(text: string | undefined, option: string): number | undefined {
  if (text === undefined) return undefined;
  if (!/^\d{1,9}$/.test(text)) throw new Refusal(400, 'BadOption', `${option} is not a number`);
  return Number(text);
}
