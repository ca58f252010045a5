/**
 * What each kind of step costs, read and written, as a ratio to the bare call of the library or of the language behind
 * it
 * on the same values in the same run (the floor); then 100,000 records through 25 mappings, read as a run reads them
 * and
 * written once, with the time by kind of step. Goal: at most 1.5 for steps with a library behind them.
 * Settings: BENCH_VALUES (per round), BENCH_RECORDS.
 */
import { performance } from 'node:perf_hooks';
import { compileKnot, compileStep, makeLens } from '@anchor-knot/core';
import { Environment } from '@marcbachmann/cel-js';
import { sha256 } from '@noble/hashes/sha2.js';
import { bytesToHex, utf8ToBytes } from '@noble/hashes/utils.js';
import { Decimal } from 'decimal.js';
import parser from 'humanparser';
import countries from 'i18n-iso-countries';
import { parsePhoneNumberFromString } from 'libphonenumber-js/core';
import metadata from 'libphonenumber-js/min/metadata';
import { DateTime } from 'luxon';

const perRound = Number(process.env.BENCH_VALUES ?? 20_000);
const records = Number(process.env.BENCH_RECORDS ?? 100_000);
const rounds = 5;
const crosswalks = {
  groups: {
    name: 'Groups',
    rows: Array.from({ length: 40 }, (_, n) => ({ shared: `group ${n}`, values: { crm: [`g${n}`] } })),
  },
};
const two = (n) => String(n).padStart(2, '0');
const given = ['Ada', 'Grace', 'Mary', 'Emmy', 'Sofia'];
const money = new Intl.NumberFormat('en-GB', { style: 'currency', currency: 'GBP' });
const table = new Map(crosswalks.groups.rows.map(({ shared, values }) => [values.crm[0], shared]));
const upper = new Environment().registerVariable('value', 'dyn').parse('value + "!"');
const link = 'https://crm.example/records/';
const names =
  Object.keys(countries.getAlpha2Codes()).length > 0 ? ['United Kingdom', 'Germany', 'France', 'Ireland'] : [];

/** One for each kind: the step, a value by its number, and what is called bare, for each way that has a library. */
const kinds = [
  { step: { kind: 'trim' }, value: (n) => ` name ${n} `, reads: (text) => text.trim() },
  {
    step: { kind: 'case', side: 'shared', form: 'upper' },
    value: (n) => `name ${n}`,
    reads: (text) => text.toUpperCase(),
  },
  {
    step: { kind: 'cut', length: 12 },
    value: (n) => `a longer name ${n}`,
    writes: (text) => [...text].slice(0, 12).join('').trimEnd(),
  },
  {
    step: { kind: 'phone', country: 'GB', form: 'international' },
    library: true,
    value: (n) => `020 ${String(70_000_000 + n)}`,
    reads: (text) => {
      const number = parsePhoneNumberFromString(text, { defaultCountry: 'GB', extract: false }, metadata);
      return number.isPossible() ? number.number : undefined;
    },
    shared: (n) => `+4420${70_000_000 + n}`,
    writes: (text) => parsePhoneNumberFromString(text, { defaultCountry: 'GB' }, metadata).formatInternational(),
  },
  {
    step: { kind: 'country', form: 'name' },
    library: true,
    value: (n) => names[n % 4],
    reads: (text) => countries.getAlpha2Code(text, 'en'),
    shared: (n) => ['GB', 'DE'][n % 2],
    writes: (code) => countries.getName(code, 'en'),
  },
  { step: { kind: 'crosswalk', table: 'groups' }, value: (n) => `g${n % 40}`, reads: (text) => table.get(text) },
  {
    step: { kind: 'yesNo', yes: ['Y'], no: ['N'] },
    value: (n) => (n % 2 ? 'Y' : 'N'),
    reads: (text) => text.trim().toLowerCase() === 'y',
  },
  {
    step: { kind: 'number', places: 2 },
    library: true,
    value: (n) => `${n}.25`,
    reads: (text) => new Decimal(text).div(1).toString(),
    shared: (n) => `${n}.257`,
    writes: (text) => Number(new Decimal(text).times(1).toDecimalPlaces(2).toString()),
  },
  {
    step: { kind: 'date', format: 'dd/MM/yyyy', to: 'date' },
    library: true,
    value: (n) => `${two(1 + (n % 28))}/${two(1 + (n % 12))}/${2000 + (n % 25)}`,
    reads: (text) => DateTime.fromFormat(text, 'dd/MM/yyyy', { zone: 'utc' }).toISODate(),
    shared: (n) => `${2000 + (n % 25)}-${two(1 + (n % 12))}-${two(1 + (n % 28))}`,
    writes: (text) => DateTime.fromISO(text, { zone: 'utc' }).toFormat('dd/MM/yyyy'),
  },
  {
    step: { kind: 'list', separator: ';' },
    value: (n) => `a${n};b;c`,
    reads: (text) => text.split(';').map((one) => one.trim()),
  },
  {
    step: { kind: 'pad', length: 10, with: '0', side: 'start' },
    value: (n) => String(n).padStart(10, '0'),
    reads: (text) => text.replace(/^0+(?=.)/, ''),
    shared: (n) => String(n),
    writes: (text) => text.padStart(10, '0'),
  },
  {
    step: { kind: 'replace', find: '/', by: '-' },
    value: (n) => `a/${n}/b`,
    reads: (text) => text.replaceAll('/', '-'),
  },
  {
    step: { kind: 'part', layout: '{street}, {town}', part: 'town' },
    value: (n) => `Lane ${n}, Thornquay`,
    reads: (text) => text.split(', ')[1],
  },
  {
    step: { kind: 'personName', part: 'family' },
    library: true,
    value: (n) => `Dr. ${given[n % 5]} Lovelace${n}`,
    reads: (text) => parser.parseName(text).lastName,
  },
  {
    step: { kind: 'address', part: 'town', country: 'GB' },
    value: (n) => `${n} Saltpan Lane, Thornquay HZ4 8QD`,
    reads: (text) => /,\s*(.*?)\s+[A-Z]{1,2}\d[A-Z\d]? ?\d[A-Z]{2}\b/i.exec(text)[1],
  },
  {
    step: { kind: 'email' },
    value: (n) => `Person${n}@Example.org`,
    reads: (text) => /^[^@\s]+@[^@\s]+\.[^@\s]+$/.test(text.toLowerCase()) && text.toLowerCase(),
  },
  {
    step: { kind: 'money', currency: 'GBP', locale: 'en-GB', show: 'symbol' },
    library: true,
    value: (n) => `£${n}.25`,
    reads: (text) => new Decimal(text.replace('£', '').replaceAll(',', '')).toString(),
    shared: (n) => `${n}.25`,
    writes: (text) => money.format(text),
  },
  { step: { kind: 'path', path: '0.email' }, value: (n) => [{ email: `a${n}` }], reads: (list) => list[0].email },
  {
    step: { kind: 'link', address: `${link}{key}` },
    value: (n) => `${link}A-${n}`,
    reads: (text) => decodeURIComponent(text.slice(link.length)),
    shared: (n) => `A-${n}`,
    writes: (key) => link + encodeURIComponent(key),
  },
  {
    step: { kind: 'hash' },
    library: true,
    value: (n) => `person${n}@example.org`,
    reads: (text) => bytesToHex(sha256(utf8ToBytes(text))),
  },
  {
    step: { kind: 'formula', inbound: 'value + "!"' },
    library: true,
    value: (n) => `name ${n}`,
    reads: (text) => upper({ value: text }),
  },
];

/** Milliseconds for each of the values; the garbage of the round before is gone. */
function time(values, call) {
  globalThis.gc?.();
  const begun = performance.now();
  for (const value of values) call(value);
  return performance.now() - begun;
}

function ratio(make, bare, stepped) {
  const ratios = [];
  const [floors, steps] = [[], []];
  for (let round = 0; round < rounds; round += 1) {
    // Each round has values of its own: what a step remembers of earlier ones would make it look quicker than it is.
    const values = Array.from({ length: perRound }, (_, n) => make(round * perRound + n));
    floors.push(time(values, bare));
    steps.push(time(values, stepped));
    if (round > 0) ratios.push(steps[round] / floors[round]);
  }
  const middle = (all) => all.toSorted((a, b) => a - b)[Math.floor(all.length / 2)];
  return { ratio: middle(ratios), microseconds: (middle(steps) * 1000) / perRound };
}

console.log(
  `What each kind of step costs: ratio to the bare call on the same ${perRound} values, and microseconds a value`,
);
for (const { step, library, value, reads, shared, writes } of kinds) {
  const compiled = compileStep(step, 'crm', crosswalks);
  if (!compiled.ok) throw new Error(compiled.reason);
  const { inbound, outbound } = compiled.value;
  const line = [`${step.kind}${library ? '' : ' (own)'}`.padEnd(18)];
  if (reads) {
    const { ratio: times, microseconds } = ratio(value, reads, (one) => inbound(one, undefined));
    line.push(`read ${times.toFixed(2)} (${microseconds.toFixed(2)} µs)`);
  }
  if (writes) {
    const { ratio: times, microseconds } = ratio(shared ?? value, writes, (one) => outbound(one, undefined));
    line.push(`written ${times.toFixed(2)} (${microseconds.toFixed(2)} µs)`);
  }
  console.log(`  ${line.join('  ')}`);
}

/** Records through 25 mappings. */
const chains = [...kinds.filter(({ step }) => !['hash', 'formula'].includes(step.kind)), ...kinds.slice(0, 6)].slice(
  0,
  25,
);
const typeOf = {
  yesNo: 'yes/no',
  number: 'number',
  money: 'number',
  date: 'date',
  list: 'list',
  phone: 'phone',
  email: 'email',
};
const fields = chains.map(({ step }, index) => ({
  id: `f${index}`,
  name: `f${index}`,
  type: typeOf[step.kind] ?? 'text',
  rule: { steps: [{ step: 'ask' }] },
  mappings: {
    crm: {
      field: `f${index}`,
      direction: 'both ways',
      steps: [step],
      absentMeansBlank: false,
      blankAs: 'null',
      drift: 'put back',
    },
  },
}));
const member = (id) => ({
  id,
  system: id,
  object: 'o',
  may: { create: true, update: true },
  startsAnchors: true,
  required: [],
  guards: {},
});
const knot = compileKnot({
  id: 'k',
  name: 'K',
  thing: 't',
  titleField: 'f0',
  start: 'merge',
  members: [member('crm'), member('shop')],
  fields,
  keyRules: [{ name: 'r', fields: [{ field: 'f0', normalise: 'text' }] }],
  checks: [],
  crosswalks,
});
if (!knot.ok) throw new Error(JSON.stringify(knot.problems));
const record = (n) => ({
  key: String(n),
  fields: Object.fromEntries(chains.map(({ value }, index) => [`f${index}`, value(n)])),
});
const before = process.memoryUsage().rss;
let most = before;
const begun = performance.now();
let reading = 0;
let writing = 0;
for (let n = 0; n < records; n += 1) {
  const one = record(n);
  let at = performance.now();
  const raws = knot.knot.rawFields('crm', one);
  const values = knot.knot.sharedValues('crm', raws);
  reading += performance.now() - at;
  at = performance.now();
  for (const field of knot.knot.fields) {
    const value = values.get(field.id);
    if (value !== undefined) field.mappings.get('crm').lens.outbound(value, undefined);
  }
  writing += performance.now() - at;
  if (n % 5000 === 0) most = Math.max(most, process.memoryUsage().rss);
}
console.log(
  `\n${records} records through ${chains.length} mappings: read ${(reading / 1000).toFixed(1)} s, ` +
    `written and read back ${(writing / 1000).toFixed(1)} s, all in all ` +
    `${((performance.now() - begun) / 1000).toFixed(1)} s`,
);
console.log(`  memory grew by ${Math.round((most - before) / 1e6)} MB at most`);
const byKind = new Map();
for (const { step, value } of chains) {
  const compiled = compileStep(step, 'crm', crosswalks);
  const lens = makeLens({
    type: typeOf[step.kind] ?? 'text',
    direction: 'both ways',
    steps: [compiled.value],
    blankAs: null,
  });
  const values = Array.from({ length: 5000 }, (_, n) => value(n + 7_000_000));
  byKind.set(step.kind, (byKind.get(step.kind) ?? 0) + time(values, (one) => lens.inbound(one, undefined)));
}
const sum = [...byKind.values()].reduce((all, one) => all + one, 0);
console.log(
  `  of the reading, by kind: ${[...byKind]
    .toSorted((a, b) => b[1] - a[1])
    .slice(0, 8)
    .map(([kind, ms]) => `${kind} ${Math.round((ms / sum) * 100)} %`)
    .join(', ')}`,
);
