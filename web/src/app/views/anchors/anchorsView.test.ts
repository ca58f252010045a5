/** Anchors: searched on the server, page after page, with filters in the address; late answers are dropped. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter, Router } from '@angular/router';
import type { AnchorList } from '@anchor-knot/contracts';
import { NEVER, of, Subject } from 'rxjs';
import { AnchorsApi } from '../../api/anchorsApi';
import { LiveEvents } from '../../api/liveEvents';
import { RunsApi } from '../../api/runsApi';
import { memberNamed } from '../../testing/fakeEditor';
import { eventually } from '../../testing/eventually';
import { hands } from '../../testing/hands';
import { refused } from '../../testing/stubs';
import { AnchorsView } from './anchorsView';

const anchor = (id: string, more: object = {}) => ({
  id,
  title: `Customer ${id}`,
  agrees: true,
  decisions: 0,
  changedAt: '2026-11-23T10:00:00Z',
  ties: [{ member: 'crm', key: `C${id}`, gone: false }],
  ...more,
});
const listed = (anchors: object[], more: object = {}): AnchorList =>
  ({ anchors, total: anchors.length, isMore: false, next: null, ...more }) as never;
const knots = ['customers', 'partners'].map((id) => ({ id, name: id, members: [memberNamed('crm')] }));

async function shown(first: AnchorList, inputs: Record<string, string> = {}) {
  const anchors = jest.fn((..._: [string, object]) => of(first));
  TestBed.configureTestingModule({
    providers: [
      provideRouter([{ path: '**', children: [] }]),
      { provide: AnchorsApi, useValue: { anchors } },
      { provide: RunsApi, useValue: { watch: () => of({ knots }) } },
      { provide: LiveEvents, useValue: { anything: NEVER, ends: NEVER } },
    ],
  });
  const fixture = TestBed.createComponent(AnchorsView);
  for (const [name, value] of Object.entries(inputs)) fixture.componentRef.setInput(name, value);
  document.body.append(fixture.nativeElement as HTMLElement);
  await fixture.whenStable();
  const view = fixture.componentInstance as unknown as { reached(index: number): void; rows(): { id: string }[] };
  return { ...hands(fixture), fixture, anchors, reached: (index: number) => view.reached(index), view };
}

test('the first knot is shown until another is chosen; what is wanted stands in the address', async () => {
  const { choose, type, anchors } = await shown(listed([anchor('1')]));
  expect(anchors).toHaveBeenLastCalledWith('customers', { state: 'all' });
  await choose('Show', 'those that do not agree');
  expect(TestBed.inject(Router).url).toBe('/?state=open');
  await choose('Knot', 'partners');
  await type('Search by name or record key', 'reed');
  await eventually(() => expect(TestBed.inject(Router).url).toBe('/?state=open&knot=partners&search=reed'));
});

test('what the address says is asked for', async () => {
  const { anchors, text } = await shown(listed([]), { knot: 'partners', search: 'reed', state: 'open' });
  expect(anchors).toHaveBeenCalledWith('partners', { search: 'reed', state: 'open' });
  expect(await text()).toContain('No anchor is called that.');
});

test('an installation without anchors says what will be here', async () => {
  expect(await (await shown(listed([]))).text()).toContain('Nothing is tied yet.');
});

test('the next page is asked for once, from the last row on; an answer to another question is dropped', async () => {
  const page = Array.from({ length: 100 }, (_, index) => anchor(String(index)));
  const { anchors, reached, view, fixture } = await shown(listed(page, { next: 'more', total: 5000, isMore: true }));
  reached(10);
  expect(anchors).toHaveBeenCalledTimes(1);
  const next = new Subject<AnchorList>();
  anchors.mockReturnValueOnce(next);
  reached(60);
  reached(70);
  expect(anchors).toHaveBeenCalledTimes(2);
  expect(anchors.mock.lastCall?.[1]).toEqual({ state: 'all', afterTitle: 'Customer 99', afterId: '99' });
  next.next(listed([anchor('100')], { next: 'more' }));
  expect(view.rows()).toHaveLength(101);
  const late = new Subject<AnchorList>();
  anchors.mockReturnValueOnce(late);
  reached(90);
  anchors.mockReturnValueOnce(of(listed([anchor('other')])));
  fixture.componentRef.setInput('search', 'other');
  await fixture.whenStable();
  late.next(listed([anchor('late')]));
  expect(view.rows().map(({ id }) => id)).toEqual(['other']);
});

test('a page that fails is said, and asked for again by who scrolls on', async () => {
  const page = Array.from({ length: 100 }, (_, index) => anchor(String(index)));
  const { anchors, reached, text, view } = await shown(listed(page, { next: 'more' }));
  anchors.mockReturnValueOnce(refused(500, { code: 'x', says: 'The database does not answer.' }) as never);
  reached(99);
  expect(await text()).toContain('The database does not answer.');
  anchors.mockReturnValueOnce(of(listed([anchor('100')])));
  reached(99);
  expect(view.rows()).toHaveLength(101);
  expect(await text()).not.toContain('The database does not answer.');
});
