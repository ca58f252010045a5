/** What a run did, and what it asked of systems, in words and times that matter. */
import { TestBed } from '@angular/core/testing';
import { MatExpansionPanelHarness } from '@angular/material/expansion/testing';
import type { Run } from '@anchor-knot/contracts';
import { memberNamed } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { RunSteps, span } from './runSteps';

async function shown(progress: Partial<NonNullable<Run['progress']>>) {
  const fixture = TestBed.createComponent(RunSteps);
  fixture.componentRef.setInput('progress', { phase: 'done', done: 0, tally: {}, ...progress });
  fixture.componentRef.setInput('members', [memberNamed('crm'), memberNamed('shop')]);
  await fixture.whenStable();
  return hands(fixture);
}

test('the fold says how long it took and how often systems were asked; within is each by itself', async () => {
  const { loader, rows, text } = await shown({
    steps: [
      { phase: 'reading', ms: 1240 },
      { phase: 'writing', ms: 80_500 },
    ],
    calls: {
      crm: { page: { count: 3, failed: 0, ms: 900, longestMs: 420 } },
      shop: { write: { count: 1, failed: 1, ms: 61_000, longestMs: 61_000 } },
    },
  });
  const fold = await loader.getHarness(MatExpansionPanelHarness);
  expect(await text()).toContain('What it did: 1 min 22 s, 4 calls of systems');
  await fold.expand();
  expect(await text()).toMatch(/1\.2 s.*1 min 21 s/);
  const [crm, shop] = await rows();
  expect(crm).toContain(`${memberNamed('crm').systemName}3 pages read900 ms420 ms 0`);
  expect(shop).toContain(`${memberNamed('shop').systemName}1 write1 min 1 s1 min 1 s 1`);
});

test('a run of an earlier version says nothing of it', async () => {
  expect(await (await shown({})).text()).toBe('');
});

test.each([
  [0.4, '0 ms'],
  [999, '999 ms'],
  [59_949, '59.9 s'],
  [3_600_000, '60 min 0 s'],
])('%d milliseconds are %s', (milliseconds, words) => {
  expect(span(milliseconds)).toBe(words);
});
