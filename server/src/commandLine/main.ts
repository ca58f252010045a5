/** `anchor-knot check | dry-run | run FILE`, `match LIST LIST`: work on files, with no server and no database. */
import { parseArgs } from 'node:util';
import { setFlagsFromString } from 'node:v8';
import type { RunResult } from '../orchestration/runResult.js';
import { type MatchReport, matchLists } from './matchLists.js';
import { BadKnotFile, checkFiles, readFileKnot, runFileKnot } from './fileKnot.js';

// What a run holds is let go in batches: memory is to be given back soon rather than to grow to the largest heap.
setFlagsFromString('--heap-growing-percent=20');

const usage = `anchor-knot: keeps records the same in several files

  anchor-knot check FILE      says what is wrong with a knot file and its members' files
  anchor-knot dry-run FILE    says what a run would write; writes nothing but its plan
  anchor-knot run FILE        runs: updates the files in place and keeps a backup of each (.bak)

  anchor-knot match LIST [LIST ...]   which records of two or more lists are the same thing; of one list: its duplicates
      --rules FILE     which columns are compared and how (JSON); recognised and learned from the data without it
      --out FILE       where the pairs go, as CSV with score, parts and decision; pairs.csv unless given
      --truth FILE     CSV with the pairs that are true, left key and right key: prints precision and recall

  anchor-knot rotate-key      encrypts the secrets of a server's systems under another key; DATABASE_URL, SECRET_KEY
                              and NEW_SECRET_KEY come from the environment; stop the server and the workers before

  --state FOLDER   where state, journal and lists are kept; FILE without .knot.json, with .state, unless given
  --json           print the counts as JSON
  --over-guards    let this run go over the guards
  --help           this text

Exit codes: 0 done; 1 something is wrong with a file, or a member could not be read or written; 2 wrong call;
3 stopped by a guard or a check, nothing was written.`;

const mostLists = 20;
const lists = 'held.jsonl, rejected.jsonl and waiting.jsonl';

const columns = [
  ['create', 'created'],
  ['update', 'updated'],
  ['archive', 'archived'],
  ['delete', 'deleted'],
  ['leftAlone', 'left alone'],
  ['held', 'held'],
  ['rejected', 'rejected'],
  ['waiting', 'waiting'],
  ['failed', 'not written'],
] as const;

async function main(): Promise<number> {
  let parsed;
  try {
    parsed = parseArgs({
      allowPositionals: true,
      options: {
        state: { type: 'string' },
        json: { type: 'boolean', default: false },
        'over-guards': { type: 'boolean', default: false },
        rules: { type: 'string' },
        out: { type: 'string' },
        truth: { type: 'string' },
        help: { type: 'boolean', default: false },
      },
    });
  } catch (error) {
    console.error(`${(error as Error).message}\n\n${usage}`);
    return 2;
  }
  const {
    positionals: [command, file, ...rest],
    values,
  } = parsed;
  if (values.help) {
    console.log(usage);
    return 0;
  }
  if (command === 'rotate-key' && file === undefined) {
    // What talks to a server's database is loaded for this alone: it would double the time of each start.
    const { rotateKey } = await import('../systems/rotateKey.js');
    console.log(
      `${await rotateKey(process.env)} secrets are under the new key. Start the server and the workers with it.`,
    );
    return 0;
  }
  if (command === 'match' && file !== undefined && rest.length < mostLists) {
    const { json, rules, out = 'pairs.csv', truth } = values;
    const report = await matchLists({
      lists: [file, ...rest],
      rules,
      out,
      truth,
      onProgress: json || !process.stderr.isTTY ? undefined : tellProgress,
    });
    if (json) console.log(JSON.stringify(report));
    else printMatch(report);
    return 0;
  }
  if (!['check', 'dry-run', 'run'].includes(command ?? '') || file === undefined || rest.length > 0) {
    console.error(usage);
    return 2;
  }
  const knot = readFileKnot(file);
  if (command === 'check') {
    const members = await checkFiles(knot);
    const problems = members.flatMap((member) => member.problems);
    if (values.json) console.log(JSON.stringify({ knot: knot.knot.id, members, ok: problems.length === 0 }));
    else
      for (const { member, records, problems: found } of members)
        console.log(`${member}: ${records} records${found.length > 0 ? `\n  ${found.join('\n  ')}` : ''}`);
    if (problems.length === 0 && !values.json) console.log(`${knot.knot.name} can be run.`);
    return problems.length === 0 ? 0 : 1;
  }
  const kind = command === 'run' ? 'run' : 'dry run';
  const { result, waiting } = await runFileKnot(knot, {
    kind,
    stateFolder: values.state,
    overGuards: values['over-guards'],
  });
  if (values.json)
    console.log(
      JSON.stringify({
        knot: knot.knot.id,
        kind,
        state: result.state,
        members: result.progress.tally,
        troubles: result.troubles,
        guards: result.guards,
        waiting,
      }),
    );
  else print(result, kind, waiting);
  for (const { words, advice } of result.troubles) console.error(`${words}. ${advice}`);
  if (result.state.startsWith('stopped by')) {
    console.error(`${result.words ?? result.state}. Nothing was written.`);
    return 3;
  }
  // Single records that failed are in the lists; what could not be read or reached at all is an error.
  return result.state.startsWith('succeeded') && result.troubles.length === 0 ? 0 : 1;
}

function print(result: RunResult, kind: string, waiting: number): void {
  const rows = Object.entries(result.progress.tally);
  const width = Math.max(6, ...rows.map(([member]) => member.length));
  console.log([''.padEnd(width), ...columns.map(([, name]) => name.padStart(11))].join(''));
  for (const [member, tally] of rows)
    console.log([member.padEnd(width), ...columns.map(([key]) => String(tally[key]).padStart(11))].join(''));
  console.log(
    kind === 'dry run'
      ? 'Nothing was written; the plan is in plan.jsonl of the state folder.'
      : `${rows.reduce((sum, [, { written }]) => sum + written, 0)} records ` +
          `written${waiting > 0 ? `; ${waiting} things wait for a person, see ${lists}` : ''}.`,
  );
}

function tellProgress(done: number, total: number): void {
  process.stderr.write(`\r${done} of ${total} records compared${done === total ? '\n' : ''}`);
}

function printMatch({ records, evidence, compared, tied, asked, rejected, out, truth }: MatchReport): void {
  console.log(`${records.join(' records against ')} records; ${compared} pairs compared.`);
  for (const { name, compare, learned } of evidence)
    console.log(`  ${name}, as ${compare}: ${learned.join(' bits, ')} bits`);
  console.log(`${tied} pairs are the same thing, ${asked} are for a person to say. All of them are in ${out}.`);
  if (rejected > 0) console.log(`${rejected} lines could not be read and were left out.`);
  if (truth)
    console.log(
      `Of ${truth.pairs} true pairs: precision ${truth.precision.toFixed(4)}, recall ` +
        `${truth.recall.toFixed(4)}, with those asked about ${truth.recallWithAsked.toFixed(4)}.`,
    );
}

main().then(
  (code) => (process.exitCode = code),
  (error: unknown) => {
    console.error(error instanceof BadKnotFile || error instanceof Error ? error.message : error);
    process.exitCode = 1;
  },
);
