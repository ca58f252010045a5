/** Invented businesses for the sets: seeded, so that every run sees the same records. */
export function random(seed) {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4294967296;
  };
}
const first = (
  'Ada Bram Carys Dorian Elowen Finn Greta Hugo Imke Joren Keziah Lorcan Mette Nils Orla Piet Quinn ' +
  'Rosa Sander Tilda Umar Vera Wren Yara'
).split(' ');
const last = (
  'Ashdown Brandt Castellan Dunmore Eastlake Fairweather Garrick Holm Ivers Jansen Kettering Lindqvist ' +
  'Marrow Northam Okafor Penhale Quayle Rowntree Straker Thorne Umber Vance Wetherby Yates'
).split(' ');
const firm = (
  'Oakridge Fernhill Saltpan Tidewater Lapwing Silverweed Larkspur Bramble Heron Quarry Millrace ' +
  'Thistle Copper Juniper Harbour'
).split(' ');
const trade = 'Gardens;Nursery;Orchids;Landscapes;Academy;Estates;Growers;Botanics;Holdings;Parks'.split(';');
const legal = ['Ltd', 'GmbH', 'SARL', 'BV', 'plc', ''];
const towns =
  'Ashcombe Thornquay Kilbrannan Marrowby Hazelmoor Fenwick Dunholm Westerleigh Coldharbour Stonebeck'.split(' ');
const streets = [
  'Mill Lane',
  'Church Street',
  'Station Road',
  'Harbour Way',
  'High Street',
  'Orchard Close',
  'Bridge End',
];
const lorem = (
  'called asked about delivery of the glass wants a second visit before winter prefers mornings key ' +
  'with the neighbour frame was bent replaced at no cost invoice to head office'
).split(' ');
const colours = ['green', 'anthracite', 'white', 'cedar'];

/** One thing of the business with everything that any set may ask of it. */
export function thing(seed, number) {
  const roll = random(seed * 7919 + number * 104729);
  const pick = (list) => list[Math.floor(roll() * list.length)];
  const int = (from, to) => from + Math.floor(roll() * (to - from + 1));
  const given = pick(first);
  const family = pick(last);
  const company = `${pick(firm)} ${pick(trade)} ${number}`;
  const form = pick(legal);
  const day = (from, days) => new Date(Date.UTC(2020, 0, 1) + (from + Math.floor(roll() * days)) * 86_400_000);
  const words = (count) => Array.from({ length: count }, () => pick(lorem)).join(' ');
  const digits = (count) => Array.from({ length: count }, () => int(0, 9)).join('');
  return {
    number,
    roll,
    given,
    family,
    company,
    legalName: form ? `${company} ${form}` : company,
    email: `${given}.${family}${number}@example.org`.toLowerCase(),
    billingEmail: `accounts${number}@example.org`,
    phone: `+441632960${String(number % 1000).padStart(3, '0')}`,
    mobile: `+447700900${String((number * 7) % 1000).padStart(3, '0')}`,
    fax: `+441632961${String((number * 3) % 1000).padStart(3, '0')}`,
    street: `${int(1, 240)} ${pick(streets)}`,
    deliveryStreet: `${int(1, 240)} ${pick(streets)}`,
    town: pick(towns),
    deliveryTown: pick(towns),
    zip: `HZ${int(1, 29)} ${int(1, 9)}QD`,
    county: pick(['Fenshire', 'Moorland', 'Eastvale']),
    country: pick(['GB', 'GB', 'GB', 'DE', 'FR', 'NL', 'IE']),
    language: pick(['en', 'de', 'fr', 'nl']),
    currency: pick(['GBP', 'EUR', 'EUR', 'USD']),
    vat: `GB${digits(9)}`,
    registration: digits(8),
    website: `https://www.${company.toLowerCase().replaceAll(' ', '')}.example`,
    iban: `GB29NWBK${digits(14)}`,
    creditLimit: int(1, 80) * 500,
    discount: int(0, 25),
    paymentDays: pick([14, 30, 30, 60]),
    revenue: int(1000, 900_000) + int(0, 99) / 100,
    staff: int(1, 800),
    newsletter: roll() < 0.4,
    blocked: roll() < 0.06,
    tax: roll() < 0.1,
    vip: roll() < 0.2,
    created: day(0, 1200),
    changed: day(1200, 900),
    born: new Date(Date.UTC(1950, 0, 1) + Math.floor(roll() * 18_000) * 86_400_000),
    visit: day(1900, 400),
    due: day(2100, 300),
    status: pick(['open', 'won', 'lost', 'waiting']),
    stage: pick(['new', 'in progress', 'waiting', 'done', 'done']),
    priority: pick(['low', 'normal', 'normal', 'high', 'urgent']),
    segment: pick(['Growers', 'Schools', 'Parks', 'Households']),
    source: pick(['fair', 'web', 'referral', 'catalogue']),
    industry: pick(['horticulture', 'education', 'public sector', 'retail', 'leisure']),
    salesperson: `${pick(first)} ${pick(last)}`,
    agent: `${pick(first).toLowerCase()}@hazelmoor.example`,
    note: words(int(4, 22)),
    summary: words(int(3, 7)),
    internal: words(int(4, 15)),
    net: int(20, 9000) + int(0, 99) / 100,
    shipping: int(0, 80) + 0.5,
    weight: int(1, 400) / 10,
    stock: int(0, 900),
    reorder: int(5, 60),
    width: int(40, 400),
    depth: int(40, 600),
    height: int(20, 320),
    colour: pick(colours),
    minutes: int(5, 900),
    points: pick([1, 2, 3, 5, 8, 13]),
    percent: int(0, 100),
    title: pick(['Ms', 'Mr', 'Dr', 'Mx']),
    job: pick(['Head gardener', 'Buyer', 'Owner', 'Facilities manager', 'Teacher']),
    barcode: `50${digits(11)}`,
    maker: pick(['Coldframe & Sons', 'Glasswell', 'Brackenforge', 'Verdant Metalworks']),
    tags: [pick(lorem), pick(lorem)],
    code: (prefix, width = 5) => `${prefix}${String(number).padStart(width, '0')}`,
    other: roll(),
  };
}

export const iso = (date) => date.toISOString();
export const isoDay = (date) => date.toISOString().slice(0, 10);
export const british = (date) => isoDay(date).split('-').reverse().join('/');
export const german = (date) => isoDay(date).split('-').reverse().join('.');
export const american = (date) => `${isoDay(date).slice(5, 7)}/${isoDay(date).slice(8)}/${isoDay(date).slice(0, 4)}`;
export const seconds = (date) => Math.floor(date.getTime() / 1000);
export const national = (phone) => phone.replace('+44', '0').replace(/^(\d{5})/, '$1 ');
export const grouped = (phone) => phone.replace(/^\+44(\d{4})(\d{3})(\d+)$/, '+44 $1 $2 $3');
export const comma = (number) => number.toFixed(2).replace('.', ',');
export const pence = (number) => Math.round(number * 100);
export const yes = (truth) => (truth ? 'Y' : 'N');
export const ja = (truth) => (truth ? 'ja' : 'nein');
export const countryName = (code) =>
  ({ GB: 'United Kingdom', DE: 'Germany', FR: 'France', NL: 'Netherlands', IE: 'Ireland' })[code];
