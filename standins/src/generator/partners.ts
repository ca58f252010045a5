import { seededRandom } from '../kit/faults.js';
import type { Business } from './business.js';
import { companyEnds, companyStarts, firstNames, lastNames, towns } from './vocabulary.js';

export interface Partner {
  readonly number: string;
  readonly name: string;
  readonly contact: string;
  readonly town: string;
  readonly country: string;
  readonly terms: number;
}

/** Partners who install and resell, leads that they send, and a price list; the same options give the same data. */
export function generatePartners(
  { articles }: Business,
  seed: number,
): {
  partners: Partner[];
  leads: { id: string; partner: string; name: string; interest: string; received: string }[];
  prices: { article: string; description: string; price: number; validFrom: Date }[];
} {
  const random = seededRandom(seed);
  const pick = <T>(items: readonly T[]): T => items[Math.floor(random() * items.length)] as T;
  const partners = Array.from({ length: 64 }, (_, index): Partner => {
    const [town, , country] = pick(towns);
    const name = `${pick(companyStarts)} ${pick(companyEnds)}${country === 'DE' ? ' GmbH & Co. KG' : ''}`;
    return {
      number: `PA-${String(index + 101)}`,
      name,
      contact: `${pick(firstNames)} ${pick(lastNames)}`,
      town,
      country,
      terms: pick([14, 30, 60]),
    };
  });
  const leads = Array.from({ length: 90 }, (_, index) => ({
    id: `L-${String(index + 1).padStart(4, '0')}`,
    partner: pick(partners).number,
    name: `${pick(firstNames)} ${pick(lastNames)}`,
    interest: pick(['cold frame', 'lean-to', 'span roof', 'repair', 'not known yet']),
    received: new Date(Date.UTC(2026, 10, 1 + Math.floor(index / 5))).toISOString().slice(0, 10),
  }));
  const prices = articles.map(({ number, description, price }) => ({
    article: number,
    description,
    price: Math.round(Number(price) * 72) / 100,
    validFrom: new Date(Date.UTC(2026, 9, 1)),
  }));
  return { partners, leads, prices };
}
