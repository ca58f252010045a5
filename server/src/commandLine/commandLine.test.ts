import { spawnSync } from 'node:child_process';
import {
  chmodSync,
  cpSync,
  existsSync,
  lstatSync,
  mkdtempSync,
  readFileSync,
  renameSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
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

test(
  'a folder that another run has is left alone; a lock whose process is gone, or is another one ' + 'now, is taken',
  () => {
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    const lock = (content: unknown) =>
      writeFileSync(
        join(folder, 'customers.state/lock'),
        typeof content === 'string' ? content : JSON.stringify(content),
      );
    const stat = readFileSync(`/proc/${process.pid}/stat`, 'utf8');
    const began = stat.slice(stat.lastIndexOf(')') + 2).split(' ')[19];
    lock({ pid: process.pid, began });
    expect(anchorKnot('run', 'customers.knot.json')).toMatchObject({
      status: 1,
      stderr: expect.stringContaining('in use by another run') as unknown as string,
    });
    // The number of a process that ended belongs to another one now.
    for (const stale of [{ pid: process.pid, began: '1' }, { pid: 4_000_000 }, 'cut in ha']) {
      lock(stale);
      expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    }
    writeFileSync(join(folder, 'customers.state/state.json'), '{"stateVersion":1,');
    expect(anchorKnot('run', 'customers.knot.json')).toMatchObject({
      status: 1,
      stderr: expect.stringContaining('made by an earlier version') as unknown as string,
    });
  },
);

describe('files that are not as they were', () => {
  /** The example with deletions that are followed, and so many customers in both lists. */
  const withCustomers = (count: number): void => {
    const definition = JSON.parse(read('customers.knot.json')) as {
      knot: { members: { may: Record<string, boolean>; whenDeleted?: string }[]; checks?: unknown[] };
    };
    for (const member of definition.knot.members) {
      member.may.delete = true;
      member.whenDeleted = 'delete';
    }
    writeFileSync(join(folder, 'customers.knot.json'), JSON.stringify(definition));
    const [header] = read('office.csv').split('\n');
    const rows = Array.from({ length: count }, (_, index) => `${index},Customer ${index},c${index}@x.example,,,`);
    writeFileSync(join(folder, 'office.csv'), `${header}\n${rows.join('\n')}\n`);
    writeFileSync(join(folder, 'van.jsonl'), '');
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
  };

  test('a small list that is suddenly empty, or lacks most, removes nothing from the other', () => {
    withCustomers(15);
    const van = read('van.jsonl');
    expect(lines('van.jsonl')).toHaveLength(15);
    const [header, ...rows] = read('office.csv').trimEnd().split('\n');
    for (const left of [[], rows.slice(0, 5)]) {
      writeFileSync(join(folder, 'office.csv'), [header, ...left, ''].join('\n'));
      const run = anchorKnot('run', 'customers.knot.json');
      expect([run.status, run.stderr]).toEqual([1, expect.stringContaining('too many to believe')]);
      expect(read('van.jsonl')).toBe(van);
    }
    writeFileSync(join(folder, 'office.csv'), [header, ...rows, ''].join('\n'));
    const office = read('office.csv');
    writeFileSync(join(folder, 'van.jsonl'), '');
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(1);
    expect(read('office.csv')).toBe(office);
    // One that is gone is believed; many are, once somebody says so.
    writeFileSync(join(folder, 'van.jsonl'), van.split('\n').slice(1).join('\n'));
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    expect(read('office.csv').trimEnd().split('\n')).toHaveLength(15);
    writeFileSync(join(folder, 'van.jsonl'), '');
    expect(anchorKnot('run', 'customers.knot.json', '--over-guards').status).toBe(0);
    expect(read('office.csv').trimEnd().split('\n')).toHaveLength(1);
  });

  test('a link is written through, a read-only file is refused while others are written, lists are right', () => {
    anchorKnot('run', 'customers.knot.json');
    renameSync(join(folder, 'office.csv'), join(folder, 'real.csv'));
    symlinkSync(join(folder, 'real.csv'), join(folder, 'office.csv'));
    edit('van.jsonl', '"town": "Ashcombe"', '"town": "Thornquay"');
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    expect(lstatSync(join(folder, 'office.csv')).isSymbolicLink()).toBe(true);
    expect(read('real.csv')).toContain('Thornquay');
    chmodSync(join(folder, 'van.jsonl'), 0o444);
    const van = read('van.jsonl');
    writeFileSync(join(folder, 'real.csv'), read('real.csv').replace('Thornquay', 'Marram'));
    const run = anchorKnot('run', 'customers.knot.json');
    expect([run.status, run.stderr]).toEqual([1, expect.stringContaining('it is read-only')]);
    expect(read('van.jsonl')).toBe(van);
    expect(existsSync(join(folder, 'van.jsonl.writing'))).toBe(false);
    expect(lines('customers.state/held.jsonl')).toEqual([]);
    chmodSync(join(folder, 'van.jsonl'), 0o644);
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    expect(read('van.jsonl')).toContain('Marram');
  });

  test('a column that a mapping names and the file has not is told, and nothing is touched', () => {
    const van = read('van.jsonl');
    writeFileSync(join(folder, 'office.csv'), read('office.csv').replace('town', 'city'));
    const run = anchorKnot('run', 'customers.knot.json');
    expect([run.status, run.stderr]).toEqual([1, expect.stringContaining('there is no column “town”')]);
    expect(read('van.jsonl')).toBe(van);
  });

  test('a value that must be unique is compared with the records of earlier runs', () => {
    edit(
      'customers.knot.json',
      '"checks": [',
      '"checks": [{ "id": "once", "says": "a name twice", "onFail": "reject", "unique": "name" },',
    );
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    writeFileSync(join(folder, 'office.csv'), `${read('office.csv')}9,Saltpan Growers,other@x.example,,,\n`);
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    const rejected = lines('customers.state/rejected.jsonl').filter(({ member }) => member === 'office');
    expect(rejected.map(({ key }) => key).sort()).toEqual(['2', '9']);
  });
});

describe('a full disk', () => {
  /** A small file system on the folder, where this machine lets one be mounted. */
  const mounted = (megabytes: number): boolean =>
    spawnSync('mount', ['-t', 'tmpfs', '-o', `size=${megabytes}m`, 'anchor-knot-disk', folder]).status === 0;
  afterEach(() => spawnSync('umount', [folder]));
  const full = expect.stringMatching(/The disk that .* is on is full/) as unknown as string;

  test('a list that cannot be written is told in words, and the next run writes it', () => {
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    const journal = join(folder, 'customers.state/journal.jsonl');
    renameSync(journal, `${journal}.kept`);
    symlinkSync('/dev/full', journal);
    edit('van.jsonl', '"town": "Ashcombe"', '"town": "Thornquay"');
    expect(anchorKnot('run', 'customers.knot.json')).toMatchObject({ status: 1, stderr: full });
    expect(read('office.csv')).toContain('Thornquay');
    renameSync(`${journal}.kept`, journal);
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    const towns = lines('customers.state/journal.jsonl').filter(({ field }) => field === 'town');
    expect(towns.map(({ after }) => after)).toContain('Thornquay');
  });

  test('where a first run finds no room nothing is left that is in the way of the next', () => {
    if (!mounted(24)) return;
    cpSync(example, folder, { recursive: true });
    expect(anchorKnot('run', 'customers.knot.json')).toMatchObject({ status: 1, stderr: full });
    expect(existsSync(join(folder, 'customers.state/database'))).toBe(false);
    expect(read('office.csv')).toBe(readFileSync(join(example, 'office.csv'), 'utf8'));
    spawnSync('mount', ['-o', 'remount,size=200m', folder]);
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    expect(read('office.csv')).toContain('Hazelmoor Mill');
  });

  test('where a later run finds no room the one after it takes up where it stood', () => {
    if (!mounted(200)) return;
    cpSync(example, folder, { recursive: true });
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    edit('van.jsonl', '"town": "Ashcombe"', '"town": "Thornquay"');
    spawnSync('dd', ['if=/dev/zero', `of=${join(folder, 'filler')}`, 'bs=64k']);
    expect(anchorKnot('run', 'customers.knot.json')).toMatchObject({ status: 1, stderr: full });
    expect(read('van.jsonl')).toContain('Thornquay');
    rmSync(join(folder, 'filler'));
    expect(anchorKnot('run', 'customers.knot.json').status).toBe(0);
    expect(read('office.csv')).toContain('Thornquay');
    expect(JSON.parse(anchorKnot('run', 'customers.knot.json', '--json').stdout)).toMatchObject({
      members: { office: { update: 0 }, van: { update: 0 } },
    });
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
