/** `anchor-knot match`, as a process of its own, on the demo's customers as two systems have them. */
import { spawnSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { demoCustomers, generateCustomers } from '@anchor-knot/standins';
import { parse } from 'csv-parse/sync';
import { stringify } from 'csv-stringify/sync';

let folder: string;
const { accounts, shoppers, truth } = generateCustomers(demoCustomers);
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'anchor-knot-match-'));
  const left = accounts.map(({ id, name, contact, address }) => ({ id, name, ...contact, ...address }));
  const right = shoppers.map(({ id, company_name, first_name, surname, tel, address_line, post_code, city }) => ({
    id,
    company_name,
    first_name,
    surname,
    tel,
    address_line,
    post_code,
    city,
  }));
  writeFileSync(join(folder, 'crm.csv'), stringify(left, { header: true }));
  writeFileSync(join(folder, 'shop.csv'), stringify(right, { header: true }));
  const pairs = truth.flatMap(({ crm, shop }) => crm.flatMap((a) => shop.map((b) => [a, b])));
  writeFileSync(join(folder, 'truth.csv'), stringify([['crm', 'shop'], ...pairs]));
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

function match(...words: string[]) {
  const { status, stdout, stderr } = spawnSync(
    process.execPath,
    [join(import.meta.dirname, '../../dist/commandLine/main.js'), 'match', ...words],
    {
      cwd: folder,
      encoding: 'utf8',
      env: { ...process.env, NODE_OPTIONS: '' },
    },
  );
  return { status, stdout, stderr };
}
const pairs = (name: string) =>
  parse(readFileSync(join(folder, name), 'utf8'), { columns: true }) as Record<string, string>[];

test(
  'without any rules and without an email: columns are recognised, weights learned, and the right ' + 'records found',
  () => {
    const { status, stdout } = match('crm.csv', 'shop.csv', '--truth', 'truth.csv', '--json');
    expect(status).toBe(0);
    const report = JSON.parse(stdout) as {
      evidence: { name: string; compare: string }[];
      tied: number;
      truth: { precision: number; recallWithAsked: number };
    };
    expect(Object.fromEntries(report.evidence.map(({ name, compare }) => [name, compare]))).toMatchObject({
      name: 'company name',
      phone: 'phone',
      street: 'address',
      postcode: 'code',
      lastName: 'person name',
    });
    expect(report.truth.precision).toBeGreaterThan(0.99);
    expect(report.truth.recallWithAsked).toBeGreaterThan(0.95);
  },
);

test('each pair is written with its parts, which add up to its score', () => {
  match('crm.csv', 'shop.csv');
  const written = pairs('pairs.csv');
  expect(written.length).toBeGreaterThan(200);
  for (const { left, right, decision, score, probability, prior, ...rest } of written) {
    expect([left, right]).toEqual([expect.stringMatching(/^A-/), expect.stringMatching(/^77/)]);
    expect(decision).toMatch(/^(tied|asked)/);
    const parts = Object.entries(rest).filter(([name]) => !name.endsWith(' says'));
    expect(parts.reduce((sum, [, adds]) => sum + Math.round(Number(adds) * 100), Math.round(Number(prior) * 100))).toBe(
      Math.round(Number(score) * 100),
    );
    expect(Number(probability)).toBeGreaterThan(0);
  }
});

test('rules say what is compared and from where on; duplicates of one list are found too', () => {
  writeFileSync(
    join(folder, 'rules.json'),
    JSON.stringify({
      keys: { left: 'id' },
      fields: [
        { name: 'Company', left: 'company_name', compare: 'company name' },
        { left: ['first_name', 'surname'], compare: 'person name' },
        { left: ['address_line', 'post_code'], compare: 'address' },
      ],
      thresholds: { upper: 5, lower: 0 },
    }),
  );
  const { status, stdout } = match('shop.csv', '--rules', 'rules.json', '--out', 'twice.csv', '--json');
  expect([status, JSON.parse(stdout)]).toMatchObject([
    0,
    {
      records: [322],
      evidence: [{ name: 'Company' }, { name: 'first_name surname' }, { name: 'address_line post_code' }],
    },
  ]);
  const twice = truth.filter(({ shop }) => shop.length > 1).map(({ shop }) => shop.join());
  expect(twice.length).toBeGreaterThan(2);
  const found = pairs('twice.csv')
    .map(({ left, right }) => [left, right].sort().join())
    .sort();
  // Nothing wrong; and all but those who typed nearly everything in anew, with other words.
  expect(twice).toEqual(expect.arrayContaining(found));
  expect(found.length).toBeGreaterThanOrEqual(twice.length - 1);
});

test('three lists are matched at once, and each pair names its lists', () => {
  const third = truth.slice(0, 60).flatMap(({ crm }) =>
    accounts
      .filter(({ id }) => id === crm[0])
      .map(({ id, name, contact, address }) => ({
        ref: `E${id.slice(2)}`,
        name: name?.toUpperCase(),
        ...contact,
        ...address,
      })),
  );
  writeFileSync(join(folder, 'erp.csv'), stringify(third, { header: true }));
  const { status, stdout } = match('crm.csv', 'shop.csv', 'erp.csv', '--out', 'three.csv', '--json');
  expect([status, JSON.parse(stdout)]).toMatchObject([
    0,
    { records: [accounts.length, shoppers.length, third.length] },
  ]);
  const ofThird = pairs('three.csv').filter((row) => row['right list'] === 'erp.csv' && row.decision === 'tied');
  expect(ofThird.length).toBeGreaterThan(0.9 * third.length);
  const crmOf = new Map(truth.flatMap(({ crm, shop }) => [...crm, ...shop].map((key) => [key, crm[0]?.slice(2)])));
  const wrong = ofThird.filter(({ left = '', right = '' }) => crmOf.get(left) !== right.slice(1));
  expect(wrong).toEqual([]);
});

test.each<[string, Record<string, string>, string[], RegExp]>([
  ['a list that is not there', {}, ['none.csv', 'shop.csv'], /none\.csv/],
  ['a file of another kind', { 'list.pdf': '%PDF' }, ['list.pdf'], /no list that can be read/],
  [
    'rules of another form',
    { 'r.json': '{"fields":[{"left":"name","compare":"magic"}]}' },
    ['crm.csv', 'shop.csv', '--rules', 'r.json'],
    /no rules file[\s\S]*fields\.0\.compare/,
  ],
  ['rules that are no JSON', { 'r.json': '{' }, ['crm.csv', 'shop.csv', '--rules', 'r.json'], /cannot be read/],
  [
    'a column that has gone',
    { 'r.json': '{"fields":[{"left":"fax","compare":"phone"}]}' },
    ['crm.csv', 'shop.csv', '--rules', 'r.json'],
    /no column “fax”; it has id, name/,
  ],
  [
    'thresholds the wrong way round',
    { 'r.json': '{"thresholds":{"upper":1,"lower":2}}' },
    ['crm.csv', 'shop.csv', '--rules', 'r.json'],
    /lower may not be above upper/,
  ],
  [
    'nothing to go by',
    { 'a.csv': 'id,vip\n1,yes\n2,no\n', 'b.csv': 'id,vip\n1,yes\n2,no\n' },
    ['a.csv', 'b.csv'],
    /No columns were found/,
  ],
  [
    'a truth of one column',
    { 't.csv': 'a\nb\n' },
    ['crm.csv', 'shop.csv', '--truth', 't.csv'],
    /t\.csv, line 1: a pair has two values/,
  ],
])('%s: said in a sentence, with nothing written', (_, files, words, says) => {
  for (const [name, text] of Object.entries(files)) writeFileSync(join(folder, name), text);
  const { status, stderr } = match(...words, '--out', 'nothing.csv');
  expect([status, stderr]).toEqual([1, expect.stringMatching(says)]);
  expect(stderr).not.toMatch(/at .*\.js:\d/);
});

test('records that are all alike, and lists without a row, are bounded work and a clear answer', () => {
  const rows = Array.from({ length: 3000 }, (_, index) => `${index},Glasshouse Ltd,HZ4 8QD`).join('\n');
  writeFileSync(join(folder, 'same.csv'), `id,company,postcode\n${rows}\n`);
  writeFileSync(
    join(folder, 'rules.json'),
    JSON.stringify({
      fields: [
        { left: 'company', compare: 'company name' },
        { left: 'postcode', compare: 'exact' },
      ],
    }),
  );
  const all = match('same.csv', '--rules', 'rules.json', '--out', 'same-pairs.csv', '--json');
  expect([all.status, JSON.parse(all.stdout)]).toMatchObject([0, { records: [3000], compared: 0, tied: 0 }]);
  writeFileSync(join(folder, 'empty.csv'), 'id,company,postcode\n');
  const none = match('same.csv', 'empty.csv', '--rules', 'rules.json', '--out', 'none.csv', '--json');
  expect([none.status, JSON.parse(none.stdout)]).toMatchObject([0, { records: [3000, 0], tied: 0, asked: 0 }]);
});
