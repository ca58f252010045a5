/**
 * Two lists of invented people or companies with known truth, for measuring matching, in the manner of the generator of
 * Febrl (Christen
 * 2005, Probabilistic data generation for deduplication and data linkage): originals, and copies with typing, phonetic
 * and scanning errors, changed and missing values, swapped fields. Households share surname, address and phone;
 * companies have branches. Seeded: the same options give the same lists.
 */
import { random } from '../proposals/world.mjs';

const starts = (
  'Bar Ber Bran Cal Car Col Dan Dor Ed El Fen Gar Hal Har Hol Kel Lan Mar Mel Nor Os Pen Quin Ros Sal ' +
  'Stan Tam Ul Van Wes Yar'
).split(' ');
const middles = ['', '', 'a', 'e', 'er', 'in', 'ar', 'is', 'on'];
const ends = 'ton ley ford wick son by well den man er ing low mont sen berg stein sky ham worth dale'.split(' ');
const given = (
  'William Robert Richard Thomas Margaret Elizabeth Katherine James John Michael David Susan Jennifer ' +
  'Patricia Barbara Charles Joseph Daniel Matthew Anthony Andrew Edward Samuel Benjamin Emily ' +
  'Charlotte Amelia Sophie Grace Lucy Hannah Oliver George Harry Jack Noah Leo Arthur Freya Isla Ivy ' +
  'Rosie Ella Mia Lily Evie Theodore Frederick Alexander Nicholas Victoria Rebecca Rachel Sarah Helen ' +
  'Joan Ruth Alice Clara Edith Hugo Felix Oscar Ralph Simon Peter Philip Stephen Gregory Jonathan ' +
  'Timothy Deborah Pamela Sylvia Monica Anita Carmen Ingrid Astrid Bjorn Lars Anneke Pieter Marco ' +
  'Giulia Chiara Paolo Ines Diego'
).split(' ');
const nick = {
  William: 'Bill',
  Robert: 'Bob',
  Richard: 'Dick',
  Thomas: 'Tom',
  Margaret: 'Peggy',
  Elizabeth: 'Liz',
  Katherine: 'Kate',
  James: 'Jim',
  Michael: 'Mike',
  Susan: 'Sue',
  Jennifer: 'Jen',
  Patricia: 'Trish',
  Charles: 'Charlie',
  Joseph: 'Joe',
  Daniel: 'Dan',
  Matthew: 'Matt',
  Anthony: 'Tony',
  Andrew: 'Andy',
  Edward: 'Ted',
  Samuel: 'Sam',
  Benjamin: 'Ben',
  Victoria: 'Vicky',
  Rebecca: 'Becky',
  Deborah: 'Debbie',
  Nicholas: 'Nick',
  Alexander: 'Alex',
  Frederick: 'Fred',
  Timothy: 'Tim',
  Stephen: 'Steve',
};
const streetNames = (
  'Mill Church Station Harbour High Orchard Bridge Victoria Saltpan Quarry Windmill Meadow Castle ' +
  'Abbey Fountain Chapel Market Priory Rectory Spring'
).split(' ');
const kinds = ['Street', 'Road', 'Lane', 'Avenue', 'Close', 'Drive', 'Gardens', 'Terrace'];
const short = {
  Street: 'St',
  Road: 'Rd',
  Lane: 'Ln',
  Avenue: 'Ave',
  Close: 'Cl',
  Drive: 'Dr',
  Gardens: 'Gdns',
  Terrace: 'Ter',
};
const trades = [
  'Nurseries',
  'Landscapes',
  'Glass',
  'Growers',
  'Garden Centre',
  'Estates',
  'Horticulture',
  'Orchids',
  'Seeds',
  'Turf',
  'Plants',
  'Timber',
  'Fencing',
  'Ironworks',
  'Irrigation',
  'Composts',
];
const forms = ['Ltd', 'Limited', 'GmbH', 'plc', 'BV', 'SARL', ''];
const neighbours = {
  a: 'sq',
  b: 'vn',
  c: 'xv',
  d: 'sf',
  e: 'wr',
  f: 'dg',
  g: 'fh',
  h: 'gj',
  i: 'uo',
  j: 'hk',
  k: 'jl',
  l: 'k',
  m: 'n',
  n: 'bm',
  o: 'ip',
  p: 'o',
  q: 'wa',
  r: 'et',
  s: 'ad',
  t: 'ry',
  u: 'yi',
  v: 'cb',
  w: 'qe',
  x: 'zc',
  y: 'tu',
  z: 'x',
};
const sounds = [
  ['ph', 'f'],
  ['ck', 'k'],
  ['sch', 'sh'],
  ['ey', 'y'],
  ['ie', 'y'],
  ['th', 't'],
  ['nn', 'n'],
  ['ll', 'l'],
  ['tt', 't'],
  ['ks', 'x'],
  ['c', 'k'],
  ['z', 's'],
  ['w', 'v'],
  ['ea', 'ee'],
  ['er', 'ar'],
];
const looks = [
  ['rn', 'm'],
  ['m', 'rn'],
  ['l', '1'],
  ['o', '0'],
  ['s', '5'],
  ['b', '6'],
  ['cl', 'd'],
  ['i', 'l'],
  ['vv', 'w'],
  ['e', 'c'],
];

function tools(seed) {
  const roll = random(seed);
  const int = (from, to) => from + Math.floor(roll() * (to - from + 1));
  // Some values are much commoner than others, as names and streets are.
  const pick = (list) => list[Math.floor(roll() ** 1.7 * list.length)];
  return { roll, int, pick, chance: (share) => roll() < share };
}

const surname = ({ roll }) =>
  starts[Math.floor(roll() ** 1.3 * starts.length)] +
  middles[Math.floor(roll() * middles.length)] +
  ends[Math.floor(roll() ** 1.3 * ends.length)];

/** One error of the kind that people, ears and scanners make. */
function spoiled(text, { roll, int }) {
  if (text.length < 2) return text;
  const kind = roll();
  if (kind < 0.22) {
    const found = sounds.filter(([from]) => text.toLowerCase().includes(from));
    if (found.length > 0) return replaced(text, found[int(0, found.length - 1)]);
  } else if (kind < 0.38) {
    const found = looks.filter(([from]) => text.toLowerCase().includes(from));
    if (found.length > 0) return replaced(text, found[int(0, found.length - 1)]);
  }
  const at = int(0, text.length - 1);
  const how = int(0, 3);
  if (how === 0) return text.slice(0, at) + text.slice(at + 1);
  if (how === 1)
    return `${text.slice(0, at)}${text[Math.min(at + 1, text.length - 1)]}${text[at]}${text.slice(at + 2)}`;
  const near = neighbours[text[at].toLowerCase()] ?? (/\d/.test(text[at]) ? '0123456789' : 'e');
  const letter = near[int(0, near.length - 1)];
  return how === 2 ? text.slice(0, at) + letter + text.slice(at + 1) : text.slice(0, at) + letter + text.slice(at);
}

function replaced(text, [from, to]) {
  const at = text.toLowerCase().indexOf(from);
  return text.slice(0, at) + to + text.slice(at + from.length);
}

const digits = ({ int }, count) => Array.from({ length: count }, () => int(0, 9)).join('');
const address = (tool) => ({
  street: `${tool.int(1, 180)} ${tool.pick(streetNames)} ${tool.pick(kinds)}`,
  postcode:
    `${tool.pick(['HZ', 'TQ', 'MB', 'KB', 'FW', 'LN'])}${tool.int(1, 29)} ` +
    `${tool.int(1, 9)}${tool.pick(['QD', 'AB', 'LN', 'TX', 'WY', 'RS', 'HG'])}`,
});
const day = ({ int }) => new Date(Date.UTC(1930, 0, 1) + int(0, 27_000) * 86_400_000).toISOString().slice(0, 10);

/** People: name, date of birth, address, phone, email. About a fifth live with somebody of their name. */
export function people({ seed, both, onlyLeft, onlyRight }) {
  const tool = tools(seed);
  const originals = [];
  while (originals.length < both + onlyLeft + onlyRight) {
    const family = surname(tool);
    const home = address(tool);
    const phone = `01632 ${digits(tool, 6)}`;
    const size = tool.chance(0.12) ? tool.int(2, 4) : 1;
    for (let one = 0; one < size; one += 1) {
      const first = tool.pick(given);
      originals.push({
        given: first,
        family,
        born: day(tool),
        ...home,
        phone: tool.chance(0.6) ? phone : `07700 ${digits(tool, 6)}`,
        email: `${first}.${family}${tool.int(1, 99)}@example.org`.toLowerCase(),
      });
    }
  }
  return lists(tool, originals, { both, onlyLeft, onlyRight }, (of) => copyOfPerson(of, tool));
}

function copyOfPerson(of, tool) {
  const copy = { ...of };
  if (tool.chance(0.1) && nick[copy.given]) copy.given = nick[copy.given];
  else if (tool.chance(0.05)) copy.given = copy.given[0];
  if (tool.chance(0.3)) copy.given = spoiled(copy.given, tool);
  if (tool.chance(0.34)) copy.family = spoiled(copy.family, tool);
  if (tool.chance(0.02)) copy.family = surname(tool);
  if (tool.chance(0.03)) [copy.given, copy.family] = [copy.family, copy.given];
  const anotherDay = tool.chance(0.1);
  const anotherDigit = !anotherDay && tool.chance(0.1);
  const swapped = !anotherDay && !anotherDigit && tool.chance(0.04);
  if (anotherDay) copy.born = `${copy.born.slice(0, 8)}${String(tool.int(1, 28)).padStart(2, '0')}`;
  if (anotherDigit) copy.born = `${copy.born.slice(0, 3)}${tool.int(0, 9)}${copy.born.slice(4)}`;
  if (swapped)
    copy.born = copy.born.replace(/-(\d\d)-(\d\d)$/, (all, month, dayOf) =>
      Number(dayOf) <= 12 ? `-${dayOf}-${month}` : all,
    );
  if (tool.chance(0.45)) copy.street = copy.street.replace(/\w+$/, (word) => short[word] ?? word);
  if (tool.chance(0.2)) copy.street = spoiled(copy.street, tool);
  if (tool.chance(0.1)) Object.assign(copy, address(tool));
  if (tool.chance(0.1)) copy.postcode = spoiled(copy.postcode, tool);
  if (tool.chance(0.5)) copy.phone = `+44 ${copy.phone.slice(1)}`;
  const anotherPhone = tool.chance(0.4);
  const mistyped = !anotherPhone && tool.chance(0.3);
  if (anotherPhone) copy.phone = `07700 ${digits(tool, 6)}`;
  if (mistyped) copy.phone = spoiled(copy.phone, tool);
  if (tool.chance(0.55)) copy.email = `${copy.family}${tool.int(1, 999)}@mail.example`.toLowerCase();
  else if (tool.chance(0.36)) copy.email = spoiled(copy.email, tool);
  return copy;
}

/** Companies: name, address, phone, email. One in eight has branches under the same name. */
export function companies({ seed, both, onlyLeft, onlyRight }) {
  const tool = tools(seed);
  const originals = [];
  while (originals.length < both + onlyLeft + onlyRight) {
    const root = tool.chance(0.5)
      ? surname(tool)
      : `${surname(tool)} & ${tool.pick(['Sons', 'Daughters', surname(tool)])}`;
    const name = `${root} ${tool.pick(trades)} ${tool.pick(forms)}`.trim();
    const domain = root.toLowerCase().replaceAll(/[^a-z]/g, '');
    const size = tool.chance(0.06) ? tool.int(2, 4) : 1;
    for (let one = 0; one < size; one += 1)
      originals.push({
        name,
        ...address(tool),
        phone: `01632 ${digits(tool, 6)}`,
        email: `${tool.pick(['info', 'office', 'sales', 'yard'])}@${domain}${tool.int(1, 9)}.example`,
      });
  }
  return lists(tool, originals, { both, onlyLeft, onlyRight }, (of) => copyOfCompany(of, tool));
}

function copyOfCompany(of, tool) {
  const copy = { ...of };
  copy.name = copy.name.replace(/ (Ltd|Limited|GmbH|plc|BV|SARL)$/, (all) =>
    tool.chance(0.5) ? '' : tool.chance(0.3) ? all.toUpperCase() : all,
  );
  if (tool.chance(0.3)) copy.name = copy.name.replace('&', 'and');
  if (tool.chance(0.45)) copy.name = spoiled(copy.name, tool);
  if (tool.chance(0.06)) copy.name = copy.name.split(' ').slice(0, -1).join(' ') || copy.name;
  if (tool.chance(0.45)) copy.street = copy.street.replace(/\w+$/, (word) => short[word] ?? word);
  if (tool.chance(0.2)) copy.street = spoiled(copy.street, tool);
  if (tool.chance(0.08)) Object.assign(copy, address(tool));
  if (tool.chance(0.1)) copy.postcode = spoiled(copy.postcode, tool);
  if (tool.chance(0.5)) copy.phone = `+44 ${copy.phone.slice(1)}`;
  if (tool.chance(0.38)) copy.phone = `01632 ${digits(tool, 6)}`;
  else if (tool.chance(0.25)) copy.phone = spoiled(copy.phone, tool);
  if (tool.chance(0.6))
    copy.email = copy.email.replace(/^\w+@/, () => `${tool.pick(['hello', 'post', 'orders', 'accounts'])}@`);
  return copy;
}

/** Which values are missing, in every list on its own. */
const missing = { phone: 0.18, email: 0.35, born: 0.1, street: 0.05, postcode: 0.05, given: 0.02 };

function lists(tool, originals, { both, onlyLeft, onlyRight }, copyOf) {
  const withGaps = (record) =>
    Object.fromEntries(
      Object.entries(record).map(([name, value]) => [name, tool.chance(missing[name] ?? 0) ? null : value]),
    );
  const numbered = originals.slice(0, both + onlyLeft + onlyRight).map((record, thing) => ({ thing, record }));
  // Households and branches are split between those in both lists and those in one.
  const shuffled = numbered
    .map((one) => ({ one, at: tool.roll() }))
    .toSorted((a, b) => a.at - b.at)
    .map(({ one }) => one);
  const left = shuffled.slice(0, both + onlyLeft).map(({ thing, record }) => ({ thing, record: withGaps(record) }));
  const right = [...shuffled.slice(0, both), ...shuffled.slice(both + onlyLeft)]
    .map(({ thing, record }) => ({ thing, record: withGaps(copyOf(record)), at: tool.roll() }))
    .toSorted((a, b) => a.at - b.at);
  return { left, right };
}
