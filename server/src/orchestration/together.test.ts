import { together } from './together.js';

const soon = (milliseconds: number) => new Promise<void>((done) => setTimeout(done, milliseconds));

test('gives all results, in the order of the items', async () => {
  expect(await together([30, 1, 10], async (wait) => (await soon(wait), wait))).toEqual([30, 1, 10]);
});

test('after a failure the others are told and have ended before it is thrown: nothing goes on behind it', async () => {
  const events: string[] = [];
  const work = together(['fails', 'goes on'], async (item, failed) => {
    if (item === 'fails') throw new Error('first');
    while (!failed()) await soon(1);
    await soon(10);
    events.push('ended');
    throw new Error('second');
  });
  await expect(work).rejects.toThrow('first');
  expect(events).toEqual(['ended']);
});
