/** Records that are made one after the other: what cannot be made now holds up those after it, and nothing else. */
import type { Anchor, CompiledKnot, Operation } from '@anchor-knot/core';
import { type Connector, SystemTrouble, type WriteOutcome, type WriteRequest } from '@anchor-knot/connectors';
import { inOrder } from './inOrder.js';
import type { Installation } from './installation.js';
import type { Intent, PlanEntry } from './stored.js';
import { writeMember } from './writeOperations.js';

const knot = (type: string, inOrderOf: string | null = 'at') =>
  ({
    id: 'k',
    members: [{ id: 'm', inOrderOf: inOrderOf ?? undefined, may: { create: true } }],
    fields: [{ id: 'at', type }],
    member: () => ({ id: 'm', inOrderOf: inOrderOf ?? undefined }),
  }) as unknown as CompiledKnot;
const entry = (anchor: string, value?: string): PlanEntry =>
  ({ anchor, after: { agreed: value === undefined ? {} : { at: { value } } } }) as unknown as PlanEntry;
const order = (of: CompiledKnot, ...entries: PlanEntry[]) => inOrder(of, entries).map(({ anchor }) => anchor);

test('entries go by what they agree on: times and texts as they are, numbers as numbers, what has none last', () => {
  const dates = [entry('a'), entry('b', '2026-10-02'), entry('c', '2026-09-30'), entry('d', '2026-10-02')];
  expect(order(knot('date'), ...dates)).toEqual(['c', 'b', 'd', 'a']);
  expect(order(knot('number'), entry('a', '10'), entry('b'), entry('c', '9.5'))).toEqual(['c', 'a', 'b']);
  expect(order(knot('text'), entry('a', '10'), entry('b', '9.5'))).toEqual(['a', 'b']);
  expect(order(knot('date', null), ...dates)).toEqual(['a', 'b', 'c', 'd']);
});

/**
 * Writes five records, of which the third ends as said, however often it is tried.
 * @returns how each ended, how many calls it took, and how many were under way at most
 */
async function written(third: Operation['kind'], end: WriteOutcome | Error, isInOrder = true) {
  const calls: string[] = [];
  let [underWay, mostAtOnce] = [0, 0];
  const nameOf = (request: WriteRequest | undefined): string =>
    request?.kind === 'create' ? request.idempotencyKey : (request?.key ?? '');
  const connector = {
    capabilities: { batchSize: 1, conditionalUpdate: true },
    write: async ([request]: readonly WriteRequest[]): Promise<WriteOutcome[]> => {
      const name = nameOf(request);
      calls.push(name);
      mostAtOnce = Math.max(mostAtOnce, (underWay += 1));
      await new Promise((done) => setTimeout(done, 1));
      underWay -= 1;
      if (!name.includes('a2')) return [{ kind: 'written', key: name as never, record: undefined }];
      if (end instanceof Error) throw end;
      return [end];
    },
  } as unknown as Connector;
  const intents = Array.from({ length: 5 }, (_, place): Intent => {
    const anchor = `a${place}`;
    const operation = { kind: place === 2 ? third : 'create', anchor, member: 'm', key: anchor, changes: [] };
    return { id: anchor, operation: operation as unknown as Operation, storedAt: 0 };
  });
  const installation = { clock: { sleep: async () => undefined } } as unknown as Installation;
  const of = knot('date', isInOrder ? 'at' : null);
  const { ends } = await writeMember(installation, of, 'm', connector, intents, new Map<never, Anchor>(), () => false);
  return { states: ends.map(({ state }) => state), calls: calls.length, mostAtOnce };
}
const [done, undone] = ['written', 'not done'] as const;

test('one is made at a time; what is refused holds up nothing', async () => {
  const refused: WriteOutcome = { kind: 'refused', words: 'no' };
  expect(await written('create', refused)).toEqual({
    ...{ states: [done, done, 'refused', done, done], calls: 5, mostAtOnce: 1 },
  });
  expect((await written('create', refused, false)).mostAtOnce).toBeGreaterThan(1);
});

test('what cannot be made now holds up what comes after it, and an update nothing', async () => {
  const busy: WriteOutcome = { kind: 'not done', words: 'busy' };
  // It is tried four times, and the two after it not once.
  expect(await written('create', busy)).toMatchObject({ states: [done, done, undone, undone, undone], calls: 6 });
  expect((await written('create', busy, false)).states).toEqual([done, done, undone, done, done]);
  expect((await written('update', busy)).states).toEqual([done, done, undone, done, done]);
  const away = new SystemTrouble('unreachable', 'it is away', '');
  expect((await written('create', away)).states).toEqual([done, done, undone, undone, undone]);
});
