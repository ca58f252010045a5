import type { KnotDefinition } from '@anchor-knot/contracts';
import { recordKey } from '@anchor-knot/core';
import type { Systems } from '../systems/systems.js';
import { surveyKnot } from './surveys.js';

const definition = {
  id: 'k',
  name: 'K',
  thing: 't',
  titleField: '',
  start: 'merge',
  members: [
    {
      id: 'crm',
      system: 'crm',
      object: 'o',
      may: { create: false, update: false },
      startsAnchors: true,
      required: [],
      guards: {},
    },
  ],
  fields: [],
  keyRules: [],
  checks: [],
  crosswalks: {},
} satisfies KnotDefinition;

test('whoever stops listening ends the reading, and the connection is closed', async () => {
  const state = { pages: 0, aborted: false, closed: false };
  // An object that never ends: only a survey that is stopped comes back.
  const connect = async () => ({
    async *read({ signal }: { signal: AbortSignal }) {
      signal.addEventListener('abort', () => (state.aborted = true));
      for (;;) {
        state.pages += 1;
        yield { records: [{ key: recordKey(String(state.pages)), fields: {} }], unusable: [] };
        await new Promise((resolve) => setTimeout(resolve, 20));
      }
    },
    close: async () => void (state.closed = true),
  });
  let told = 0;
  for await (const line of surveyKnot({ connect } as unknown as Systems, definition, false, 0)) {
    expect(line).toMatchObject({ kind: 'progress', member: 'crm' });
    told += 1;
    if (told === 3) break;
  }
  const { pages } = state;
  await new Promise((resolve) => setTimeout(resolve, 100));
  expect(state).toEqual({ pages, aborted: true, closed: true });
  expect(pages).toBeGreaterThan(2);
});
