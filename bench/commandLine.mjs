/**
 * The command line over two CSV files of 20 columns: a first run, one with nothing changed, one with a row in ten
 * edited. Printed as times, as ratios to a floor measured in the same run (reading and parsing both files), and with
 * the
 * most memory that the process had. Sizes may be given: `npm run bench:files -- 10000 30000`.
 */
import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parse } from 'csv-parse/sync';

const given = process.argv.slice(2).map(Number).filter(Boolean);
const sizes = given.length > 0 ? given : [10_000, 30_000, 100_000];
const columns = ['mail', ...Array.from({ length: 18 }, (_, index) => `field${index + 1}`)];
const members = ['left', 'right'];

const knotFile = {
  format: 'anchor-knot',
  formatVersion: 1,
  systems: Object.fromEntries(
    members.map((id) => [
      id,
      {
        kind: 'files',
        name: id,
        folder: '.',
        objects: { rows: { path: `${id}.csv`, format: 'csv', key: 'id' } },
      },
    ]),
  ),
  knot: {
    id: 'rows',
    name: 'Rows',
    thing: 'row',
    titleField: 'mail',
    start: 'merge',
    members: members.map((id) => ({ id, system: id, object: 'rows', may: { create: true, update: true } })),
    fields: columns.map((name) => ({
      id: name,
      name,
      type: 'text',
      rule: { steps: [{ step: 'order', members }] },
      mappings: Object.fromEntries(members.map((id) => [id, { field: name, direction: 'both ways' }])),
    })),
    keyRules: [{ name: 'Mail', fields: [{ field: 'mail', normalise: 'email' }] }],
  },
};

const rowOf = (number, edit) =>
  columns.map((name, index) => (index === 0 ? `row${number}@x.example` : `${name} of ${number}${edit}`)).join(',');

function writeList(folder, id, count, edited) {
  const rows = Array.from(
    { length: count },
    (_, number) => `${id[0]}${number},${rowOf(number, edited && number % 10 === 0 ? ' edited' : '')}`,
  );
  writeFileSync(join(folder, `${id}.csv`), `id,${columns.join(',')}\n${rows.join('\n')}\n`);
}

/** Runs the command as a process of its own. @returns seconds, and the most memory in MB */
async function run(folder) {
  const started = performance.now();
  const child = spawn(
    process.execPath,
    [join(import.meta.dirname, '../server/dist/commandLine/main.js'), 'run', 'rows.knot.json', '--over-guards'],
    {
      cwd: folder,
      stdio: ['ignore', 'ignore', 'inherit'],
    },
  );
  let most = 0;
  const watch = setInterval(() => {
    try {
      const [, peak] = /VmHWM:\s+(\d+)/.exec(readFileSync(`/proc/${child.pid}/status`, 'utf8')) ?? [];
      most = Math.max(most, Number(peak ?? 0) / 1024);
    } catch {
      // It has just ended.
    }
  }, 200);
  const code = await new Promise((resolve) => child.on('exit', resolve));
  clearInterval(watch);
  if (code !== 0) throw new Error(`the run ended with ${code}`);
  return { seconds: (performance.now() - started) / 1000, most };
}

function floor(folder) {
  const started = performance.now();
  for (const id of members) parse(readFileSync(join(folder, `${id}.csv`)), { columns: true });
  return (performance.now() - started) / 1000;
}

for (const count of sizes) {
  const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-bench-'));
  try {
    writeFileSync(join(folder, 'rows.knot.json'), JSON.stringify(knotFile));
    for (const id of members) writeList(folder, id, count, false);
    const base = floor(folder);
    console.log(`${count} rows in each of two files; the floor is ${base.toFixed(2)} s`);
    const tell = (name, { seconds, most }) =>
      console.log(
        `  ${name.padEnd(22)} ${seconds.toFixed(1).padStart(7)} s  ${(seconds / base).toFixed(1).padStart(6)} times  ` +
          `${((seconds * 1e6) / count).toFixed(0).padStart(6)} µs a row  ${most.toFixed(0).padStart(5)} MB`,
      );
    tell('first run', await run(folder));
    tell('nothing changed', await run(folder));
    writeList(folder, 'left', count, true);
    tell('one row in ten edited', await run(folder));
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}
