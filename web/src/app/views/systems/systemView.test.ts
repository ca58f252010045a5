/** A system: what a role may do there, what is asked before, and what is said when it does not work. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter, Router } from '@angular/router';
import { systemViewSchema, type SystemView } from '@anchor-knot/contracts';
import { of, Subject } from 'rxjs';
import { SystemsApi } from '../../api/systemsApi';
import { hands } from '../../testing/hands';
import { quiet, refused, signedInAs, telling } from '../../testing/stubs';
import { OneSystemView } from './systemView';

const at = '2026-11-23T10:00:00Z';
const object = (name: string, more: object = {}) => ({
  name,
  may: ['read', 'update'],
  tellsChanges: true,
  listPage: null,
  holds: 'things that change',
  holdsIsGuessed: true,
  fields: null,
  records: null,
  schemaVersion: null,
  changedAt: null,
  profile: null,
  ...more,
});
const described = {
  key: 'id',
  list: {
    path: '/accounts',
    pageSize: { parameter: 'limit', value: 100 },
    paging: { kind: 'cursor', parameter: 'cursor', next: 'next' },
  },
  read: { path: '/accounts/{key}' },
  events: ['account.changed'],
};
const fernhill = (more: object = {}): SystemView =>
  systemViewSchema.parse({
    summary: {
      id: 'fernhill',
      name: 'Fernhill CRM',
      kind: 'JSON over HTTP',
      address: 'https://crm.example',
      page: 'https://crm.example/app',
      environment: 'production',
      pennant: { pattern: 'halves', colour: 'petrol', letters: 'FC' },
      objects: ['accounts'],
      pages: {},
      trouble: null,
      checkedAt: at,
      usedIn: [],
    },
    description: {
      kind: 'http',
      name: 'Fernhill CRM',
      address: 'https://crm.example',
      signIn: {
        kind: 'authorization code',
        authorizationUrl: 'https://crm.example/a',
        tokenUrl: 'https://crm.example/t',
      },
      webhooks: {
        path: '/hooks',
        id: 'id',
        address: 'url',
        secret: 'secret',
        events: 'events',
        signature: { kind: 'standard webhooks' },
      },
      objects: { accounts: described },
    },
    note: '',
    environment: 'production',
    accessEndsOn: null,
    certificateEndsAt: null,
    revision: 3,
    signsInAs: 'anchor-knot',
    probe: null,
    objects: [object('accounts')],
    calls: { today: 40, perDay: 100, perSecond: 2, atOnce: null, restUntil: null },
    consent: { by: 'Ottilie Brandt', at, given: true, granted: 'read write', endsAt: '2031-05-06T10:00:00Z' },
    subscriptions: [],
    ...more,
  });

async function shown(view = fernhill(), role: 'viewer' | 'operator' | 'administrator' = 'administrator') {
  const done = (..._: unknown[]) => of({});
  const api = {
    system: jest.fn(() => of(view)),
    probe: jest.fn(done),
    profile: jest.fn(done),
    withdrawCredential: jest.fn(done),
    replaceCredential: jest.fn(done),
    giveConsentBack: jest.fn(done),
    disconnectSystem: jest.fn(done),
    subscribeTo: jest.fn(done),
    endSubscription: jest.fn(done),
    checkSubscriptions: jest.fn(done),
  };
  const { told, provider } = telling();
  TestBed.configureTestingModule({
    providers: [
      provideRouter([{ path: '**', children: [] }]),
      { provide: SystemsApi, useValue: api },
      signedInAs(role),
      provider,
      quiet,
    ],
  });
  const fixture = TestBed.createComponent(OneSystemView);
  fixture.componentRef.setInput('id', 'fernhill');
  await fixture.whenStable();
  return { ...hands(fixture), api, told };
}

test('who may only look has nothing to press; an operator tests and profiles, and changes nothing', async () => {
  expect(await (await shown(fernhill(), 'viewer')).buttons()).toEqual([]);
  TestBed.resetTestingModule();
  const { buttons } = await shown(fernhill({ subscriptions: [] }), 'operator');
  expect(await buttons()).toEqual(['Test', 'Profile all']);
});

test('when access ends is said, and stands out once it is near', async () => {
  const standsOut = () => document.querySelector('strong.waits')?.textContent;
  const { text } = await shown(fernhill({ accessEndsOn: '2031-03-01', certificateEndsAt: '2031-04-02T10:00:00Z' }));
  expect(await text()).toContain('Its access ends on 1 March 2031.');
  expect(await text()).toContain('Its certificate ends on 2 April 2031.');
  expect(await text()).toContain('It ends on 6 May 2031.');
  expect(standsOut()).toBeUndefined();
  TestBed.resetTestingModule();
  const day = new Date(Date.now() + 3 * 24 * 3600 * 1000).toISOString().slice(0, 10);
  await shown(fernhill({ accessEndsOn: day }));
  expect(standsOut()).toMatch(/\d{4}$/);
});

test('what takes something away is asked before, and what was done is seen at once', async () => {
  const { press, told, api } = await shown();
  await press('Withdraw');
  await press('Give it back');
  expect(told).toEqual(['Withdraw the secret of Fernhill CRM?', 'Give the consent of Fernhill CRM back?']);
  expect([api.withdrawCredential.mock.calls, api.giveConsentBack.mock.calls]).toEqual([[['fernhill']], [['fernhill']]]);
  expect(api.system).toHaveBeenCalledTimes(3);
  await press(/Disconnect/);
  expect(told.at(-1)).toBe('Disconnect Fernhill CRM?');
  expect(TestBed.inject(Router).url).toBe('/systems');
});

test('what is refused is said, and the view shows what is so', async () => {
  const { press, told, api } = await shown();
  api.withdrawCredential.mockReturnValueOnce(refused(409, { code: 'x', says: 'A run is under way.' }));
  await press('Withdraw');
  expect(told.at(-1)).toBe('A run is under way.');
  expect(api.system).toHaveBeenCalledTimes(2);
  api.disconnectSystem.mockReturnValueOnce(refused(409, { code: 'x', says: 'Customers uses it.' }));
  await press(/Disconnect/);
  expect([told.at(-1), TestBed.inject(Router).url]).toEqual(['Customers uses it.', '/']);
});

test('a test is pressed once at a time, and what it found is read', async () => {
  const { press, buttons, api, told } = await shown();
  const answer = new Subject<object>();
  api.probe.mockReturnValueOnce(answer);
  await press('Test');
  expect(await buttons()).toContain('Testing…');
  answer.error({ error: { code: 'x', says: 'The server is gone.' } });
  expect([(await buttons()).includes('Test'), told.at(-1)]).toEqual([true, 'The server is gone.']);
});

test('a new secret is typed once, sent, and tried; it is nowhere to be read afterwards', async () => {
  const { press, type, text, api, told } = await shown();
  await press('Replace');
  await type('Id or key', 'robot');
  await type('Secret', 'hush hush');
  await press('Replace');
  expect(api.replaceCredential).toHaveBeenCalledWith('fernhill', { id: 'robot', secret: 'hush hush' });
  expect(told).toEqual(['Replaced. Everything that uses this system signs in with it from now on.']);
  expect(api.probe).toHaveBeenCalledTimes(1);
  expect(await text()).not.toContain('hush');
});

test('objects with events can be subscribed to, once; a subscription in doubt says why, and is ended', async () => {
  const { press, api } = await shown();
  await press(/accounts/);
  expect(api.subscribeTo).toHaveBeenCalledWith('fernhill', 'accounts');
  TestBed.resetTestingModule();
  const subscription = {
    id: 's1',
    object: 'accounts',
    address: 'https://here.example/h',
    state: 'missing',
    words: 'It was switched off there.',
    checkedAt: at,
    putRight: 2,
    received: 12,
    refused: 1,
    lastAt: at,
  };
  const again = await shown(fernhill({ subscriptions: [subscription] }));
  const words = await again.text();
  expect(words).toContain('in doubt');
  expect(words).toContain('12 deliveries');
  expect(words).toContain('1 refused, put right 2 times');
  expect(words).toContain('It was switched off there.');
  await again.press('End it');
  expect(again.api.endSubscription).toHaveBeenCalledWith('fernhill', 'accounts');
});

test('calls, what is left of them, and what each object is, are said', async () => {
  const { text, rows } = await shown(
    fernhill({
      objects: [
        object('accounts', {
          records: 467,
          fields: 12,
          holdsIsGuessed: false,
          profile: { state: 'failed', records: 0, startedAt: at, endedAt: at, words: 'ERP refused.' },
        }),
        object('notes', {
          tellsChanges: false,
          profile: { state: 'reading', records: 3, startedAt: at, endedAt: null, words: null },
        }),
      ],
    }),
  );
  expect(await text()).toContain('40 of 100, 60 left');
  expect(await text()).toContain('at most 2 a second');
  const [accounts, notes] = await rows();
  expect(accounts).toContain('failedERP refused.');
  expect(notes).toContain('found by reading all');
  expect(notes).toContain('reading: 3');
});
