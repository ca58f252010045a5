/** A knot is begun, or begun as a copy, by hand; what is typed is lost by no failure. */
import { jest } from '@jest/globals';
import { HttpErrorResponse } from '@angular/common/http';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { type Type } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatCheckboxHarness } from '@angular/material/checkbox/testing';
import { MatFormFieldHarness } from '@angular/material/form-field/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { MatSelectHarness } from '@angular/material/select/testing';
import { provideRouter, Router } from '@angular/router';
import { type Observable, of, throwError } from 'rxjs';
import { KnotsApi } from '../../api/knotsApi';
import { SystemsApi } from '../../api/systemsApi';
import { FormDrafts } from '../../fields/formDrafts';
import { customers, memberNamed } from '../../testing/fakeEditor';
import { CopyKnotView } from './copyKnot';
import { NewKnotView } from './newKnot';

const system = (member: string, id: string, ...objects: string[]) => {
  const { systemName: name, pennant } = memberNamed(member);
  return { id, name, pennant, objects };
};
const refused = (status: number, says: string, more: object = {}): Observable<never> =>
  throwError(() => new HttpErrorResponse({ status, error: { code: 'refused', says, ...more } }));

async function shown(component: Type<unknown>, inputs: Record<string, unknown> = {}) {
  const api = {
    newKnot: jest.fn((_: unknown): Observable<string> => of('clients')),
    importKnot: jest.fn((_: unknown): Observable<string> => of('clients')),
    draft: () => of({ definition: customers }),
  };
  const systems = [
    system('crm', 'fernhill', 'accounts', 'people'),
    system('shop', 'marketRow', 'shoppers'),
    system('empty', 'empty'),
  ];
  TestBed.configureTestingModule({
    providers: [
      provideRouter([{ path: '**', children: [] }]),
      { provide: KnotsApi, useValue: api },
      { provide: SystemsApi, useValue: { systems: () => of(systems) } },
      { provide: FormDrafts, useValue: { keep: jest.fn(), forget: jest.fn() } },
    ],
  });
  const fixture = TestBed.createComponent(component);
  for (const [name, value] of Object.entries(inputs)) fixture.componentRef.setInput(name, value);
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const field = (floatingLabelText: string) => loader.getHarness(MatFormFieldHarness.with({ floatingLabelText }));
  const input = async (label: string) => (await (await field(label)).getControl(MatInputHarness)) as MatInputHarness;
  const press = async (text: string) => (await loader.getHarness(MatButtonHarness.with({ text }))).click();
  const tick = async (label: string) => (await loader.getHarness(MatCheckboxHarness.with({ label }))).check();
  const text = async () => {
    await fixture.whenStable();
    return (fixture.nativeElement as HTMLElement).textContent.replaceAll(/\s+/g, ' ');
  };
  await fixture.whenStable();
  return { api, loader, field, input, press, tick, text };
}

test('each thing that is missing is said at its place, and nothing is sent', async () => {
  const { api, field, input, press, text } = await shown(NewKnotView);
  await (await input('Name')).setValue('   ');
  await press('Begin');
  expect(await (await field('Name')).getTextErrors()).toEqual(['Give it a name of at most 200 letters.']);
  expect(await (await field('One of them is called')).getTextErrors()).toEqual(['Say what one of them is called.']);
  expect(await text()).toContain('Choose at least two objects.');
  expect(await text()).toContain('no object is described');
  expect(api.newKnot).not.toHaveBeenCalled();
});

test('objects stand as they were chosen; a failure keeps what was typed for the next try', async () => {
  const { api, input, press, tick, text } = await shown(NewKnotView);
  await (await input('Name')).setValue('Clients Ä “A”');
  await (await input('One of them is called')).setValue('client');
  await tick('shoppers');
  await tick('accounts');
  api.newKnot.mockReturnValueOnce(refused(503, 'The database does not answer.'));
  await press('Begin');
  expect(await text()).toContain('The database does not answer.');
  expect(await (await input('Name')).getValue()).toBe('Clients Ä “A”');
  expect(TestBed.inject(FormDrafts).forget).not.toHaveBeenCalled();
  await press('Begin');
  expect(api.newKnot).toHaveBeenLastCalledWith({
    name: 'Clients Ä “A”',
    thing: 'client',
    members: [
      { system: 'marketRow', object: 'shoppers' },
      { system: 'fernhill', object: 'accounts' },
    ],
  });
  await text();
  expect(TestBed.inject(Router).url).toBe('/knots/clients/fields');
  expect(TestBed.inject(FormDrafts).forget).toHaveBeenCalledWith('new knot');
});

test('the records of one object are something else as well, in a second knot with other objects', async () => {
  const { api, loader, field, input, press, tick, text } = await shown(NewKnotView);
  const select = async (label: string) => (await (await field(label)).getControl(MatSelectHarness)) as MatSelectHarness;
  await (await input('Name')).setValue('Accounts');
  await (await input('One of them is called')).setValue('account');
  await tick('accounts');
  expect(await text()).toContain('Also as');
  await tick('The records of one of them are something else as well');
  await press('Begin');
  expect(await text()).toContain('Choose at least two objects.');
  await tick('shoppers');
  await press('Begin');
  expect(await (await field('Records of')).getTextErrors()).toEqual(['Choose whose records are meant.']);
  expect(api.newKnot).not.toHaveBeenCalled();
  await (await select('Records of')).clickOptions({ text: 'Market Row: shoppers' });
  await (await input('Name of the second knot')).setValue('Contacts');
  await (await input('One of those is called')).setValue('contact');
  await (await select('Kept the same with')).clickOptions({ text: 'Fernhill CRM: people' });
  await press('Begin');
  expect(api.newKnot).toHaveBeenLastCalledWith({
    ...{ name: 'Accounts', thing: 'account' },
    members: [
      { system: 'fernhill', object: 'accounts' },
      { system: 'marketRow', object: 'shoppers' },
    ],
    also: {
      ...{ name: 'Contacts', thing: 'contact', of: { system: 'marketRow', object: 'shoppers' } },
      members: [{ system: 'fernhill', object: 'people' }],
    },
  });
  // What is taken out of the first knot is no part of which there could be a second one.
  const [shoppers] = await loader.getAllHarnesses(MatCheckboxHarness.with({ label: /^shoppers/ }));
  await shoppers?.uncheck();
  expect(await (await select('Records of')).getValueText()).toBe('');
});

test('a copy has a name and an id of its own, and other objects where they were chosen', async () => {
  const { api, loader, field, input, press, text } = await shown(CopyKnotView, { id: 'customers' });
  expect(await (await input('Name of the copy')).getValue()).toBe('Customers, copy');
  await (await input('Name of the copy')).setValue(' People we know ');
  const [first] = await loader.getAllHarnesses(MatFormFieldHarness.with({ floatingLabelText: /^Instead of Fernhill/ }));
  await ((await first?.getControl(MatSelectHarness)) as MatSelectHarness).clickOptions({
    text: 'Fernhill CRM: people',
  });
  const problems = [{ at: 'fields.phone', says: 'there is no such field' }];
  api.importKnot.mockReturnValueOnce(refused(422, 'It cannot be read.', { problems }));
  await press('Copy');
  expect(await text()).toContain('fields.phone there is no such field');
  await press('Copy');
  const [{ knot }] = api.importKnot.mock.lastCall as [{ knot: typeof customers }];
  expect([knot.id, knot.name]).toEqual(['peopleWeKnow', 'People we know']);
  expect(knot.members.map(({ id, object }) => `${id} ${object}`).slice(0, 2)).toEqual([
    'crm people',
    `${customers.members[1]?.id ?? ''} ${customers.members[1]?.object ?? ''}`,
  ]);
  expect(knot.fields).toEqual(customers.fields);
  await (await input('Name of the copy')).setValue('');
  await press('Copy');
  expect(await (await field('Name of the copy')).getTextErrors()).toEqual(['Give it a name of at most 200 letters.']);
  expect(api.importKnot).toHaveBeenCalledTimes(2);
});
