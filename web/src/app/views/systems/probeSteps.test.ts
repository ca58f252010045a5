import { TestBed } from '@angular/core/testing';
import type { ProbeStep } from '@anchor-knot/contracts';
import { ProbeSteps } from './probeSteps';

async function shown(steps: readonly ProbeStep[]): Promise<string[]> {
  const fixture = TestBed.createComponent(ProbeSteps);
  fixture.componentRef.setInput('probe', {
    at: '2026-11-23T10:00:00.000Z',
    ok: steps.every(({ state }) => state === 'good'),
    steps,
  });
  await fixture.whenStable();
  return [...(fixture.nativeElement as HTMLElement).querySelectorAll('li')].map((item) =>
    (item.textContent ?? '').replaceAll(/\s+/g, ' ').trim(),
  );
}
const read = (object: string, state: ProbeStep['state'] = 'good'): ProbeStep => ({
  name: `Read ${object}`,
  state,
  says: `${object} says`,
  ...(state === 'failed' ? { advice: 'Look.' } : {}),
});

test('many objects that are read well are told of together, and the one that is not stands out', async () => {
  expect(await shown([read('orders'), read('people'), read('deals', 'failed'), read('tasks')])).toEqual([
    'Readorders, people, tasksorders: orders sayspeople: people saystasks: tasks says',
    'Read dealsdeals saysLook.',
  ]);
});

test('a step that was not tried says so', async () => {
  expect(await shown([{ name: 'Sign in', state: 'not tried', says: 'the host was not reached' }])).toEqual([
    'Sign innot tried: the host was not reached',
  ]);
});
