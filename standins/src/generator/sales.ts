import { seededRandom } from '../kit/faults.js';
import type { Business } from './business.js';
import type { CustomerData } from './customers.js';

export interface ContactPerson {
  readonly id: string;
  readonly accountId: string;
  readonly firstName: string;
  readonly lastName: string;
  readonly email: string | null;
  readonly role: string | null;
  readonly modifiedAt: string;
}
export interface Deal {
  readonly id: string;
  readonly accountId: string;
  readonly title: string;
  readonly stage: string;
  readonly value: number | null;
  readonly closeOn: string | null;
  readonly modifiedAt: string;
}
/** An order as the shop sends it: money as text, times in UTC without a zone. */
export interface ShopOrder {
  readonly id: string;
  readonly shopper_id: number;
  readonly status: string;
  readonly placed: string;
  readonly changed: string;
  readonly total: string;
  readonly lines: readonly { readonly sku: string; readonly qty: number; readonly unit_price: string }[];
}

export const dealStages = ['enquiry', 'site visit', 'offer', 'won', 'lost'] as const;
export const orderStatuses = ['pending', 'paid', 'dispatched', 'returned', 'cancelled'] as const;
/** What the shop says of an order while the ERP says that. */
const shopStatuses: Readonly<Record<string, readonly string[]>> = {
  booked: ['pending', 'paid', 'paid', 'paid'],
  picked: ['paid'],
  shipped: ['dispatched', 'dispatched', 'dispatched', 'returned'],
  cancelled: ['cancelled'],
};
const roles = ['owner', 'buyer', 'gardener', 'accounts', null] as const;
const firstDay = Date.UTC(2026, 1, 2);
const dayMs = 86_400_000;

/**
 * People and deals of the CRM's accounts, and the orders of the shop: what the ERP sold to customers who have an
 * account there.
 */
export function generateSales(
  { customers, accounts, truth }: CustomerData,
  business: Business,
  seed: number,
): { people: ContactPerson[]; deals: Deal[]; orders: ShopOrder[] } {
  const random = seededRandom(seed);
  const pick = <T>(items: readonly T[]): T => items[Math.floor(random() * items.length)] as T;
  const time = (): string => new Date(firstDay + Math.floor(random() * 280 * dayMs)).toISOString();
  const people: ContactPerson[] = [];
  const deals: Deal[] = [];
  for (const account of accounts) {
    for (let count = random() < 0.5 ? 1 : 2; count > 0; count -= 1) {
      const of = pick(customers);
      const id = `P-${String(30_001 + people.length)}`;
      const lastName = count === 1 ? (account.contact.lastName ?? of.lastName) : of.lastName;
      const host = account.contact.email?.split('@')[1] ?? 'nowhere.example';
      const email =
        random() < 0.1
          ? null
          : count === 1
            ? account.contact.email
            : `${of.firstName.toLowerCase().replaceAll(/[^a-z]/g, '')}@${host}`;
      people.push({
        id,
        accountId: account.id,
        firstName: of.firstName,
        lastName,
        email,
        role: pick(roles),
        modifiedAt: time(),
      });
    }
    if (random() < 0.4)
      deals.push({
        id: `D-${String(40_001 + deals.length)}`,
        accountId: account.id,
        title: `${account.name ?? 'Somebody'}: ${pick(['greenhouse', 'new roof', 'staging', 'service contract'])}`,
        stage: pick(dealStages),
        value: random() < 0.15 ? null : Math.round(random() * 200) * 100,
        closeOn:
          random() < 0.2 ? null : new Date(firstDay + Math.floor(random() * 400) * dayMs).toISOString().slice(0, 10),
        modifiedAt: time(),
      });
  }
  const shopperOf = new Map(
    truth.flatMap(({ customer, shop }) => (shop[0] === undefined ? [] : [[customer, shop[0]] as const])),
  );
  const customerOf = new Map(business.debtors.map(({ number, customer }) => [number, customer]));
  const orders = business.documents.flatMap((document): ShopOrder[] => {
    const shopper = shopperOf.get(customerOf.get(document.debtor) ?? '');
    if (document.kind !== 'order' || shopper === undefined) return [];
    const hour = String(8 + Math.floor(random() * 12)).padStart(2, '0');
    const minute = String(Math.floor(random() * 60)).padStart(2, '0');
    const placed = `${document.date} ${hour}:${minute}:00`;
    return [
      {
        id: String(document.number),
        shopper_id: Number(shopper),
        status: pick(shopStatuses[document.status] ?? ['pending']),
        placed,
        changed: placed,
        total: document.lines
          .reduce((sum, { quantity, price }) => sum + Number(quantity) * Number(price), 0)
          .toFixed(2),
        lines: document.lines.map(({ article, quantity, price }) => ({
          sku: article,
          qty: Number(quantity),
          unit_price: price,
        })),
      },
    ];
  });
  return { people, deals, orders };
}
