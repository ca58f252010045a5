import { spawnSync } from 'node:child_process';
import { cpSync, existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';

const example = join(import.meta.dirname, '../../../examples/two-lists');
let folder: string;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'anchor-knot-cli-'));
  cpSync(example, folder, { recursive: true });
});
afterEach(() => rmSync(folder, { recursive: true, force: true }));

/** The real command, as a process of its own. */
function anchorKnot(...words: string[]) {
  const { status, stdout, stderr } = spawnSync(
    process.execPath,
    [join(import.meta.dirname, '../../dist/commandLine/main.js'), ...words],
    {
      cwd: folder,
      encoding: 'utf8',
      env: { ...process.env, NODE_OPTIONS: '' },
    },
  );
  return { status, stdout, stderr };
}
const read = (name: string): string => readFileSync(join(folder, name), 'utf8');
const lines = (name: string) =>
  read(name)
    .split('\n')
    .filter(Boolean)
    .map((line) => JSON.parse(line) as Record<string, unknown>);
const edit = (name: string, from: string, to: string): void =>
  writeFileSync(join(folder, name), read(name).replace(from, to));

test('checks, dry-runs and runs the example; a second run writes nothing at all', () => {
  expect(anchorKnot('check', 'customers.knot.json')).toMatchObject({
    status: 0,
    stdout: expect.stringContaining('can be run') as unknown as string,
  });
  const before = read('office.csv') + read('van.jsonl');
  expect(anchorKnot('dry-run', 'customers.knot.json').status).toBe(0);
  expect(read('office.csv') + read('van.jsonl')).toBe(before);
  expect(lines('customers.state/plan.jsonl')).toHaveLength(5);
  const run = anchorKnot('run', 'customers.knot.json', '--json');
  expect(JSON.parse(run.stdout)).toMatchObject({
    state: 'succeeded',
    members: { office: { create: 1, update: 2 }, van: { create: 1, update: 1 } },
  });
  expect(read('office.csv')).toContain('1,Osprey & Daughters Nursery,yard@osprey.example,01632 960417,Hazelmoor Mill');
  expect(read('office.csv.bak') + read('van.jsonl.bak')).toBe(before);
  expect(
    lines('customers.state/journal.jsonl')
      .filter(({ kind }) => kind === 'update')
      .map(({ field, after }) => [field, after]),
  ).toEqual(
    expect.arrayContaining([
      ['town', 'Hazelmoor Mill'],
      ['phone', '01632 960733'],
    ]),
  );
  const after = read('office.csv') + read('van.jsonl') + read('customers.state/journal.jsonl');
  expect(JSON.parse(anchorKnot('run', 'customers.knot.json', '--json').stdout)).toMatchObject({
    members: { office: { create: 0, update: 0 }, van: { create: 0, update: 0 } },
  });
  expect(read('office.csv') + read('van.jsonl') + read('customers.state/journal.jsonl')).toBe(after);
});

test('edits on both sides cross, a conflict under ask is held in a file, and a missing name is rejected', () => {
  anchorKnot('run', 'customers.knot.json');
  edit('office.csv', '01632 960522', '01632 960523');
  edit('van.jsonl', '"+441632960522"', '"+441632960524"');
  edit('van.jsonl', '"town": "Ashcombe"', '"town": "Thornquay"');
  writeFileSync(join(folder, 'office.csv'), `${read('office.csv')}9,,nameless@x.example,,,\n`);
  expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
  expect(read('office.csv')).toMatch(/Foxglove Academy,garden@foxglove.example,,Thornquay/);
  expect(lines('customers.state/held.jsonl')).toMatchObject([{ title: 'Saltpan Growers', field: 'phone' }]);
  expect(lines('customers.state/rejected.jsonl')).toMatchObject([
    { key: '9', says: expect.stringContaining('the name is missing') as unknown as string },
  ]);
  expect(read('van.jsonl')).not.toContain('nameless');
});

test('a mapping that is moved to another column starts anew there, and nothing looks edited', () => {
  anchorKnot('run', 'customers.knot.json');
  writeFileSync(
    join(folder, 'office.csv'),
    read('office.csv')
      .split('\n')
      .map((line, index) => (line === '' ? '' : `${line},${index === 0 ? 'place' : ''}`))
      .join('\n'),
  );
  edit(
    'customers.knot.json',
    '"field": "town", "direction": "both ways", "blankAs"',
    '"field": "place", "direction": "both ways", "blankAs"',
  );
  expect(JSON.parse(anchorKnot('run', 'customers.knot.json', '--json').stdout)).toMatchObject({
    members: { office: { update: 4 }, van: { update: 0 } },
  });
  expect(read('office.csv')).toMatch(/^1,.*,Hazelmoor Mill,2026-11-02T09:00:00Z,Hazelmoor Mill$/m);
});

test('a state that cannot be stored before the files are written stops the run; a killed run is taken up', () => {
  anchorKnot('run', 'customers.knot.json');
  writeFileSync(join(folder, 'customers.state/state.json'), '{"stateVersion":1,');
  expect(anchorKnot('run', 'customers.knot.json')).toMatchObject({
    status: 1,
    stderr: expect.stringContaining('cannot be read') as unknown as string,
  });
  writeFileSync(join(folder, 'customers.state/lock'), String(process.pid));
  expect(anchorKnot('run', 'customers.knot.json')).toMatchObject({
    status: 1,
    stderr: expect.stringContaining('in use by another run') as unknown as string,
  });
});

test.each<[string, () => void, string[], number, RegExp]>([
  ['no such file', () => undefined, ['run', 'nothing.json'], 1, /there is no such file/],
  [
    'a knot file that is not JSON',
    () => writeFileSync(join(folder, 'customers.knot.json'), '{'),
    ['check', 'customers.knot.json'],
    1,
    /JSON/,
  ],
  [
    'a knot file of another version',
    () => edit('customers.knot.json', '"formatVersion": 1', '"formatVersion": 2'),
    ['check', 'customers.knot.json'],
    1,
    /formatVersion/,
  ],
  [
    'a member whose system is missing',
    () => edit('customers.knot.json', '"system": "van"', '"system": "truck"'),
    ['check', 'customers.knot.json'],
    1,
    /knot.members.van.system: this file brings no system “truck”/,
  ],
  [
    'a CSV file with one key twice',
    () => edit('office.csv', '2,Saltpan', '1,Saltpan'),
    ['run', 'customers.knot.json'],
    1,
    /office\.csv: lines 2 and 3 have the same key/,
  ],
  [
    'a missing data file',
    () => rmSync(join(folder, 'van.jsonl')),
    ['run', 'customers.knot.json'],
    1,
    /van.jsonl: there is no such file/,
  ],
  ['an unknown option', () => undefined, ['run', 'customers.knot.json', '--force'], 2, /--force/],
  ['no command', () => undefined, [], 2, /anchor-knot check FILE/],
])('%s ends with a clear message and a code, and no data file is touched', (_, spoil, words, status, says) => {
  spoil();
  const before = read('office.csv');
  const result = anchorKnot(...words);
  expect(result.status).toBe(status);
  expect(result.stderr).toMatch(says);
  expect(read('office.csv')).toBe(before);
  expect(existsSync(join(folder, 'office.csv.writing'))).toBe(false);
});

test(
  'a row that cannot be read is named and left as it is; the others are kept the same, and nothing is ' +
    'created beside it',
  () => {
    edit('office.csv', '2,Saltpan', '2,x,Saltpan');
    const result = anchorKnot('run', 'customers.knot.json');
    expect(result.stderr).toMatch(/line 3: it has 7 values, the header has 6/);
    const lines = read('office.csv').trim().split('\n');
    expect(lines[2]).toMatch(/^2,x,Saltpan/);
    // The phone of another row has come; a row for somebody new has not: it may be the one that cannot be read.
    expect(lines.filter((line) => line.startsWith('n-'))).toEqual([]);
    expect(lines[3]).toContain('01632 960733');
  },
);
