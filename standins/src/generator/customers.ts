import type { Account } from '../crm/account.js';
import { seededRandom } from '../kit/faults.js';
import type { Shopper } from '../shop/shopper.js';
import {
  companyEnds,
  companyStarts,
  countryNames,
  firstNames,
  lastNames,
  notes,
  streets,
  towns,
} from './vocabulary.js';

export interface CustomerData {
  readonly accounts: readonly Account[];
  readonly shoppers: readonly Shopper[];
  /** The customers themselves, without any mess: other systems of the same company know them too. */
  readonly customers: readonly Customer[];
  /** What really belongs together: one entry per customer, with its records in each system. */
  readonly truth: readonly {
    readonly customer: string;
    readonly crm: readonly string[];
    readonly shop: readonly string[];
  }[];
}

export interface CustomerOptions {
  readonly seed: number;
  readonly inBoth: number;
  readonly onlyCrm: number;
  readonly onlyShop: number;
  /** Spelling differences, missing values, shared emails and the like. Without it both systems say the same. */
  readonly mess: boolean;
}

/** The demo: around 400 accounts and 320 shoppers, about 250 customers in both. */
export const demoCustomers: CustomerOptions = { seed: 20261123, inBoth: 252, onlyCrm: 148, onlyShop: 66, mess: true };

export interface Customer {
  readonly company: string;
  readonly firstName: string;
  readonly lastName: string;
  readonly email: string;
  readonly digits: string;
  readonly country: string;
  readonly street: string;
  readonly postcode: string;
  readonly town: string;
  readonly segment: string;
  readonly credit: number;
  readonly consent: boolean;
  readonly note: string | null;
}

const groupOfSegment: Readonly<Record<string, number>> = {
  'Grower, retail': 7,
  'Grower, trade': 7,
  Landscaper: 8,
  'School or college': 9,
  'Private garden': 3,
};
const dialling: Readonly<Record<string, string>> = { GB: '44', DE: '49', FR: '33', IE: '353' };
const firstDay = Date.UTC(2026, 5, 1);

/** Customers of one company as two systems know them. The same options give the same data. */
export function generateCustomers(options: CustomerOptions): CustomerData {
  const random = seededRandom(options.seed);
  const pick = <T>(items: readonly T[]): T => items[Math.floor(random() * items.length)] as T;
  const chance = (share: number): boolean => options.mess && random() < share;
  // Drawn apart, so that who strays changes nothing else of the data.
  const strays = seededRandom(options.seed + 1);
  const customers: Customer[] = [];
  const accounts: Account[] = [];
  const shoppers: Shopper[] = [];
  const truth: { customer: string; crm: string[]; shop: string[] }[] = [];
  const total = options.inBoth + options.onlyCrm + options.onlyShop;
  let nextAccount = 20_000;
  let nextShopper = 77_000;

  const time = (): Date => new Date(firstDay + Math.floor(random() * 150 * 86_400_000));

  const addAccount = (of: Customer): string => {
    const id = `A-${(nextAccount += 1)}`;
    const at = time().toISOString();
    const phone = phoneForms(of, random);
    accounts.push({
      id,
      name: chance(0.006) ? null : chance(0.05) ? misspelled(of.company, random) : of.company,
      contact: {
        firstName: chance(0.04) ? null : of.firstName,
        lastName: of.lastName,
        email: chance(0.01) ? null : chance(0.1) ? capitalised(of.email) : of.email,
        phone: chance(0.02) ? `${of.digits.slice(0, 4)}O${of.digits.slice(5)}` : chance(0.06) ? null : phone,
      },
      address: {
        street: chance(0.12)
          ? of.street.replace(/Lane|Road|Street/, (word) => ({ Lane: 'Ln', Road: 'Rd', Street: 'St' })[word] ?? word)
          : of.street,
        postcode: chance(0.05) ? of.postcode.toLowerCase() : of.postcode,
        town: of.town,
        country: chance(0.008) ? 'Albion' : pick(countryNames[of.country] as readonly string[]),
      },
      segment: of.segment,
      creditLimit: of.credit,
      turnover: null,
      lastVisit: null,
      marketingConsent: chance(0.1) ? null : of.consent,
      notes: of.note,
      accounting: { state: null, message: null, number: null, page: null, toldAt: null },
      createdAt: at,
      modifiedAt: at,
      revision: 1,
    });
    return id;
  };

  const addShopper = (of: Customer): string => {
    const id = String((nextShopper += 1));
    const national = of.country === 'GB' ? `0${of.digits}` : `+${dialling[of.country]} ${of.digits}`;
    shoppers.push({
      id,
      first_name: of.firstName,
      surname: chance(0.04) ? of.lastName.toUpperCase() : of.lastName,
      company_name: [...of.company].slice(0, 40).join('').trim(),
      mail: of.email,
      tel: chance(0.03) ? '' : chance(0.015) ? 'see remark' : national,
      address_line: of.street,
      post_code: of.postcode,
      city: chance(0.04) ? of.town.toUpperCase() : of.town,
      country_code: of.country,
      group_id: groupOfSegment[of.segment] ?? null,
      credit_ceiling: of.credit.toFixed(2),
      newsletter: chance(0.08) ? '' : of.consent ? 'Y' : 'N',
      remark: of.note ?? '',
      external_ref: '',
      changed: time().toISOString().slice(0, 19).replace('T', ' '),
    });
    if (options.mess && strays() < 0.11) shoppers.push(astray(shoppers.pop() as Shopper, strays));
    return id;
  };

  for (let index = 0; index < total; index += 1) {
    const of = customer(index, pick, random);
    customers.push(of);
    const crm = index < options.inBoth + options.onlyCrm ? [addAccount(of)] : [];
    const shop = index < options.inBoth || index >= options.inBoth + options.onlyCrm ? [addShopper(of)] : [];
    // The same person, registered twice in the shop with the same address.
    if (shop.length > 0 && chance(0.012)) shop.push(addShopper({ ...of, note: null }));
    truth.push({ customer: `c${index + 1}`, crm, shop });
  }
  return { accounts, shoppers, customers, truth };
}

/** Somebody who registered in the shop with a private email, and typed the rest in once more. */
function astray(shopper: Shopper, random: () => number): Shopper {
  const strayed = {
    ...shopper,
    mail: `${shopper.first_name.charAt(0)}${shopper.surname}${shopper.id.slice(-2)}@gullpost.example`
      .toLowerCase()
      .replaceAll(/[^a-z0-9@.]/g, ''),
  };
  const [company, name, phone, address] = [random(), random(), random(), random()];
  return {
    ...strayed,
    company_name:
      company < 0.35
        ? misspelled(shopper.company_name, random)
        : company < 0.5
          ? `${shopper.company_name.split(' ')[0] ?? ''} Ltd`
          : shopper.company_name,
    first_name: name < 0.3 ? shopper.first_name.charAt(0) : shopper.first_name,
    surname: name > 0.85 ? misspelled(shopper.surname, random) : shopper.surname,
    tel:
      phone < 0.35
        ? ''
        : phone < 0.5
          ? `07700 900${String(Math.floor(random() * 1000)).padStart(3, '0')}`
          : shopper.tel,
    address_line:
      address < 0.25
        ? `${streets[Math.floor(random() * streets.length)] ?? ''} ${1 + Math.floor(random() * 90)}`
        : shopper.address_line,
    post_code: address < 0.12 ? '' : shopper.post_code,
  };
}

function customer(index: number, pick: <T>(items: readonly T[]) => T, random: () => number): Customer {
  const firstName = pick(firstNames);
  const lastName = pick(lastNames);
  const start = pick(companyStarts);
  const [town, postcodeStart, country] = pick(towns);
  const company =
    random() < 0.12 ? `${start} ${lastName} ${pick(companyEnds)} of ${town}` : `${start} ${pick(companyEnds)}`;
  const segment = pick(Object.keys(groupOfSegment));
  const digits =
    country === 'GB'
      ? `1632960${String(Math.floor(random() * 1000)).padStart(3, '0')}`
      : country === 'DE'
        ? `30231250${String(Math.floor(random() * 100)).padStart(2, '0')}`
        : country === 'FR'
          ? `199000${String(Math.floor(random() * 1000)).padStart(3, '0')}`
          : `209150${String(Math.floor(random() * 1000)).padStart(3, '0')}`.slice(0, 9);
  const plain = (text: string): string =>
    text
      .normalize('NFD')
      .replaceAll(/[^A-Za-z]/g, '')
      .toLowerCase();
  return {
    company,
    firstName,
    lastName,
    email: `${plain(firstName)}.${plain(lastName)}${index + 1}@${plain(start)}.example`,
    digits,
    country,
    street: `${pick(streets)} ${1 + Math.floor(random() * 90)}`,
    postcode:
      country === 'GB'
        ? `${postcodeStart} ${1 + Math.floor(random() * 9)}${pick(['QD', 'AB', 'LN', 'TX', 'WY'])}`
        : `${postcodeStart}${String(Math.floor(random() * 100)).padStart(2, '0')}`,
    town,
    segment,
    credit: Math.round(random() * 40) * 500,
    consent: random() < 0.6,
    note: random() < 0.35 ? pick(notes) : null,
  };
}

function phoneForms({ digits, country }: Customer, random: () => number): string {
  const code = dialling[country] as string;
  const forms = [
    `+${code} ${digits.slice(0, 4)} ${digits.slice(4)}`,
    `+${code}${digits}`,
    country === 'GB' ? `0${digits.slice(0, 4)} ${digits.slice(4)}` : `00${code} ${digits}`,
  ];
  return forms[Math.floor(random() * forms.length)] as string;
}

function misspelled(text: string, random: () => number): string {
  const at = 1 + Math.floor(random() * Math.max(1, text.length - 3));
  return text.slice(0, at) + (text[at + 1] ?? '') + (text[at] ?? '') + text.slice(at + 2);
}

function capitalised(email: string): string {
  return email.replaceAll(/(^|\.)([a-z])/g, (_, before: string, letter: string) => before + letter.toUpperCase());
}
