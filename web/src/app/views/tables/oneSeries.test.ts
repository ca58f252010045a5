/** A series by hand: how its next number looks, what is wrong with it, and what it has given to what. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter, Router } from '@angular/router';
import type { GivenNumbers, KeepSeries, SeriesView } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { SeriesApi } from '../../api/seriesApi';
import { hands } from '../../testing/hands';
import { quiet, refused, signedInAs, telling } from '../../testing/stubs';
import { OneSeries } from './oneSeries';
import { SeriesList } from './seriesList';

const thing = { anchor: '0193a0de-7a11-7c00-8000-000000000001', title: 'Pane arrived cracked' };
const known: SeriesView = {
  ...{ id: 'service', series: { name: 'Service', prefix: 'S', digits: 4, yearly: false, zone: 'UTC' } },
  ...{ revision: 3, next: 55, nextText: 'S0055', given: 2, madeBy: 'Halima Boye' },
  usedBy: [{ knot: 'tickets', knotName: 'Tickets', field: 'service', fieldName: 'Service number' }],
};
const given: GivenNumbers = {
  given: [
    { text: 'S0054', knot: 'tickets', thing, at: '2026-11-20T08:00:00Z' },
    { text: 'S0053', knot: 'tickets', thing: null, at: '2026-11-20T08:00:00Z' },
  ],
  total: 2,
  gaps: [{ from: 'S0001', to: 'S0052', count: 52 }],
  gapTotal: 52,
};

function shown(
  component: typeof OneSeries | typeof SeriesList,
  { id = 'service', role = 'editor' as 'editor' | 'viewer', all = [known] } = {},
) {
  const api = {
    all: () => of(all),
    numbers: jest.fn((..._: unknown[]) => of(given)),
    keep: jest.fn((..._: [string, KeepSeries]) => of({ revision: 4 })),
    remove: jest.fn((_: string) => of({})),
  };
  const { told, provider } = telling();
  TestBed.configureTestingModule({
    providers: [provideRouter([]), { provide: SeriesApi, useValue: api }, signedInAs(role), provider, quiet],
  });
  const navigate = jest.spyOn(TestBed.inject(Router), 'navigate').mockResolvedValue(true);
  const fixture = TestBed.createComponent(component as typeof OneSeries);
  if (component === OneSeries) fixture.componentRef.setInput('series', id);
  return { api, told, navigate, fixture, ...hands(fixture) };
}

test('what is typed shows the next number; what is wrong is said beside it, and nothing is kept', async () => {
  const { type, tick, press, text, api } = shown(OneSeries);
  expect(await text()).toContain('Next: S0055');
  await type('Prefix', 'SV-');
  await type('Next number', '60');
  await tick(/begins anew/);
  expect(await text()).toContain(`Next: SV-${new Date().getUTCFullYear()}-0060`);
  expect(await type('Digits', '40')).toBe('From 1 to 12.');
  expect(await type('Name', ' ')).toBe('It needs a name of at most 100 characters.');
  expect(await text()).toContain('Something is not right yet.');
  await press('Save');
  expect(api.keep).not.toHaveBeenCalled();
});

test('the next number is set only where somebody has typed one: runs take some meanwhile', async () => {
  const { type, press, api } = shown(OneSeries);
  await type('Prefix', 'SV');
  await press('Save');
  const series = { ...known.series, prefix: 'SV' };
  expect(api.keep).toHaveBeenLastCalledWith('service', { series, revision: 3 });
  await type('Next number', '70');
  await press('Save');
  expect(api.keep.mock.calls.at(-1)?.[1]).toMatchObject({ next: 70 });
});

test('a new one is kept under an id of its own, and shown there', async () => {
  const { type, press, api, navigate } = shown(OneSeries, { id: 'new' });
  await type('Name', 'Visits');
  await press('Save');
  const [id, kept] = api.keep.mock.calls[0] as [string, KeepSeries];
  expect(kept).toMatchObject({ series: { name: 'Visits', digits: 5 }, next: 1, revision: 0 });
  expect(navigate.mock.calls.at(-1)?.[0]).toEqual(['/tables/series', id]);
  expect(api.numbers).not.toHaveBeenCalled();
});

test('what was given leads to its thing, gaps are counted, and why it cannot be removed is said', async () => {
  const { rows, text, links, press, api } = shown(OneSeries);
  expect((await rows()).map((row) => row.replace(/\d+ d ago|\d+ days? ago/, '').trim())).toEqual([
    expect.stringMatching(/^S0054 ?Pane arrived cracked/),
    expect.stringMatching(/^S0053 ?a system had it already/),
  ]);
  expect(await text()).toContain('Left out before the next one: 52 numbers, S0001 to S0052.');
  expect(await links()).toEqual(
    expect.arrayContaining([`/anchors/${thing.anchor}`, '/knots/tickets/fields?field=service']),
  );
  const says = 'Service number of Tickets takes its numbers from it.';
  api.remove.mockReturnValueOnce(refused(409, { code: 'not possible', says }) as never);
  await press('Remove it');
  expect(await text()).toContain(says);
});

test('the list says which number is next, or that there is none; viewers make none', async () => {
  const last = { ...known, id: 'old', series: { ...known.series, name: 'Old' }, nextText: null, usedBy: [] };
  const { rows, buttons } = shown(SeriesList, { role: 'viewer', all: [known, last] });
  expect(await rows()).toEqual([
    expect.stringMatching(/^Service ?S0055 ?2 ?Service number of Tickets$/),
    expect.stringMatching(/^Old ?none: it is at its last number ?2 ?no field$/),
  ]);
  expect(await buttons()).toEqual([]);
});
