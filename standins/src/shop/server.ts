import { timingSafeEqual } from 'node:crypto';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { orderStatuses, type ShopOrder } from '../generator/sales.js';
import { FaultSwitch, type Faults } from '../kit/faults.js';
import type { PageField } from '../kit/pages.js';
import { RecordLog } from '../kit/recordLog.js';
import { registerRecordPages } from '../kit/recordPages.js';
import { standInServer } from '../kit/serve.js';
import { Webhooks } from '../kit/webhooks.js';
import { changeOrder, linesAsText, linesFromText, type OrderInput } from './order.js';
import { changeShopper, type Shopper, type ShopperInput } from './shopper.js';

export interface ShopOptions {
  readonly dataFile?: string;
  readonly seed?: readonly Shopper[];
  readonly orders?: readonly ShopOrder[];
  readonly key: string;
  readonly secret: string;
  readonly faults?: Partial<Faults>;
  readonly faultSeed?: number;
  readonly now?: () => Date;
}

const name = 'Market Row';
const fields: readonly PageField[] = [
  { name: 'company_name', label: 'Company' },
  { name: 'first_name', label: 'First name' },
  { name: 'surname', label: 'Surname' },
  { name: 'mail', label: 'Mail' },
  { name: 'tel', label: 'Telephone' },
  { name: 'address_line', label: 'Address line' },
  { name: 'post_code', label: 'Post code' },
  { name: 'city', label: 'City' },
  { name: 'country_code', label: 'Country code' },
  { name: 'group_id', label: 'Group (3, 7, 8, 9)' },
  { name: 'credit_ceiling', label: 'Credit ceiling' },
  { name: 'newsletter', label: 'Newsletter (Y, N or empty)' },
  { name: 'remark', label: 'Remark', long: true },
];

const orderFields: readonly PageField[] = [
  { name: 'shopper_id', label: 'Shopper' },
  { name: 'status', label: `Status (${orderStatuses.join(', ')})` },
  { name: 'lines', label: 'Lines (article, quantity, price)', long: true },
];

/**
 * Market Row: HTTP Basic with key and secret, numbered pages with a Link header, a strict rate limit, signed webhooks,
 * flat JSON.
 */
export async function shopServer(options: ShopOptions): Promise<FastifyInstance> {
  const app = await standInServer();
  const faults = new FaultSwitch({ callsPerSecond: 100, ...options.faults }, options.faultSeed);
  const shoppers = new RecordLog<Shopper>(options.dataFile);
  if (shoppers.size === 0 && options.seed) shoppers.load(options.seed);
  const orders = new RecordLog<ShopOrder>(options.dataFile === undefined ? undefined : `${options.dataFile}.orders`);
  if (orders.size === 0 && options.orders) orders.load(options.orders);
  const now = options.now ?? (() => new Date());
  const webhooks = new Webhooks({
    name,
    dataFile: options.dataFile,
    style: 'plain',
    events: ['shopper.saved', 'order.saved'],
  });
  const saved = (shopper: Shopper): void => {
    shoppers.put(shopper);
    webhooks.emit('shopper.saved', { shopper_id: Number(shopper.id) });
  };
  const time = (): string => now().toISOString().slice(0, 19).replace('T', ' ');
  const savedOrder = (order: ShopOrder): ShopOrder => {
    const next = { ...order, changed: time() };
    orders.put(next);
    webhooks.emit('order.saved', { order_no: Number(next.id) });
    return next;
  };
  /** Somebody orders, or changes an order, on a page. */
  const orderFrom = (id: string | undefined, { lines = '', ...form }: Readonly<Record<string, string>>) => {
    const shopper = shoppers.get(form.shopper_id ?? '');
    if (!shopper) return { refused: `there is no shopper ${form.shopper_id ?? ''}` };
    const number = String(Math.max(260_900_000, ...orders.all().map((order) => Number(order.id))) + 1);
    const begun = { id: number, shopper_id: 0, status: 'pending', placed: time(), changed: time(), total: '0.00' };
    const known = (id === undefined ? undefined : orders.get(id)) ?? { ...begun, lines: [] };
    const result = changeOrder({ ...known, shopper_id: Number(shopper.id) }, { ...form, lines: linesFromText(lines) });
    return 'reason' in result ? { refused: result.reason } : { id: savedOrder(result.order).id };
  };
  let lastId = Math.max(
    77_000,
    ...shoppers
      .all()
      .slice(-1)
      .map(({ id }) => Number(id)),
  );
  const nextId = (): string => String((lastId += 1));
  const wanted = Buffer.from(`Basic ${Buffer.from(`${options.key}:${options.secret}`).toString('base64')}`);
  const shown = ({ id, ...rest }: Shopper) => ({ shopper_id: Number(id), ...rest });
  const fail = (reply: FastifyReply, status: number, reason: string) =>
    reply.code(status).send({ status: 'error', reason });

  await app.register(
    async (api) => {
      api.addHook('onRequest', async (request, reply) => {
        const stopped = await faults.before(request, reply, (late) =>
          late.send({ status: 'error', reason: 'too many calls, wait a little' }),
        );
        if (stopped) return stopped;
        const given = Buffer.from(request.headers.authorization ?? '');
        if (faults.faults.refuseSignIn || given.length !== wanted.length || !timingSafeEqual(given, wanted))
          return fail(reply, 401, 'key or secret not accepted');
        return undefined;
      });

      api.get('/shoppers', async (request, reply) => {
        const query = request.query as { page?: string; per_page?: string; mail?: string; external_ref?: string };
        const size = Math.min(Math.max(Number(query.per_page ?? 25) || 25, 1), 1000);
        const number = Math.max(Number(query.page ?? 1) || 1, 1);
        const narrow = query.mail !== undefined || query.external_ref !== undefined;
        const all = shoppers.all();
        const found = narrow
          ? all.filter(
              (shopper) =>
                (query.mail === undefined || shopper.mail.toLowerCase() === query.mail.toLowerCase()) &&
                (query.external_ref === undefined || shopper.external_ref === query.external_ref),
            )
          : all;
        const part = found.slice((number - 1) * size, number * size);
        if (number * size < found.length) {
          const next = new URLSearchParams({ ...query, page: String(number + 1), per_page: String(size) } as Record<
            string,
            string
          >);
          reply.header('link', `</shop/v1/shoppers?${next.toString()}>; rel="next"`);
        }
        if (faults.faults.brokenPages) return reply.type('application/json').send('[{"shopper_id": 77001, "mail": ');
        return reply.header('x-total', String(found.length)).send(part.map(shown));
      });

      api.get('/shoppers/:id', async (request, reply) => {
        const shopper = shoppers.get((request.params as { id: string }).id);
        return shopper ? { shopper: shown(shopper) } : fail(reply, 404, 'unknown shopper');
      });

      const write = async (request: FastifyRequest, reply: FastifyReply, known: Shopper | undefined) => {
        const input = (request.body as { shopper?: ShopperInput } | undefined)?.shopper;
        if (typeof input !== 'object' || input === null) return fail(reply, 400, 'a shopper is expected');
        const result = changeShopper(known, input, known?.id ?? nextId(), now());
        if ('reason' in result) return fail(reply, 400, result.reason);
        saved(result.shopper);
        if (faults.drops(reply)) return reply;
        return reply.code(known ? 200 : 201).send({ shopper: shown(result.shopper) });
      };
      api.post('/shoppers', async (request, reply) => write(request, reply, undefined));
      api.put('/shoppers/:id', async (request, reply) => {
        const known = shoppers.get((request.params as { id: string }).id);
        return known ? write(request, reply, known) : fail(reply, 404, 'unknown shopper');
      });
      webhooks.register(api, '/webhooks');

      const order = ({ id, ...rest }: ShopOrder) => ({ order_no: Number(id), ...rest });
      api.get('/orders', async (request, reply) => {
        const query = request.query as { page?: string; per_page?: string };
        const size = Math.min(Math.max(Number(query.per_page ?? 25) || 25, 1), 1000);
        const number = Math.max(Number(query.page ?? 1) || 1, 1);
        const all = orders.all();
        if (number * size < all.length)
          reply.header('link', `</shop/v1/orders?page=${number + 1}&per_page=${size}>; rel="next"`);
        return all.slice((number - 1) * size, number * size).map(order);
      });
      api.get('/orders/:id', async (request, reply) => {
        const known = orders.get((request.params as { id: string }).id);
        return known ? { order: order(known) } : fail(reply, 404, 'unknown order');
      });
      // Customers order; other programs say how an order stands, and what is in it.
      api.put('/orders/:id', async (request, reply) => {
        const known = orders.get((request.params as { id: string }).id);
        if (!known) return fail(reply, 404, 'unknown order');
        const result = changeOrder(known, (request.body as { order?: OrderInput } | undefined)?.order ?? {});
        if ('reason' in result) return fail(reply, 400, result.reason);
        const next = savedOrder(result.order);
        return faults.drops(reply) ? reply : { order: order(next) };
      });
    },
    { prefix: '/shop/v1' },
  );

  faults.register(app, name);
  webhooks.registerPage(app);
  registerRecordPages(app, {
    name,
    noun: ['shopper', 'shoppers'],
    fields,
    columns: ['Company', 'Name', 'Mail', 'Telephone', 'Changed (UTC)'],
    list: async () =>
      shoppers.all().map((shopper) => ({
        id: shopper.id,
        cells: [
          shopper.company_name,
          `${shopper.first_name} ${shopper.surname}`,
          shopper.mail,
          shopper.tel,
          shopper.changed,
        ],
      })),
    show: async (id) => shoppers.get(id) as Record<string, unknown> | undefined,
    save: async (id, form) => {
      const result = changeShopper(
        id === undefined ? undefined : shoppers.get(id),
        form as ShopperInput,
        id ?? nextId(),
        now(),
      );
      if ('reason' in result) return { refused: result.reason };
      saved(result.shopper);
      return { id: result.shopper.id };
    },
  });
  registerRecordPages(app, {
    name,
    under: '/orders',
    noun: ['order', 'orders'],
    fields: orderFields,
    columns: ['Shopper', 'Status', 'Placed (UTC)', 'Total'],
    list: async () =>
      orders.all().map(({ id, shopper_id, status, placed, total }) => ({
        id,
        cells: [`${shopper_id} ${shoppers.get(String(shopper_id))?.company_name ?? ''}`, status, placed, total],
      })),
    show: async (id) => {
      const known = orders.get(id);
      return known && { ...known, lines: linesAsText(known.lines) };
    },
    save: async (id, form) => orderFrom(id, form),
  });
  return app;
}
