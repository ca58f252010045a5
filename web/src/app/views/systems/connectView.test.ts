/** Connecting: what is missing is named, what is typed is kept but for secrets, and what is sent is what was meant. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { MatRadioButtonHarness } from '@angular/material/radio/testing';
import { provideRouter, Router } from '@angular/router';
import type { ChangeSystem, ConnectSystem, Probe, SystemView, TestSystem } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { SystemsApi } from '../../api/systemsApi';
import { eventually } from '../../testing/eventually';
import { hands } from '../../testing/hands';
import { refused, telling } from '../../testing/stubs';
import { ConnectView } from './connectView';

const sql = {
  kind: 'sql' as const,
  name: 'Coldharbour ERP',
  host: 'erp.example',
  port: 5432,
  database: 'erp',
  tls: 'verified' as const,
  timeoutMs: 30_000,
  objects: {},
};
const view = {
  summary: { name: 'Coldharbour ERP', pennant: { pattern: 'chevron', colour: 'ink', letters: 'CE' } },
  description: sql,
  note: 'Of accounting',
  environment: 'production',
  revision: 7,
  signsInAs: 'reader',
} as unknown as SystemView;

async function shown(id?: string) {
  const api = {
    system: jest.fn(() => of(view)),
    connectSystem: jest.fn((_: ConnectSystem) => of('fernhill')),
    changeSystem: jest.fn((..._: [string, ChangeSystem]) => of({})),
    testSystem: jest.fn((_: TestSystem) => of<Probe>({ ok: true, steps: [] })),
  };
  const { told, provider } = telling();
  TestBed.configureTestingModule({
    providers: [provideRouter([{ path: '**', children: [] }]), { provide: SystemsApi, useValue: api }, provider],
  });
  const fixture = TestBed.createComponent(ConnectView);
  if (id !== undefined) fixture.componentRef.setInput('id', id);
  await fixture.whenStable();
  const all = hands(fixture);
  const kind = async (label: RegExp) => (await all.loader.getHarness(MatRadioButtonHarness.with({ label }))).check();
  return { ...all, kind, api, told, fixture };
}
const kept = (): string => JSON.stringify(Object.values({ ...sessionStorage }));

beforeEach(() => sessionStorage.clear());

test('what is still missing is named until nothing is; then it is connected as it was typed', async () => {
  const { type, choose, press, text, api } = await shown();
  expect(await text()).toContain('What is still missing');
  await type('Name', 'Fernhill CRM');
  await type('Address', 'crm.example');
  expect(await text()).toContain(
    'address is not an address such as https://crm.example.com'.replace('address ', 'address'),
  );
  await type('Address', 'https://crm.example/');
  expect(await text()).not.toContain('What is still missing');
  await choose('Sign-in', 'none');
  await choose('Colour', 'kelp');
  await press('Connect');
  expect(api.connectSystem).toHaveBeenCalledWith(
    expect.objectContaining({
      pennant: { pattern: 'quarters', colour: 'kelp', letters: 'FC' },
      environment: 'production',
      description: expect.objectContaining({ address: 'https://crm.example', signIn: { kind: 'none' } }),
    }),
  );
  expect(api.connectSystem.mock.lastCall?.[0]).not.toHaveProperty('credential');
  expect(TestBed.inject(Router).url).toBe('/systems/fernhill');
  // What is typed is kept a moment later, and a draft that was kept after all would be there by then.
  await new Promise((done) => setTimeout(done, 400));
  expect(kept()).toBe('[]');
});

test('a reload loses nothing that was typed but the secret', async () => {
  const { type } = await shown();
  await type('Name', 'Fernhill CRM');
  await type('Id or key', 'robot');
  await type('Secret', 'hush hush');
  await eventually(() => expect(kept()).toContain('robot'));
  expect(kept()).toContain('Fernhill CRM');
  expect(kept()).not.toContain('hush');
  TestBed.resetTestingModule();
  const again = await shown();
  expect(await again.typed('Name')).toBe('Fernhill CRM');
  expect(await again.text()).toContain('What you typed before is here again; a secret is not kept.');
});

test('each kind keeps its own objects while a person looks around', async () => {
  const { kind, fixture } = await shown();
  const objects = () =>
    (fixture.componentInstance as unknown as { form: { controls: { objects: { value: string } } } }).form.controls
      .objects;
  (objects() as unknown as { setValue(text: string): void }).setValue('{"a": 1}');
  await kind(/SQL database/);
  expect(objects().value).toBe('{}');
  await kind(/JSON over HTTP/);
  expect(objects().value).toBe('{"a": 1}');
});

test('a change goes out with the revision that was seen; the kept secret stays unless another is typed', async () => {
  const { type, typed, press, api, told } = await shown('coldharbour');
  expect([await typed('Host'), await typed('Note')]).toEqual(['erp.example', 'Of accounting']);
  await type('Host', 'erp2.example');
  await type('Its access ends on', '2027-03-01');
  api.changeSystem.mockReturnValueOnce(
    refused(409, { code: 'changed meanwhile', says: 'Halima changed it.' }) as never,
  );
  await press('Save');
  expect(await typed('Host')).toBe('erp2.example');
  expect(TestBed.inject(Router).url).toBe('/');
  await press('Save');
  const [id, change] = api.changeSystem.mock.lastCall ?? [];
  expect([id, change?.revision, (change?.description as typeof sql).host]).toEqual(['coldharbour', 7, 'erp2.example']);
  expect(change).not.toHaveProperty('credential');
  expect(change?.accessEndsOn).toBe('2027-03-01');
  expect(told).toEqual(['Saved.']);
});

test('a test is made with what stands in the form, and of nothing that is not right', async () => {
  const { type, press, text, api } = await shown('coldharbour');
  await type('Port', 'x');
  await press('Test');
  expect(api.testSystem).not.toHaveBeenCalled();
  await type('Port', '5433');
  await type('Password', 'hush hush');
  await press('Test');
  expect(api.testSystem).toHaveBeenCalledWith({
    description: { ...sql, port: 5433 },
    credential: { id: 'reader', secret: 'hush hush' },
    system: 'coldharbour',
  });
  expect(await text()).toContain('It works');
});
