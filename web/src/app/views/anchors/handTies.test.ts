/** Ties are made and parted by hand only after it was said what would follow, and are taken back by one button. */
import { HttpErrorResponse } from '@angular/common/http';
import { jest } from '@jest/globals';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { TestBed } from '@angular/core/testing';
import { MatAutocompleteHarness } from '@angular/material/autocomplete/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatCheckboxHarness } from '@angular/material/checkbox/testing';
import { MatFormFieldHarness } from '@angular/material/form-field/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import type { Forecast, ForecastRequest } from '@anchor-knot/contracts';
import { type Observable, of, Subject, throwError } from 'rxjs';
import { AnchorsApi } from '../../api/anchorsApi';
import { Telling } from '../../telling/telling';
import { memberNamed } from '../../testing/fakeEditor';
import { eventually } from '../../testing/eventually';
import { HandTies } from './handTies';

const member = (id: string, key: string | null) => ({
  ...memberNamed(id),
  key,
  gone: false,
  rejected: [],
  parked: null,
  unacknowledgedSince: null,
  told: [],
});
const anchor = {
  id: 'a1',
  knot: 'customers',
  thing: 'customer',
  members: [member('crm', 'A-1'), member('shop', '77'), member('erp', null)],
};
const records = (...keys: [string, string][]) => keys.map(([of, key]) => ({ member: of, key }));
const standing = (title: string, ...keys: [string, string][]): Forecast['anchors'][number] => ({
  title,
  records: records(...keys),
  keptOut: false,
  operations: [],
  held: [],
});
const gone = (status = 0) => throwError(() => new HttpErrorResponse({ status }));

async function shown(forecast: Forecast['anchors']) {
  const acts: unknown[] = [];
  const undo = new Subject<void>();
  const api = {
    forecast: jest.fn((_: string, __: ForecastRequest): Observable<Forecast> => of({ anchors: forecast })),
    regroup: (id: string, request: unknown) => of(acts.push([id, request])),
    tie: (id: string, to: string, key: string) => of(acts.push([id, to, key])),
    anchors: jest.fn((_: string, __: unknown): Observable<unknown> => gone()),
  };
  const said: string[] = [];
  const telling = {
    say: (words: string) => said.push(words),
    offer: (words: string) => {
      said.push(words);
      return undo;
    },
  };
  TestBed.configureTestingModule({
    providers: [
      { provide: AnchorsApi, useValue: api },
      { provide: Telling, useValue: telling },
    ],
  });
  const fixture = TestBed.createComponent(HandTies);
  fixture.componentRef.setInput('anchor', anchor);
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const button = (text: string | RegExp) => loader.getHarness(MatButtonHarness.with({ text }));
  const text = () => (fixture.nativeElement as HTMLElement).textContent.replaceAll(/\s+/g, ' ');
  return { api, acts, said, undo, loader, button, text };
}

test('a record is untied after it was said what would follow; Undo ties it again', async () => {
  const { acts, said, undo, loader, button, text } = await shown([
    standing('Osprey', ['crm', 'A-1']),
    standing('Osprey Ltd', ['shop', '77']),
  ]);
  await (await loader.getHarness(MatCheckboxHarness.with({ selector: ':has([aria-label*="Market Row"])' }))).check();
  await (await button('Untie it…')).click();
  expect(text()).toContain('77 would be a customer of its own, “Osprey Ltd”');
  expect(acts).toEqual([]);
  await (await button('Untie')).click();
  expect(acts).toEqual([['a1', { kind: 'split', members: ['shop'] }]]);
  undo.next();
  expect(acts.at(-1)).toEqual(['a1', 'shop', '77']);
  expect(said).toEqual(['Record 77 is untied. The next run takes it as a thing of its own.', 'Tied again.']);
});

test('all records together cannot be parted from themselves', async () => {
  const { loader, button } = await shown([]);
  for (const tick of await loader.getAllHarnesses(MatCheckboxHarness)) await tick.check();
  expect(await (await button('Make them a thing of their own…')).isDisabled()).toBe(true);
});

test('a key is asked for, and another key has what was said of the one before forgotten', async () => {
  const { api, acts, loader, button, text } = await shown([standing('Osprey', ['crm', 'A-1'], ['erp', 'D9'])]);
  await (await button('tie one…')).click();
  const field = await loader.getHarness(MatFormFieldHarness);
  await (await button('See what would follow')).click();
  expect(await field.getTextErrors()).toEqual(['Give the key of the record.']);
  expect(api.forecast).not.toHaveBeenCalled();
  const key = (await field.getControl(MatInputHarness)) as MatInputHarness;
  await key.setValue('D8');
  const error = { code: 'no such record', says: 'There is no record D8 in Coldharbour ERP.' };
  api.forecast.mockReturnValueOnce(throwError(() => new HttpErrorResponse({ status: 404, error })));
  await (await button('See what would follow')).click();
  expect(text()).toContain('There is no record D8 in Coldharbour ERP.');
  await key.setValue('D9');
  expect(text()).not.toContain('There is no record D8');
  await (await button('See what would follow')).click();
  expect(text()).toContain('“Osprey” would have 2 records');
  await key.setValue('D10');
  expect(await loader.getAllHarnesses(MatButtonHarness.with({ text: 'Tie it' }))).toHaveLength(0);
  await (await button('See what would follow')).click();
  await (await button('Tie it')).click();
  expect(acts).toEqual([['a1', 'erp', 'D10']]);
});

test('another anchor is searched, also after a search that failed; itself is not among those found', async () => {
  const { api, acts, loader, button, text } = await shown([
    standing('Osprey', ['crm', 'A-1'], ['shop', '77'], ['erp', 'D5']),
  ]);
  await (await button('merge with another anchor…')).click();
  const search = await loader.getHarness(MatAutocompleteHarness);
  const type = async (words: string): Promise<void> => {
    await search.clear();
    await search.enterText(words);
  };
  await type('osp');
  await eventually(() => expect(text()).toContain('The server cannot be reached.'));
  const hit = (id: string) => ({ id, title: `Osprey ${id}`, ties: [{ member: 'erp', key: 'D5' }] });
  api.anchors.mockReturnValue(of({ anchors: [hit('a1'), hit('a2')] }));
  await type('ospr');
  const hits = async () => Promise.all((await search.getOptions()).map((option) => option.getText()));
  await eventually(async () => expect(await hits()).toEqual(['Osprey a2 D5']));
  expect(text()).not.toContain('The server cannot be reached.');
  await search.selectOption({ text: /Osprey a2/ });
  await (await button('Merge them')).click();
  expect(acts).toEqual([['a1', { kind: 'merge', with: 'a2' }]]);
});
