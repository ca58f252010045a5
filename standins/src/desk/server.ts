import { createHash, timingSafeEqual } from 'node:crypto';
import type { FastifyInstance, FastifyReply } from 'fastify';
import { agents, type Comment, type Requester, type Ticket, ticketStates } from '../generator/work.js';
import { FaultSwitch, type Faults } from '../kit/faults.js';
import { RecordLog } from '../kit/recordLog.js';
import { registerRecordPages } from '../kit/recordPages.js';
import { standInServer } from '../kit/serve.js';
import { Webhooks } from '../kit/webhooks.js';

export interface DeskOptions {
  readonly dataFile?: string;
  readonly tickets: readonly Ticket[];
  readonly requesters: readonly Requester[];
  readonly comments?: readonly Comment[];
  readonly token: string;
  readonly faults?: Partial<Faults>;
  readonly faultSeed?: number;
  readonly now?: () => Date;
}

type Item = (Ticket | Requester | Comment) & { readonly id: string; readonly touched: number };
type Problems = readonly { readonly field: string; readonly message: string }[];

const name = 'Bellpull Desk';
const mostAtOnce = 200;

/**
 * Bellpull Desk: a bearer token, pages by offset, times as seconds since 1970, ETag and If-Match, problems by field,
 * webhooks.
 */
export async function deskServer(options: DeskOptions): Promise<FastifyInstance> {
  const app = await standInServer();
  const faults = new FaultSwitch(options.faults, options.faultSeed);
  const now = options.now ?? (() => new Date());
  const wanted = Buffer.from(`Bearer ${options.token}`);
  const kinds = {
    tickets: {
      log: keptLog<Ticket>('tickets', options.tickets),
      check: ticketProblems,
      blank: {
        subject: '',
        body: '',
        state: 'new',
        priority: 3,
        requester_id: 0,
        agent: null,
        order_ref: null,
        hours: null,
        service_no: null,
        opened: 0,
        touched: 0,
      },
    },
    requesters: {
      log: keptLog<Requester>('requesters', options.requesters),
      check: requesterProblems,
      blank: { full_name: '', email: null, organisation: null, phone: null, touched: 0 },
    },
    comments: {
      log: keptLog<Comment>('comments', options.comments ?? []),
      check: (given: Readonly<Record<string, unknown>>) => commentProblems(given, (id) => kinds.tickets.log.get(id)),
      blank: { ticket_id: 0, by: '', text: '', written: '', ref: null, touched: 0 },
    },
  };

  function keptLog<T extends Item>(kind: string, seed: readonly T[]): RecordLog<T> {
    const log = new RecordLog<T>(options.dataFile === undefined ? undefined : `${options.dataFile}.${kind}`);
    if (log.size === 0) log.load(seed);
    return log;
  }
  const etagOf = (item: Item): string =>
    `"${createHash('sha1').update(JSON.stringify(item)).digest('hex').slice(0, 16)}"`;
  /** Which customer of the generator it is, is nobody's business but the truth file's. */
  const shown = ({ customer: _, id, ...rest }: Item & { customer?: string }) => ({ id: Number(id), ...rest });
  const fail = (reply: FastifyReply, code: number, problems: Problems) => reply.code(code).send({ problems });
  const seconds = (): number => Math.floor(now().getTime() / 1000);

  /** @returns the item with the changes, or what is wrong with them */
  function changed(kind: keyof typeof kinds, known: Item | undefined, input: unknown): Item | Problems {
    const { log, check, blank } = kinds[kind];
    const body = typeof input === 'object' && input !== null ? (input as Record<string, unknown>) : {};
    const given = Object.fromEntries(
      Object.keys(blank).flatMap((field) =>
        field in body && field !== 'touched' && field !== 'opened' ? [[field, body[field]]] : [],
      ),
    );
    const problems = check(given, known === undefined);
    if (problems.length > 0) return problems;
    const id = known?.id ?? String(Math.max(0, ...log.all().map((item) => Number(item.id))) + 1);
    return {
      ...blank,
      ...(kind === 'tickets' ? { opened: seconds() } : {}),
      ...(kind === 'comments' ? { written: now().toISOString() } : {}),
      ...known,
      ...given,
      id,
      touched: seconds(),
    } as unknown as Item;
  }
  const webhooks = new Webhooks({
    name,
    dataFile: options.dataFile,
    style: 'standard',
    events: ['ticket.created', 'ticket.changed', 'requester.created', 'requester.changed', 'comment.created'],
  });
  const put = (kind: keyof typeof kinds, item: Item): void => {
    const isNew = kinds[kind].log.get(item.id) === undefined;
    (kinds[kind].log as RecordLog<Item>).put(item);
    webhooks.emit(`${kind.slice(0, -1)}.${isNew ? 'created' : 'changed'}`, {
      id: Number(item.id),
      touched: item.touched,
    });
  };

  await app.register(
    async (api) => {
      api.addHook('onRequest', async (request, reply) => {
        const stopped = await faults.before(request, reply, (late) =>
          late.send({ problems: [{ field: '', message: 'slow down' }] }),
        );
        if (stopped) return stopped;
        const given = Buffer.from(request.headers.authorization ?? '');
        if (faults.faults.refuseSignIn || given.length !== wanted.length || !timingSafeEqual(given, wanted))
          return fail(reply, 401, [{ field: 'token', message: 'is not valid' }]);
        return undefined;
      });
      webhooks.register(api, '/webhooks');
      // Agents are people of the company; nobody makes them from outside.
      api.get('/agents', async () => ({ items: agents, total: agents.length }));
      api.get('/agents/:id', async (request, reply) => {
        const agent = agents.find(({ id }) => id === (request.params as { id: string }).id);
        return agent ?? fail(reply, 404, [{ field: 'id', message: 'is unknown' }]);
      });
      for (const kind of Object.keys(kinds) as (keyof typeof kinds)[]) {
        const log = kinds[kind].log as RecordLog<Item>;
        api.get(`/${kind}`, async (request, reply) => {
          const query = request.query as { offset?: string; limit?: string; touched_from?: string; email?: string };
          const limit = Math.min(mostAtOnce, Math.max(1, Number(query.limit ?? 50) || 50));
          const offset = Math.max(0, Number(query.offset ?? 0) || 0);
          const from = Number(query.touched_from ?? 0) || 0;
          const found = log
            .all()
            .filter(
              (item) =>
                item.touched >= from && (query.email === undefined || (item as Requester).email === query.email),
            );
          if (faults.faults.brokenPages) return reply.type('application/json').send('{"items":[{"id":1,');
          return { items: found.slice(offset, offset + limit).map(shown), total: found.length };
        });
        api.get(`/${kind}/:id`, async (request, reply) => {
          const item = log.get((request.params as { id: string }).id);
          return item
            ? reply.header('etag', etagOf(item)).send(shown(item))
            : fail(reply, 404, [{ field: 'id', message: 'is unknown' }]);
        });
        api.post(`/${kind}`, async (request, reply) => {
          const result = changed(kind, undefined, request.body);
          if (Array.isArray(result)) return fail(reply, 422, result);
          put(kind, result as Item);
          return faults.drops(reply)
            ? reply
            : reply
                .code(201)
                .header('etag', etagOf(result as Item))
                .send(shown(result as Item));
        });
        // What was said stays said.
        if (kind === 'comments') continue;
        api.patch(`/${kind}/:id`, async (request, reply) => {
          const known = log.get((request.params as { id: string }).id);
          if (!known) return fail(reply, 404, [{ field: 'id', message: 'is unknown' }]);
          const condition = request.headers['if-match'];
          if (condition !== undefined && condition !== etagOf(known))
            return fail(reply, 412, [{ field: '', message: 'somebody has changed it meanwhile' }]);
          const result = changed(kind, known, request.body);
          if (Array.isArray(result)) return fail(reply, 422, result);
          put(kind, result as Item);
          return faults.drops(reply) ? reply : reply.header('etag', etagOf(result as Item)).send(shown(result as Item));
        });
      }
    },
    { prefix: '/desk' },
  );

  faults.register(app, name);
  webhooks.registerPage(app);
  registerRecordPages(app, {
    name,
    noun: ['ticket', 'tickets'],
    fields: [
      { name: 'subject', label: 'Subject' },
      { name: 'body', label: 'Text', long: true },
      { name: 'state', label: `State (${ticketStates.join(', ')})` },
      { name: 'priority', label: 'Priority (1 to 4)' },
      { name: 'requester_id', label: 'Requester' },
      { name: 'agent', label: 'Agent' },
      { name: 'order_ref', label: 'Order' },
      { name: 'hours', label: 'Hours' },
      { name: 'service_no', label: 'Service number' },
    ],
    columns: ['Subject', 'State', 'Priority', 'Requester', 'Agent'],
    list: async () =>
      kinds.tickets.log.all().map(({ id, subject, state, priority, requester_id, agent }) => ({
        id,
        cells: [subject, state, priority, requester_id, agent],
      })),
    show: async (id) => kinds.tickets.log.get(id) as Record<string, unknown> | undefined,
    save: async (id, form) => {
      const input = {
        ...form,
        priority: Number(form.priority),
        requester_id: Number(form.requester_id),
        agent: form.agent || null,
        order_ref: form.order_ref || null,
        hours: form.hours ? Number(form.hours) : null,
        service_no: form.service_no || null,
      };
      const result = changed('tickets', id === undefined ? undefined : kinds.tickets.log.get(id), input);
      if (Array.isArray(result))
        return { refused: (result as Problems).map(({ field, message }) => `${field} ${message}`).join('; ') };
      put('tickets', result as Item);
      return { id: (result as Item).id };
    },
  });
  return app;
}

function ticketProblems(given: Readonly<Record<string, unknown>>, isNew: boolean): Problems {
  const problems: { field: string; message: string }[] = [];
  if ((isNew || 'subject' in given) && (typeof given.subject !== 'string' || given.subject.trim() === ''))
    problems.push({ field: 'subject', message: 'must be filled' });
  if (typeof given.subject === 'string' && given.subject.length > 200)
    problems.push({ field: 'subject', message: 'has more than 200 characters' });
  if ('state' in given && !ticketStates.includes(given.state as 'new'))
    problems.push({ field: 'state', message: `must be one of ${ticketStates.join(', ')}` });
  if ('priority' in given && ![1, 2, 3, 4].includes(given.priority as number))
    problems.push({ field: 'priority', message: 'must be a number from 1 to 4' });
  if (typeof given.hours === 'number' ? !(given.hours >= 0) : (given.hours ?? null) !== null)
    problems.push({ field: 'hours', message: 'must be a number from 0' });
  return problems;
}

function commentProblems(given: Readonly<Record<string, unknown>>, ticket: (id: string) => unknown): Problems {
  if (typeof given.text !== 'string' || given.text.trim() === '') return [{ field: 'text', message: 'must be filled' }];
  if (typeof given.ticket_id !== 'number') return [{ field: 'ticket_id', message: 'must be a number' }];
  return ticket(String(given.ticket_id)) ? [] : [{ field: 'ticket_id', message: 'is no ticket' }];
}

function requesterProblems(given: Readonly<Record<string, unknown>>, isNew: boolean): Problems {
  if ((isNew || 'full_name' in given) && (typeof given.full_name !== 'string' || given.full_name.trim() === ''))
    return [{ field: 'full_name', message: 'must be filled' }];
  return 'email' in given && given.email !== null && !String(given.email).includes('@')
    ? [{ field: 'email', message: 'is no address' }]
    : [];
}
