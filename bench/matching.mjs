/**
 * How well and how fast records are matched by evidence, on lists with known truth (bench/matching) and on the demo's.
 * Prints
 * pairwise precision at the upper threshold, recall of tied and asked pairs together, how many are asked, the same for
 * exact keys alone, and the speed beside a plain loop over the same comparison functions (the floor).
 * Settings: BENCH_RECORDS (in each large list), BENCH_SEED, BENCH_UPPER and BENCH_LOWER (thresholds in bits).
 */
import { performance } from 'node:perf_hooks';
import {
  anchorId,
  defaultThresholds,
  evidenceTexts,
  finished,
  matchFree,
  prepareColumns,
  recordKey,
  RecordMatching,
  Verdicts,
} from '@anchor-knot/core';
import { compareRecords } from '@anchor-knot/server';
import { demoCustomers, generateCustomers } from '@anchor-knot/standins';
import { companies, people } from './matching/world.mjs';

const seed = Number(process.env.BENCH_SEED ?? 7);
const thresholds = {
  upper: Number(process.env.BENCH_UPPER ?? defaultThresholds.upper),
  lower: Number(process.env.BENCH_LOWER ?? defaultThresholds.lower),
};
const records = Number(process.env.BENCH_RECORDS ?? 100_000);

const personEvidence = [
  { name: 'Name', fields: ['given', 'family'], compare: 'person name' },
  { name: 'Born', fields: ['born'], compare: 'date' },
  { name: 'Address', fields: ['street', 'postcode'], compare: 'address' },
  { name: 'Phone', fields: ['phone'], compare: 'phone' },
  { name: 'Email', fields: ['email'], compare: 'email' },
];
const companyEvidence = [
  { name: 'Company', fields: ['name'], compare: 'company name' },
  { name: 'Address', fields: ['street', 'postcode'], compare: 'address' },
  { name: 'Phone', fields: ['phone'], compare: 'phone' },
  { name: 'Email', fields: ['email'], compare: 'email' },
];

function demo() {
  const { accounts, shoppers, truth } = generateCustomers(demoCustomers);
  const thingOf = new Map(
    truth.flatMap(({ customer, crm, shop }) => [
      ...crm.map((id) => [`c${id}`, customer]),
      ...shop.map((id) => [`s${id}`, customer]),
    ]),
  );
  return {
    left: accounts.map(({ id, name, contact, address }) => ({
      thing: thingOf.get(`c${id}`),
      record: {
        name,
        given: contact.firstName,
        family: contact.lastName,
        phone: contact.phone,
        street: address.street,
        postcode: address.postcode,
        email: contact.email,
      },
    })),
    right: shoppers.map((one) => ({
      thing: thingOf.get(`s${one.id}`),
      record: {
        name: one.company_name,
        given: one.first_name,
        family: one.surname,
        phone: one.tel,
        street: one.address_line,
        postcode: one.post_code,
        email: one.mail,
      },
    })),
  };
}
const demoEvidence = [
  { name: 'Company', fields: ['name'], compare: 'company name' },
  { name: 'Contact', fields: ['given', 'family'], compare: 'person name' },
  { name: 'Phone', fields: ['phone'], compare: 'phone' },
  { name: 'Address', fields: ['street', 'postcode'], compare: 'address' },
];

const truePairs = ({ left, right }) => {
  const lefts = new Map();
  for (const [index, { thing }] of left.entries()) lefts.set(thing, [...(lefts.get(thing) ?? []), index]);
  return right.reduce((sum, { thing }) => sum + (lefts.get(thing)?.length ?? 0), 0);
};
/** Things that are in both: with duplicates inside a list, one tie a thing is all that there can be. */
const trueTies = ({ left, right }) => {
  const lefts = new Set(left.map(({ thing }) => thing));
  return new Set(right.map(({ thing }) => thing).filter((thing) => lefts.has(thing))).size;
};

/** The share of true pairs that equal values of some field alone find. */
function exactKeys(lists, keys) {
  const found = new Set();
  for (const key of keys) {
    const lefts = new Map();
    for (const [index, { record }] of lists.left.entries()) {
      const value = key(record);
      if (value) lefts.set(value, [...(lefts.get(value) ?? []), index]);
    }
    for (const [index, { record, thing }] of lists.right.entries())
      for (const other of lefts.get(key(record)) ?? [])
        if (lists.left[other].thing === thing) found.add(`${other}/${index}`);
  }
  return found.size / truePairs(lists);
}

/** Matches two lists as the command line does: all records of both, one member each. */
async function matchTwo(evidence, left, right) {
  const rows = [...left, ...right];
  const result = await compareRecords({
    evidence,
    texts: rows.map((row) => evidenceTexts(evidence, row)),
    memberOf: rows.map((_, place) => (place < left.length ? 0 : 1)),
    members: 2,
    newcomers: rows.length,
    withinMembers: false,
    least: thresholds.lower,
  });
  const records = rows.map((_, place) => ({
    member: place < left.length ? 'left' : 'right',
    key: recordKey(String(place)),
    keys: [],
    canStart: true,
  }));
  let next = 0;
  const matching = new RecordMatching(
    [],
    records,
    { withKey: () => [], tiedKey: () => undefined, anchorOf: () => undefined },
    () => anchorId(String((next += 1))),
  );
  const { joined, doubts } = finished(
    matchFree({
      matching,
      members: ['left', 'right'],
      records,
      likely: result.likely,
      thresholds,
      verdicts: new Verdicts([]),
    }),
  );
  const pairOf = ({ record, with: other, bits }, judgement) => ({
    left: other,
    right: record - left.length,
    bits,
    judgement,
  });
  const asked = doubts.flatMap((doubt) =>
    doubt.kind === 'unsure' ? [pairOf({ record: doubt.record, ...doubt.candidates[0] }, 'asked')] : [],
  );
  const duplicates = doubts.reduce((sum, doubt) => sum + (doubt.kind === 'duplicates' ? doubt.records.length : 0), 0);
  return { ...result, pairs: [...joined.map((pair) => pairOf(pair, 'tied')), ...asked], duplicates };
}

async function measure(title, lists, evidence, keys) {
  const [left, right] = [lists.left.map(({ record }) => record), lists.right.map(({ record }) => record)];
  const begun = performance.now();
  const result = await matchTwo(evidence, left, right);
  const took = performance.now() - begun;
  const isRight = ({ left: i, right: j }) => lists.left[i].thing === lists.right[j].thing;
  const tied = result.pairs.filter(({ judgement }) => judgement === 'tied');
  const asked = result.pairs.filter(({ judgement }) => judgement === 'asked');
  const ties = trueTies(lists);
  const good = tied.filter(isRight).length;
  const found = good + asked.filter(isRight).length;
  const precision = good / tied.length;
  const recall = found / ties;
  console.log(
    `${title}: ${left.length} against ${right.length}, ${ties} in both\n` +
      `  precision ${precision.toFixed(4)}  recall ${recall.toFixed(4)} (tied alone ` +
      `${(good / ties).toFixed(4)})  F1 ${((2 * precision * recall) / (precision + recall)).toFixed(4)}  ` +
      `asked ${((asked.length / ties) * 100).toFixed(1)} % of the true ones ` +
      `(${asked.filter(isRight).length} of ${asked.length} are); ${result.duplicates} records are like one ` +
      `that is tied to another\n` +
      `  exact keys alone: recall ${exactKeys(lists, keys).toFixed(3)}\n` +
      `  ${(took / 1000).toFixed(1)} s; ${result.compared} pairs compared of ` +
      `${(left.length * right.length).toExponential(1)}, ${Math.round(result.compared / (took / 1000))} a ` +
      `second in all; ${Math.round(process.memoryUsage().rss / 1e6)} MB`,
  );
  if (process.argv.includes('--weights')) {
    for (const [field, { m, u }] of result.weights.fields.entries())
      console.log(
        `    ${evidence[field].name.padEnd(10)} ` +
          m
            .map((share, level) => {
              const bits = Math.log2(share / u[level]).toFixed(1);
              return `m ${share.toFixed(3)} u ${u[level].toPrecision(2)} bits ${bits}`;
            })
            .join('  |  '),
      );
    console.log(
      `    prior ${Math.log2(result.weights.prior).toFixed(1)} bits, ` +
        `${Math.round(result.weights.prior * left.length * right.length)} expected`,
    );
  }
  if (process.argv.includes('--wrong')) {
    for (const pair of tied.filter((one) => !isRight(one)).slice(0, 12))
      console.log(
        '    wrong',
        pair.bits,
        JSON.stringify(Object.values(left[pair.left])),
        JSON.stringify(Object.values(right[pair.right])),
      );
    const chosen = new Set(result.pairs.map((pair) => `${lists.left[pair.left].thing}`));
    let shown = 0;
    for (const [index, { thing, record }] of lists.right.entries()) {
      const other = lists.left.find((one) => one.thing === thing);
      if (!other || chosen.has(`${thing}`) || shown >= 12) continue;
      shown += 1;
      console.log(
        '    missing',
        JSON.stringify(Object.values(other.record)),
        JSON.stringify(Object.values(record)),
        index,
      );
    }
  }
  return result;
}

const personKeys = [
  (one) => one.phone?.replaceAll(/\D/g, '').slice(-9),
  (one) => one.email,
  (one) => one.given && one.born && `${one.given} ${one.family} ${one.born}`.toLowerCase(),
];
const companyKeys = [
  (one) => one.phone?.replaceAll(/\D/g, '').slice(-9),
  (one) => one.email,
  (one) => one.postcode && `${one.name} ${one.postcode}`.toLowerCase(),
];
console.log(`thresholds: upper ${thresholds.upper} bits, lower ${thresholds.lower} bits`);
await measure('The demo', demo(), demoEvidence, [
  (one) => one.phone,
  (one) => one.name && one.postcode && `${one.name} ${one.postcode}`,
]);
const small = { seed, both: 3000, onlyLeft: 2000, onlyRight: 2000 };
await measure('People', people(small), personEvidence, personKeys);
await measure('Companies', companies(small), companyEvidence, companyKeys);
await measure(
  'People, most of them in one list',
  people({ seed: seed + 1, both: 800, onlyLeft: 9000, onlyRight: 200 }),
  personEvidence,
  personKeys,
);
if (records > 0) {
  const large = {
    seed: seed + 2,
    both: Math.round(records * 0.6),
    onlyLeft: Math.round(records * 0.4),
    onlyRight: Math.round(records * 0.4),
  };
  const lists = people(large);
  const fourFields = personEvidence.slice(0, 4);
  await measure('People, large lists, four fields', lists, fourFields, personKeys);

  // The floor: the same comparisons on as many pairs, one after another, with nothing around them.
  const columns = prepareColumns(
    fourFields,
    [...lists.left, ...lists.right].map(({ record }) => evidenceTexts(fourFields, record)),
  );
  const pairs = 2_000_000;
  const begun = performance.now();
  let sum = 0;
  for (let number = 0; number < pairs; number += 1) {
    const [i, j] = [(number * 7919) % lists.left.length, lists.left.length + ((number * 104_729) % lists.right.length)];
    for (const { comparison, values } of columns)
      if (values[i] !== undefined && values[j] !== undefined) sum += comparison.level(values[i], values[j]);
  }
  console.log(
    '  a plain loop over the same comparisons: ' +
      `${Math.round(pairs / ((performance.now() - begun) / 1000))} pairs a second on one core (${sum})`,
  );
}
