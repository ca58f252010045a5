import { orderStatuses, type ShopOrder } from '../generator/sales.js';

type Line = ShopOrder['lines'][number];

export interface OrderInput {
  readonly status?: unknown;
  readonly lines?: unknown;
}

const mostLines = 1000;

/** What becomes of an order by what somebody says of it, or why it is not taken. Its total is that of its lines. */
export function changeOrder(
  known: ShopOrder,
  { status = known.status, lines }: OrderInput,
): { readonly order: ShopOrder } | { readonly reason: string } {
  if (!orderStatuses.includes(status as 'paid')) return { reason: `status must be one of ${orderStatuses.join(', ')}` };
  const order = { ...known, status: status as string };
  if (lines === undefined) return { order };
  if (!Array.isArray(lines) || lines.length > mostLines)
    return { reason: `lines must be a list of up to ${mostLines}` };
  const wrong = lines.findIndex((line) => !isLine(line));
  if (wrong >= 0) return { reason: `line ${wrong + 1} needs an article, a quantity above 0 and a price such as 49.90` };
  const good = (lines as Line[]).map(({ sku, qty, unit_price: price }) => ({ sku, qty, unit_price: String(price) }));
  const total = good.reduce((sum, { qty, unit_price: price }) => sum + qty * Number(price), 0);
  return { order: { ...order, lines: good, total: total.toFixed(2) } };
}

function isLine(value: unknown): boolean {
  const { sku, qty, unit_price: price } = (value ?? {}) as Partial<Record<keyof Line, unknown>>;
  return (
    typeof sku === 'string' &&
    /^[A-Z0-9-]{1,20}$/.test(sku) &&
    typeof qty === 'number' &&
    qty > 0 &&
    qty <= 100_000 &&
    /^\d{1,8}(\.\d\d?)?$/.test(String(price))
  );
}

/** A line for each: its article, its quantity and its price, with blanks between. */
export function linesFromText(text: string): unknown[] {
  const lines = text
    .split('\n')
    .map((line) => line.trim())
    .filter((line) => line !== '');
  return lines.map((line) => {
    const [sku, qty, price] = line.split(/\s+/);
    return { sku, qty: Number(qty), unit_price: price };
  });
}

export function linesAsText(lines: readonly Line[]): string {
  return lines.map(({ sku, qty, unit_price: price }) => `${sku} ${qty} ${price}`).join('\n');
}
