import { randomUUID } from 'node:crypto';

/** An account as Fernhill CRM keeps it and sends it. */
export interface Account {
  readonly id: string;
  readonly name: string | null;
  readonly contact: {
    readonly firstName: string | null;
    readonly lastName: string | null;
    readonly email: string | null;
    readonly phone: string | null;
  };
  readonly address: {
    readonly street: string | null;
    readonly postcode: string | null;
    readonly town: string | null;
    readonly country: string | null;
  };
  readonly segment: string | null;
  readonly creditLimit: number | null;
  readonly turnover: number | null;
  /** A day, as `2026-11-24`. */
  readonly lastVisit: string | null;
  readonly marketingConsent: boolean | null;
  readonly notes: string | null;
  /** What became of it in accounting; whoever carries it over writes it. Accounts of old have none. */
  readonly accounting?: { readonly [Part in (typeof accountingParts)[number]]: string | null } | undefined;
  readonly createdAt: string;
  readonly modifiedAt: string;
  readonly revision: number;
}

export type AccountInput = { [Name in keyof Account]?: unknown };

export const segments = [
  'Grower, retail',
  'Grower, trade',
  'Landscaper',
  'School or college',
  'Private garden',
] as const;
const longestNote = 4000;

export const accountingParts = ['state', 'message', 'number', 'page', 'toldAt'] as const;

/** Takes a new or changed account apart and says what is wrong with it, in this system's own words. */
export function changeAccount(
  known: Account | undefined,
  input: AccountInput,
  now: Date,
): { account: Account } | { errors: { field: string; message: string }[] } {
  const errors: { field: string; message: string }[] = [];
  const text = (field: string, value: unknown, before: string | null, longest = 255): string | null => {
    if (value === undefined) return before;
    if (value === null || value === '') return null;
    if (typeof value !== 'string') errors.push({ field, message: 'must be a string' });
    else if ([...value].length > longest)
      errors.push({ field, message: `is too long (maximum is ${longest} characters)` });
    return String(value);
  };
  const contact = (input.contact ?? {}) as Record<string, unknown>;
  const address = (input.address ?? {}) as Record<string, unknown>;
  const accounting = (input.accounting ?? {}) as Record<string, unknown>;
  const amount = (field: 'creditLimit' | 'turnover'): number | null => {
    const number = input[field] === undefined ? (known?.[field] ?? null) : input[field];
    if (number !== null && (typeof number !== 'number' || number < 0))
      errors.push({ field, message: 'must be a number of 0 or more' });
    return number as number | null;
  };
  const lastVisit = text('lastVisit', input.lastVisit, known?.lastVisit ?? null);
  if (lastVisit !== null && Number.isNaN(Date.parse(lastVisit)))
    errors.push({ field: 'lastVisit', message: 'must be a date' });
  const consent = input.marketingConsent === undefined ? (known?.marketingConsent ?? null) : input.marketingConsent;
  if (consent !== null && typeof consent !== 'boolean')
    errors.push({ field: 'marketingConsent', message: 'must be true or false' });
  const account: Account = {
    id: known?.id ?? `A-${randomUUID().slice(0, 8)}`,
    name: text('name', input.name, known?.name ?? null, 120),
    contact: {
      firstName: text('contact.firstName', contact.firstName, known?.contact.firstName ?? null),
      lastName: text('contact.lastName', contact.lastName, known?.contact.lastName ?? null),
      email: text('contact.email', contact.email, known?.contact.email ?? null),
      phone: text('contact.phone', contact.phone, known?.contact.phone ?? null, 40),
    },
    address: {
      street: text('address.street', address.street, known?.address.street ?? null),
      postcode: text('address.postcode', address.postcode, known?.address.postcode ?? null, 20),
      town: text('address.town', address.town, known?.address.town ?? null),
      country: text('address.country', address.country, known?.address.country ?? null),
    },
    segment: text('segment', input.segment, known?.segment ?? null),
    creditLimit: amount('creditLimit'),
    turnover: amount('turnover'),
    lastVisit,
    marketingConsent: consent as boolean | null,
    notes: text('notes', input.notes, known?.notes ?? null, longestNote),
    accounting: Object.fromEntries(
      accountingParts.map((part) => [
        part,
        text(`accounting.${part}`, accounting[part], known?.accounting?.[part] ?? null, 1000),
      ]),
    ) as Account['accounting'],
    createdAt: known?.createdAt ?? now.toISOString(),
    modifiedAt: now.toISOString(),
    revision: (known?.revision ?? 0) + 1,
  };
  if (input.segment !== undefined && account.segment !== null && !segments.includes(account.segment as never))
    errors.push({ field: 'segment', message: `“${account.segment}” is not one of ${segments.join('; ')}` });
  // Old accounts without a name exist; a name cannot be taken away, and new accounts need one.
  if (account.name === null && (!known || known.name !== null)) errors.push({ field: 'name', message: 'is required' });
  return errors.length > 0 ? { errors } : { account };
}

export function etagOf(account: Account): string {
  return `"${account.id}.${account.revision}"`;
}
