import { jest } from '@jest/globals';
import type { Run } from '@anchor-knot/contracts';
import { LiveEvents } from './liveEvents';

class FakeEventSource {
  static readonly CLOSED = 2;
  static opened: FakeEventSource[] = [];
  readyState = 0;
  onopen: () => void = () => undefined;
  onmessage: (event: { data: string }) => void = () => undefined;
  onerror: () => void = () => undefined;
  constructor(readonly url: string) {
    FakeEventSource.opened.push(this);
  }
  close(): void {
    this.readyState = FakeEventSource.CLOSED;
  }
}

const run = (id: string, endedAt: string | null): Run => ({
  id,
  knot: 'customers',
  knotVersion: 1,
  kind: 'run',
  startedBy: 'x',
  cause: 'person',
  startedAt: '2026-11-23T10:00:00.000Z',
  endedAt,
  state: endedAt ? 'succeeded' : 'running',
  progress: null,
  troubles: [],
  guards: [],
  words: null,
});
const id = '0199c0de-0000-7000-8000-000000000001';
const tell = (source: FakeEventSource, endedAt: string | null) =>
  source.onmessage({ data: JSON.stringify({ kind: 'run', run: run(id, endedAt) }) });
const latest = () => FakeEventSource.opened.at(-1) as FakeEventSource;

beforeEach(() => {
  jest.useFakeTimers();
  FakeEventSource.opened = [];
  Object.assign(globalThis, { EventSource: FakeEventSource });
});
afterEach(() => jest.useRealTimers());

test('all views share one connection, which outlives the moment between two views', () => {
  const live = new LiveEvents();
  const first = live.changes.subscribe();
  live.ends.subscribe().unsubscribe();
  first.unsubscribe();
  jest.advanceTimersByTime(1000);
  const next = live.changes.subscribe();
  expect(FakeEventSource.opened).toHaveLength(1);
  next.unsubscribe();
  jest.advanceTimersByTime(3000);
  expect(latest().readyState).toBe(FakeEventSource.CLOSED);
});

test('a run that ended before the connection stood is not missed: opening counts as an end', () => {
  const live = new LiveEvents();
  const heard: string[] = [];
  live.ends.subscribe(() => heard.push('end'));
  live.changes.subscribe(({ state }) => heard.push(state));
  latest().onopen();
  tell(latest(), null);
  tell(latest(), '2026-11-23T10:00:01.000Z');
  latest().onmessage({ data: '{"kind":"something newer than this client"}' });
  expect(heard).toEqual(['end', 'running', 'end', 'succeeded']);
});

test('after an answer that is no stream of events it connects again by itself, and says so', () => {
  const live = new LiveEvents();
  let opened = 0;
  live.opened.subscribe(() => (opened += 1));
  latest().onopen();
  // A break in the network: the browser itself connects again.
  latest().onerror();
  jest.advanceTimersByTime(10_000);
  expect(FakeEventSource.opened).toHaveLength(1);
  latest().close();
  latest().onerror();
  jest.advanceTimersByTime(10_000);
  expect(FakeEventSource.opened).toHaveLength(2);
  latest().onopen();
  tell(latest(), null);
  expect(opened).toBe(2);
});
