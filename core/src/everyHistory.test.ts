/**
 * Every history of a few events on two and three members, tried out completely. `HISTORY_DEPTH` says how many events;
 * the default is what fits into every test run.
 */
import type { Knot, Rule } from './definition/index.js';
import { type Happening, playInWorld } from './testing/history.js';
import { smallKnot, type SmallKnot } from './testing/smallKnot.js';

const depth = Number(process.env.HISTORY_DEPTH ?? 2);
const edit = (member: number, path: string, value: string | null): Happening => ({
  kind: 'edit',
  member,
  record: 0,
  path,
  value,
});

const order: Rule = { steps: [{ step: 'order', members: ['a', 'b', 'c'] }] };
const ask: Rule = { steps: [{ step: 'ask' }] };
const newest: Rule = { steps: [{ step: 'newest' }, { step: 'ask' }] };

const knots: readonly (readonly [name: string, knot: Omit<SmallKnot, 'members'>])[] = [
  ['an order of members', { rule: order }],
  ['asking, and deleting the others', { rule: ask, whenDeleted: 'delete' }],
  ['the newest, and archiving the others', { rule: newest, whenDeleted: 'archive' }],
  ['combined text, the last one cut', { rule: { combine: 'text', ...ask }, lastSteps: [{ kind: 'cut', length: 3 }] }],
  ['asking, the last one only receiving and left alone', { rule: ask, last: 'to', drift: 'leave' }],
  ['adopting, the last one only receiving', { rule: order, start: 'adopt', last: 'to' }],
  ['adopting, and deleting the others', { rule: ask, start: 'adopt', whenDeleted: 'delete' }],
];

function eventsOf(members: number): readonly Happening[] {
  const last = members - 1;
  return [
    edit(0, 'f', 'A'),
    edit(0, 'f', null),
    edit(0, 'g', 'G'),
    edit(last, 'f', 'Bcdef'),
    edit(last, 'f', null),
    edit(1, 'g', 'H'),
    { kind: 'delete', member: 0, record: 0 },
    { kind: 'delete', member: last, record: 0 },
    { kind: 'run' },
    { kind: 'run', fates: ['fails'] },
    { kind: 'run', fates: ['raced'], race: { path: 'g', value: 'R' } },
    { kind: 'run', fates: ['raced', 'ok'], race: { path: 'f', value: 'Q' } },
    { kind: 'run', fates: ['emptied'] },
    { kind: 'run', fates: ['altered', 'silent'] },
    { kind: 'run', missing: 0 },
    { kind: 'act', act: { kind: 'settle', choice: 1 } },
    { kind: 'act', act: { kind: 'untie', member: 1, record: 0 } },
    { kind: 'run', meanwhile: { moment: 'writing', act: { kind: 'settle', choice: 0 } } },
  ];
}

const begin = (members: number): Happening[] =>
  ['f', 'g'].flatMap((path) => [...Array(members).keys()].map((member) => edit(member, path, 'old')));

function* historiesOf(events: readonly Happening[], length: number): Generator<readonly Happening[]> {
  if (length === 0) yield [];
  else for (const rest of historiesOf(events, length - 1)) for (const event of events) yield [...rest, event];
}

/** What is wrong with a history: edits lost, values made up, records in no list; or not quiet at the end. */
async function faultsOf(knot: Knot, history: readonly Happening[]): Promise<string[]> {
  const play = await playInWorld([knot]).play([...begin(knot.members.length), { kind: 'run' }, ...history]);
  await play.run();
  await play.run();
  const quiet = await play.run();
  return [...play.faults, ...quiet.operations.map((operation) => `not quiet: ${JSON.stringify(operation)}`)];
}

test.each(knots.flatMap(([name, knot]) => [2, 3].map((members) => [members, name, knot] as const)))(
  'every history of %i members with %s: nothing is lost, nothing is made up',
  async (members, _, small) => {
    const knot = smallKnot({ members, ...small });
    let tried = 0;
    for (const history of historiesOf(eventsOf(members), depth)) {
      tried += 1;
      const faults = await faultsOf(knot, history);
      if (faults.length > 0) throw new Error(`${JSON.stringify(history)}\n${faults.join('\n')}`);
    }
    expect(tried).toBe(eventsOf(members).length ** depth);
  },
  3_600_000,
);
