import { seededRandom } from '../kit/faults.js';
import type { Customer, CustomerData } from './customers.js';

export interface Debtor {
  readonly number: string;
  readonly customer: string;
  readonly name: string;
  readonly name2: string | null;
  readonly street: string | null;
  readonly zip: string;
  readonly place: string;
  readonly country: string;
  readonly phone: string | null;
  readonly mail: string | null;
  readonly vatNumber: string | null;
  readonly paymentDays: number;
  readonly creditLimit: string;
  readonly blocked: boolean;
  readonly changedAt: Date;
}
export interface Article {
  readonly number: string;
  readonly description: string;
  readonly unit: string;
  readonly price: string;
  readonly stock: number;
}
export interface SalesDocument {
  readonly number: number;
  readonly debtor: string;
  readonly kind: 'quote' | 'order' | 'invoice';
  readonly status: string;
  readonly date: string;
  /** Where it was ordered: in the shop, or with somebody at a desk. */
  readonly channel: 'web' | 'desk';
  readonly lines: readonly { readonly article: string; readonly quantity: string; readonly price: string }[];
}
export interface Business {
  readonly debtors: readonly Debtor[];
  readonly articles: readonly Article[];
  readonly documents: readonly SalesDocument[];
  /** When somebody went to see a debtor. */
  readonly visits: readonly { readonly debtor: string; readonly day: string; readonly staff: string }[];
  readonly staff: readonly {
    readonly number: string;
    readonly name: string;
    readonly role: string;
    readonly mail: string;
  }[];
}

const iso3: Readonly<Record<string, string>> = { GB: 'GBR', DE: 'DEU', FR: 'FRA', IE: 'IRL' };
const kits = [
  'Cold frame',
  'Lean-to greenhouse',
  'Span-roof greenhouse',
  'Cloche',
  'Staging bench',
  'Roof vent',
  'Louvre window',
  'Shade blind',
  'Misting line',
  'Paraffin heater',
  'Potting table',
  'Rain butt',
];
const sizes = ['6 ft', '8 ft', '10 ft'];
const statuses = {
  quote: ['open', 'declined', 'accepted'],
  order: ['booked', 'picked', 'shipped', 'cancelled'],
  invoice: ['posted', 'paid', 'overdue'],
} as const;
const firstDay = Date.UTC(2026, 0, 5);
const dayMs = 86_400_000;

/**
 * What the ERP knows of the same company: debtors, articles, sales documents, staff. The same options give the same
 * data.
 */
export function generateBusiness(
  { customers, truth }: CustomerData,
  options: { readonly seed: number; readonly documents: number; readonly mess: boolean },
): Business {
  const random = seededRandom(options.seed);
  const pick = <T>(items: readonly T[]): T => items[Math.floor(random() * items.length)] as T;
  const chance = (share: number): boolean => options.mess && random() < share;
  const articles = kits.flatMap((kit, index) =>
    sizes.map((size, at): Article => ({
      number: `${String(1000 + index * 10 + at)}`,
      description: `${kit} ${size}`,
      unit: 'pcs',
      price: ((40 + index * 55) * (1 + at * 0.4)).toFixed(2),
      stock: Math.floor(random() * 60),
    })),
  );
  // Whoever has ever been sent an invoice is a debtor: most of the customers, some of them twice.
  const debtors: Debtor[] = [];
  for (const [index, customer] of customers.entries()) {
    if (random() < 0.22) continue;
    debtors.push(debtorOf(customer, index, 10_001 + debtors.length, pick, random, chance));
    if (chance(0.01)) debtors.push(debtorOf(customer, index, 10_001 + debtors.length, pick, random, chance));
  }
  const shopping = new Set(truth.flatMap(({ customer, shop }) => (shop.length > 0 ? [customer] : [])));
  const documents = Array.from({ length: options.documents }, (_, index): SalesDocument => {
    const kind = pick(['quote', 'order', 'order', 'order', 'invoice', 'invoice'] as const);
    const lines = Array.from({ length: 1 + Math.floor(random() * 4) }, () => {
      const article = pick(articles);
      return {
        article: article.number,
        quantity: String(1 + Math.floor(random() * 6)),
        price: chance(0.15) ? (Number(article.price) * 0.9).toFixed(2) : article.price,
      };
    });
    const debtor = pick(debtors);
    return {
      number: 260_000_000 + index + 1,
      debtor: debtor.number,
      kind,
      channel: kind === 'order' && shopping.has(debtor.customer) ? 'web' : 'desk',
      status: pick(statuses[kind]),
      date: new Date(firstDay + Math.floor((index / options.documents) * 300 + random() * 5) * dayMs)
        .toISOString()
        .slice(0, 10),
      lines: eachArticleOnce(lines),
    };
  });
  const staff = ['Ottilie Brandt', 'Halima Boye', 'Bram Quarrie', 'Wren Ashdown', 'Piers Loxley', 'Sunniva Dahl'].map(
    (name, index) => ({
      number: `S${String(index + 1).padStart(3, '0')}`,
      name,
      role: ['administration', 'sales', 'installation', 'reporting', 'sales', 'purchasing'][index] as string,
      mail: `${name.split(' ')[0]?.toLowerCase() ?? ''}@hazelmoor.example`,
    }),
  );
  // Drawn apart, so that what was drawn before stays what it is.
  const visiting = seededRandom(options.seed + 1);
  const visits = debtors.flatMap(({ number }) =>
    Array.from({ length: Math.floor(visiting() * 4) }, () => ({
      debtor: number,
      day: new Date(firstDay + Math.floor(visiting() * 310) * dayMs).toISOString().slice(0, 10),
      staff: staff[Math.floor(visiting() * staff.length)]?.number ?? '',
    })),
  );
  return { debtors, articles, documents, visits, staff };
}

/** Whoever orders an article twice gets one line of it, at the first price. */
function eachArticleOnce(lines: SalesDocument['lines']): SalesDocument['lines'] {
  const once = new Map<string, SalesDocument['lines'][number]>();
  for (const line of lines) {
    const known = once.get(line.article);
    const quantity = String(Number(known?.quantity ?? 0) + Number(line.quantity));
    once.set(line.article, { ...(known ?? line), quantity });
  }
  return [...once.values()];
}

function debtorOf(
  of: Customer,
  index: number,
  number: number,
  pick: <T>(items: readonly T[]) => T,
  random: () => number,
  chance: (share: number) => boolean,
): Debtor {
  const legal = chance(0.4) ? ` ${of.country === 'DE' ? 'GmbH' : of.country === 'FR' ? 'SARL' : 'Ltd.'}` : '';
  return {
    number: `D${number}`,
    customer: `c${index + 1}`,
    name: ((chance(0.2) ? of.company.toUpperCase() : of.company) + legal).slice(0, 60),
    name2: chance(0.3) ? `attn. ${of.firstName} ${of.lastName}` : null,
    street: chance(0.05) ? null : of.street,
    zip: chance(0.08) ? of.postcode.replace(' ', '') : of.postcode,
    place: chance(0.06) ? of.town.toUpperCase() : of.town,
    country: iso3[of.country] ?? 'GBR',
    phone: chance(0.15) ? null : `00${{ GB: '44', DE: '49', FR: '33', IE: '353' }[of.country] ?? '44'}${of.digits}`,
    mail: chance(0.3) ? null : of.email,
    vatNumber:
      of.country === 'GB' && random() < 0.5 ? `GB${String(100_000_000 + Math.floor(random() * 899_999_999))}` : null,
    paymentDays: pick([14, 30, 30, 30, 60]),
    creditLimit: of.credit.toFixed(2),
    blocked: random() < 0.03,
    changedAt: new Date(Date.UTC(2026, 5, 1) + Math.floor(random() * 150 * dayMs)),
  };
}
