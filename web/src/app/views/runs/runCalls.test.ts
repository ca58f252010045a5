/** The calls of a run, one by one: what was sent and answered is one press away, and more are read when asked for. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import type { Exchange, ExchangeList } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { RunsApi } from '../../api/runsApi';
import { memberNamed } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { RunCalls } from './runCalls';

const call = (id: string, more: Partial<Exchange> = {}): Exchange => ({
  id,
  member: 'shop',
  at: '2026-11-29T08:00:00.000Z',
  tookMs: 41,
  method: 'PUT',
  target: '/shop/v1/shoppers/77001',
  status: 200,
  sent: '{"city":"Thornquay"}',
  received: '{"ok":true}',
  trouble: null,
  ...more,
});

async function shown(...pages: Partial<ExchangeList>[]) {
  const whole = pages.map((page) => ({ exchanges: [], next: null, leftOut: 0, nextRuns: 0, ...page }));
  const api = {
    exchanges: jest.fn((_: string, { after }: { after?: string }) => of(whole[after === undefined ? 0 : 1])),
    keepDetail: jest.fn(() => of(null)),
  };
  TestBed.configureTestingModule({ providers: [{ provide: RunsApi, useValue: api }] });
  const fixture = TestBed.createComponent(RunCalls);
  fixture.componentRef.setInput('run', 'r1');
  fixture.componentRef.setInput('knot', 'customers');
  fixture.componentRef.setInput('members', [memberNamed('crm'), memberNamed('shop')]);
  await fixture.whenStable();
  return { ...hands(fixture), api };
}

test('calls that were not kept can be kept for the next runs', async () => {
  const { text, press, api } = await shown({ leftOut: null });
  expect(await text()).toContain('What was sent and answered in this run was not kept.');
  await press('Keep those of the next 3 runs');
  expect(api.keepDetail).toHaveBeenCalledWith('customers', 3);
  TestBed.resetTestingModule();
  const other = await shown({ nextRuns: 2 });
  expect(await other.text()).toContain('The calls of the next 2 runs are to be kept.');
  await other.press('Keep none');
  expect(other.api.keepDetail).toHaveBeenCalledWith('customers', 0);
});

test('each call says what came of it; its texts are shown below it, one at a time', async () => {
  const failed = call('2', { status: null, received: null, trouble: 'the connection broke' });
  const { text, rows, press } = await shown(
    { exchanges: [call('1'), failed], next: '2', leftOut: 7 },
    { exchanges: [call('3', { target: '/shop/v1/third' })] },
  );
  expect(await text()).toContain('7 more calls of it were not kept.');
  expect((await rows()).map((row) => row.replace(/^.*?(?=PUT)/, ''))).toEqual([
    'PUT /shop/v1/shoppers/77001 200 41 ms',
    'PUT /shop/v1/shoppers/77001 the connection broke 41 ms',
  ]);
  await press('Show more');
  expect(await rows()).toHaveLength(3);
  expect(await text()).not.toContain('Thornquay');
  await press('PUT /shop/v1/third');
  expect((await rows())[3]).toBe('Sent{"city":"Thornquay"}Received{"ok":true}');
  await press('PUT /shop/v1/third');
  expect(await rows()).toHaveLength(3);
});
