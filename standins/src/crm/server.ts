import { randomBytes, timingSafeEqual } from 'node:crypto';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { type ContactPerson, type Deal, dealStages } from '../generator/sales.js';
import { FaultSwitch, type Faults } from '../kit/faults.js';
import type { PageField } from '../kit/pages.js';
import { RecordLog } from '../kit/recordLog.js';
import { registerRecordPages } from '../kit/recordPages.js';
import { standInServer } from '../kit/serve.js';
import { Webhooks } from '../kit/webhooks.js';
import { type Account, accountingParts, type AccountInput, changeAccount, etagOf } from './account.js';
import { type CollectionRecord, registerCollection } from './collection.js';
import { registerConsent } from './consent.js';

export interface CrmOptions {
  readonly dataFile?: string;
  readonly seed?: readonly Account[];
  readonly people?: readonly ContactPerson[];
  readonly deals?: readonly Deal[];
  readonly clientId: string;
  readonly clientSecret: string;
  readonly faults?: Partial<Faults>;
  readonly faultSeed?: number;
  /** The system's own clock. */
  readonly now?: () => Date;
}

const name = 'Fernhill CRM';
const tokenSeconds = 600;
const fields: readonly PageField[] = [
  { name: 'name', label: 'Company' },
  { name: 'contact.firstName', label: 'First name' },
  { name: 'contact.lastName', label: 'Last name' },
  { name: 'contact.email', label: 'Email' },
  { name: 'contact.phone', label: 'Phone' },
  { name: 'address.street', label: 'Street' },
  { name: 'address.postcode', label: 'Postcode' },
  { name: 'address.town', label: 'Town' },
  { name: 'address.country', label: 'Country' },
  { name: 'segment', label: 'Segment' },
  { name: 'creditLimit', label: 'Credit limit' },
  { name: 'turnover', label: 'Turnover of twelve months' },
  { name: 'lastVisit', label: 'Last visit' },
  { name: 'marketingConsent', label: 'Marketing consent (true, false or empty)' },
  { name: 'notes', label: 'Notes', long: true },
  { name: 'accounting.state', label: 'Accounting: state' },
  { name: 'accounting.message', label: 'Accounting: message' },
  { name: 'accounting.number', label: 'Accounting: number' },
  { name: 'accounting.page', label: 'Accounting: page' },
  { name: 'accounting.toldAt', label: 'Accounting: told at' },
];

/**
 * Fernhill CRM: OAuth 2.0 client credentials or a person's consent, webhooks, cursor pages, a filter by modification
 * time, ETags, nested JSON.
 */
export async function crmServer(options: CrmOptions): Promise<FastifyInstance> {
  const app = await standInServer();
  const faults = new FaultSwitch(options.faults, options.faultSeed);
  const accounts = new RecordLog<Account>(options.dataFile);
  if (accounts.size === 0 && options.seed) accounts.load(options.seed);
  const kept = <T extends { readonly id: string }>(what: string, seed: readonly T[] = []): RecordLog<T> => {
    const log = new RecordLog<T>(options.dataFile === undefined ? undefined : `${options.dataFile}.${what}`);
    if (log.size === 0) log.load(seed);
    return log;
  };
  const deleted = kept<{ id: string; modifiedAt: string }>('deleted');
  const people = kept('people', options.people);
  const deals = kept('deals', options.deals);
  const partners = kept<CollectionRecord>('partners');
  const leads = kept<CollectionRecord>('leads');
  const now = options.now ?? (() => new Date());
  const webhooks = new Webhooks({
    name,
    dataFile: options.dataFile,
    style: 'standard',
    events: ['account', 'person', 'deal', 'partner', 'lead'].flatMap((what) => [
      `${what}.created`,
      `${what}.changed`,
      ...(what === 'account' ? [`${what}.deleted`] : []),
    ]),
  });
  const consent = registerConsent(app, { ...options, name });
  const saved = (account: Account, isNew: boolean): void => {
    accounts.put(account);
    webhooks.emit(isNew ? 'account.created' : 'account.changed', { id: account.id, modifiedAt: account.modifiedAt });
  };
  const removed = (id: string): void => {
    accounts.remove(id);
    deleted.put({ id, modifiedAt: now().toISOString() });
    webhooks.emit('account.deleted', { id });
  };
  const tokens = new Map<string, number>();
  /** Which account each idempotency key made. It survives in the log as long as the account does not need it. */
  const created = new RecordLog<{ id: string; account: string }>(
    options.dataFile === undefined ? undefined : `${options.dataFile}.keys`,
  );

  const error = (reply: FastifyReply, code: number, message: string, details?: unknown) =>
    reply.code(code).send({ error: { code, message, ...(details ? { errors: details } : {}) } });
  const invalid = (reply: FastifyReply, errors: readonly { field: string; message: string }[]) =>
    error(
      reply,
      422,
      'the account is not valid',
      errors.map(({ field, message }) => `${field} ${message}`),
    );

  app.post('/oauth/token', async (request, reply) => {
    const stopped = await faults.before(request, reply, (late) => late.send({ error: 'slow_down' }));
    if (stopped) return stopped;
    const [id = '', secret = ''] = basicOf(request).map(decodeURIComponent);
    const body = request.body as Record<string, string> | undefined;
    if (body?.grant_type !== 'client_credentials')
      return reply
        .code(400)
        .send({ error: 'unsupported_grant_type', error_description: 'only client_credentials is offered' });
    if (faults.faults.refuseSignIn || !equal(id, options.clientId) || !equal(secret, options.clientSecret))
      return reply.code(401).send({ error: 'invalid_client', error_description: 'the client id or secret is wrong' });
    const token = randomBytes(24).toString('base64url');
    tokens.set(token, Date.now() + tokenSeconds * 1000);
    return { access_token: token, token_type: 'Bearer', expires_in: tokenSeconds };
  });

  await app.register(
    async (api) => {
      api.addHook('onRequest', async (request, reply) => {
        const stopped = await faults.before(request, reply, (late) =>
          late.send({ error: { code: 429, message: 'rate limit exceeded' } }),
        );
        if (stopped) return stopped;
        const token = /^Bearer (.+)$/.exec(request.headers.authorization ?? '')?.[1];
        const refused = () => error(reply, 401, 'the access token is missing, wrong or expired');
        if (faults.faults.refuseSignIn || token === undefined) return refused();
        if ((tokens.get(token) ?? 0) >= Date.now()) return undefined;
        const scopes = await consent.scopesOf(token);
        if (!scopes) return refused();
        const needed = request.method === 'GET' ? 'accounts.read' : 'accounts.write';
        return scopes.has(needed) ? undefined : error(reply, 403, `this token was not granted ${needed}`);
      });
      webhooks.register(api, '/webhooks');
      const changed = (what: string) => (record: { id: string; modifiedAt: string }, isNew: boolean) =>
        webhooks.emit(`${what}.${isNew ? 'created' : 'changed'}`, { id: record.id, modifiedAt: record.modifiedAt });
      const fail = (reply: FastifyReply, code: number, message: string, details?: readonly string[]) =>
        error(reply, code, message, details);
      registerCollection(api, {
        path: '/people',
        log: people,
        idPrefix: 'P-',
        fields: { accountId: 'text', firstName: 'text', lastName: 'text', email: 'text', role: 'text' },
        faults,
        now,
        fail,
        changed: changed('person'),
      });
      registerCollection(api, {
        path: '/deals',
        log: deals,
        idPrefix: 'D-',
        fields: { accountId: 'text', title: 'text', stage: dealStages, value: 'number', closeOn: 'date' },
        faults,
        now,
        fail,
        changed: changed('deal'),
      });
      registerCollection(api, {
        path: '/partners',
        log: partners,
        idPrefix: 'R-',
        fields: {
          ...{ number: 'text', name: 'text', contact: 'text', town: 'text', country: 'text' },
          ...{ paymentDays: 'number', kind: ['installer', 'reseller'] },
        },
        faults,
        now,
        fail,
        changed: changed('partner'),
      });
      registerCollection(api, {
        path: '/leads',
        log: leads,
        idPrefix: 'L-',
        fields: {
          ...{ reference: 'text', partnerId: 'text', name: 'text', interest: 'text', receivedOn: 'date' },
          stage: ['new', 'called', 'won', 'lost'],
        },
        faults,
        now,
        fail,
        changed: changed('lead'),
      });

      api.get('/accounts', async (request, reply) => {
        const query = request.query as { limit?: string; cursor?: string; modifiedSince?: string; email?: string };
        const limit = Math.min(Math.max(Number(query.limit ?? 50) || 50, 1), 1000);
        const since = query.modifiedSince === undefined ? undefined : Date.parse(query.modifiedSince);
        if (Number.isNaN(since)) return error(reply, 400, 'modifiedSince is not a time in ISO 8601');
        const after = query.cursor === undefined ? undefined : Buffer.from(query.cursor, 'base64url').toString();
        // Listed by id, so that a record that was there throughout is never skipped, whatever is added or changed
        // meanwhile.
        const from = since === undefined ? '' : new Date(since).toISOString();
        const email = query.email?.toLowerCase();
        const found: Account[] = [];
        for (const account of accounts.after(after)) {
          if (account.modifiedAt < from) continue;
          if (email === undefined || account.contact.email?.toLowerCase() === email) found.push(account);
          if (found.length > limit) break;
        }
        const data = found.slice(0, limit);
        // What was deleted is told to who asks for changes, on the first page.
        const tombstones =
          since === undefined || after !== undefined
            ? []
            : deleted
                .all()
                .flatMap(({ id, modifiedAt }) =>
                  Date.parse(modifiedAt) >= since ? [{ id, modifiedAt, deleted: true }] : [],
                );
        if (faults.faults.brokenPages) return reply.type('application/json').send(`{"data":[{"id":"A-1","name":"Brok`);
        const last = data.at(-1);
        return {
          data: [...tombstones, ...data.map((account) => ({ ...account, etag: etagOf(account) }))],
          nextCursor: found.length > limit && last ? Buffer.from(last.id).toString('base64url') : null,
        };
      });

      api.get('/accounts/:id', async (request, reply) => {
        const account = accounts.get((request.params as { id: string }).id);
        if (!account && deleted.get((request.params as { id: string }).id))
          return error(reply, 410, 'the account was deleted');
        return account ? reply.header('etag', etagOf(account)).send(account) : error(reply, 404, 'no such account');
      });

      api.post('/accounts', async (request, reply) => {
        const key = request.headers['idempotency-key'];
        const before = typeof key === 'string' ? accounts.get(created.get(key)?.account ?? '') : undefined;
        if (before) return reply.code(201).header('etag', etagOf(before)).send(before);
        const result = changeAccount(undefined, request.body as AccountInput, now());
        if ('errors' in result) return invalid(reply, result.errors);
        saved(result.account, true);
        if (typeof key === 'string') created.put({ id: key, account: result.account.id });
        if (faults.drops(reply)) return reply;
        return reply.code(201).header('etag', etagOf(result.account)).send(result.account);
      });

      api.patch('/accounts/:id', async (request, reply) => {
        const known = accounts.get((request.params as { id: string }).id);
        if (!known) return error(reply, 404, 'no such account');
        const ifMatch = request.headers['if-match'];
        if (ifMatch !== undefined && ifMatch !== '*' && ifMatch !== etagOf(known))
          return error(reply, 412, 'the account has changed since it was read');
        const result = changeAccount(known, request.body as AccountInput, now());
        if ('errors' in result) return invalid(reply, result.errors);
        saved(result.account, false);
        if (faults.drops(reply)) return reply;
        return reply.header('etag', etagOf(result.account)).send(result.account);
      });

      api.delete('/accounts/:id', async (request, reply) => {
        const known = accounts.get((request.params as { id: string }).id);
        if (!known) return error(reply, 404, 'no such account');
        const ifMatch = request.headers['if-match'];
        if (ifMatch !== undefined && ifMatch !== '*' && ifMatch !== etagOf(known))
          return error(reply, 412, 'the account has changed since it was read');
        removed(known.id);
        return faults.drops(reply) ? reply : reply.code(204).send();
      });
    },
    { prefix: '/api' },
  );

  faults.register(app, name);
  webhooks.registerPage(app);
  registerPages(app, accounts, saved, removed, now);
  return app;
}

function registerPages(
  app: FastifyInstance,
  accounts: RecordLog<Account>,
  saved: (account: Account, isNew: boolean) => void,
  remove: (id: string) => void,
  now: () => Date,
): void {
  const flat = ({ contact, address, accounting, ...rest }: Account): Record<string, unknown> => ({
    ...rest,
    ...Object.fromEntries(Object.entries(contact).map(([key, value]) => [`contact.${key}`, value])),
    ...Object.fromEntries(Object.entries(address).map(([key, value]) => [`address.${key}`, value])),
    ...Object.fromEntries(accountingParts.map((part) => [`accounting.${part}`, accounting?.[part] ?? null])),
  });
  const inputOf = (form: Readonly<Record<string, string>>): AccountInput => ({
    name: form.name,
    segment: form.segment,
    notes: form.notes,
    creditLimit: form.creditLimit === '' ? null : Number(form.creditLimit),
    turnover: form.turnover === '' ? null : Number(form.turnover),
    lastVisit: form.lastVisit,
    marketingConsent: form.marketingConsent === '' ? null : form.marketingConsent === 'true',
    contact: {
      firstName: form['contact.firstName'],
      lastName: form['contact.lastName'],
      email: form['contact.email'],
      phone: form['contact.phone'],
    },
    address: {
      street: form['address.street'],
      postcode: form['address.postcode'],
      town: form['address.town'],
      country: form['address.country'],
    },
    accounting: Object.fromEntries(accountingParts.map((part) => [part, form[`accounting.${part}`]])),
  });
  registerRecordPages(app, {
    name,
    noun: ['account', 'accounts'],
    fields,
    columns: ['Company', 'Contact', 'Email', 'Phone', 'Modified'],
    list: async () =>
      accounts.all().map((account) => ({
        id: account.id,
        cells: [
          account.name,
          `${account.contact.firstName ?? ''} ${account.contact.lastName ?? ''}`,
          account.contact.email,
          account.contact.phone,
          account.modifiedAt,
        ],
      })),
    show: async (id) => {
      const account = accounts.get(id);
      return account && flat(account);
    },
    remove: async (id) => remove(id),
    save: async (id, form) => {
      const result = changeAccount(id === undefined ? undefined : accounts.get(id), inputOf(form), now());
      if ('errors' in result)
        return { refused: result.errors.map(({ field, message }) => `${field} ${message}`).join('; ') };
      saved(result.account, id === undefined);
      return { id: result.account.id };
    },
  });
}

function basicOf(request: FastifyRequest): string[] {
  const encoded = /^Basic (.+)$/.exec(request.headers.authorization ?? '')?.[1] ?? '';
  const [id = '', ...secret] = Buffer.from(encoded, 'base64').toString().split(':');
  return [id, secret.join(':')];
}

function equal(a: string, b: string): boolean {
  const left = Buffer.from(a);
  const right = Buffer.from(b);
  return left.length === right.length && timingSafeEqual(left, right);
}
