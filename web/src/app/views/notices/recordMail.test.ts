/** Mails about single records, set by hand: said in one sentence, shown before they are kept. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter, Router } from '@angular/router';
import type { FollowUp } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { FollowUpsApi } from '../../api/followUpsApi';
import { KnotsApi } from '../../api/knotsApi';
import { memberNamed } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { refused, signedInAs, telling } from '../../testing/stubs';
import { RecordMail } from './recordMail';
import { newRecordMail, recordMailForm, recordMailOf, recordMailSentence } from './recordMailForm';
import { RecordMails } from './recordMails';

const id = '0193a0de-7a11-7c00-8000-000000000001';
const mail: FollowUp = {
  ...newRecordMail,
  name: 'Shop desk',
  knot: 'customers',
  member: 'shop',
  outcomes: ['created', 'refused'],
  addresses: ['desk@x.example', 'bram@x.example'],
  addressField: 'email',
};
const knot = {
  id: 'customers',
  name: 'Customers',
  version: 2,
  members: [memberNamed('crm'), memberNamed('shop')],
  definition: {
    fields: [
      { id: 'email', name: 'Email' },
      { id: 'iban', name: 'Bank account', sensitive: true },
    ],
  },
};

async function shown(
  component: typeof RecordMail | typeof RecordMails,
  which = '',
  role: 'administrator' | 'operator' = 'administrator',
) {
  const kept = { id, followUp: mail, revision: 4, changedBy: 'Ottilie', changedAt: '2026-11-29T08:00:00Z' };
  const api = {
    followUps: () => of({ followUps: [kept], noMail: 'No mail can be sent.' }),
    keep: jest.fn((_: string, __: FollowUp, ___: number) => of(5)),
    preview: jest.fn((_: FollowUp) =>
      of({ subject: 'Reed was created', text: 'There', title: 'Reed', to: ['a@x.example'] }),
    ),
    test: jest.fn(() => of(null)),
    remove: jest.fn(() => of(null)),
  };
  const { told, provider } = telling();
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      { provide: FollowUpsApi, useValue: api },
      { provide: KnotsApi, useValue: { knots: () => of([knot]), knot: () => of(knot) } },
      signedInAs(role),
      provider,
    ],
  });
  const fixture = TestBed.createComponent<RecordMail | RecordMails>(component);
  if (which !== '') fixture.componentRef.setInput('mail', which);
  await fixture.whenStable();
  return { ...hands(fixture), api, told };
}
beforeEach(() => sessionStorage.clear());

test('what was kept comes out of the form as it went in, and is one sentence', () => {
  expect(recordMailOf(recordMailForm(mail))).toEqual(mail);
  expect(recordMailSentence(mail, { knot: 'Customers', system: 'Market Row', field: 'Email' })).toBe(
    'desk@x.example, bram@x.example and the address in Email get a mail when a record of Customers was created or ' +
      'refused in Market Row.',
  );
});

test('what is missing is said beside its field; a new one is shown, and kept when it is whole', async () => {
  const { type, choose, press, tick, text, api, told } = await shown(RecordMail, 'new');
  const go = jest.spyOn(TestBed.inject(Router), 'navigate').mockResolvedValue(true);
  await press('Save');
  expect(await text()).toContain('It needs a name');
  expect(await text()).toContain('Choose a member.');
  expect(await type('Addresses', 'desk')).toContain('Addresses such as');
  await type('Name', 'Desk');
  await type('Addresses', 'desk@x.example; bram@x.example');
  await choose('In', 'Market Row');
  await tick('updated');
  await choose('Put in', 'Email');
  await press('Show it');
  expect(await text()).toContain('With Reed, to a@x.example:Reed was created');
  await press('Save');
  expect(api.keep).toHaveBeenCalledWith(
    expect.any(String),
    expect.objectContaining({
      addresses: ['desk@x.example', 'bram@x.example'],
      outcomes: ['created', 'updated'],
      text: expect.stringContaining('{{ fields.email }}'),
    }),
    0,
  );
  const [made] = api.keep.mock.lastCall ?? [];
  expect(go).toHaveBeenCalledWith(['/notices', 'records', made], { replaceUrl: true });
  expect(told).toContain('Kept; it holds from the next run on.');
});

test('fields that are sensitive cannot be chosen; what the server refuses is said, and nothing is lost', async () => {
  const { everywhere: _, loader: __, type, press, text, typed, api } = await shown(RecordMail, id);
  expect(document.body.textContent).not.toContain('Bank account');
  api.keep.mockReturnValueOnce(
    refused(422, { code: 'cannot be', says: 'The text names “run”, which is not there.' }) as never,
  );
  await type('Text', '{{ run }}');
  await press('Save');
  expect(await text()).toContain('The text names “run”, which is not there.');
  expect(await typed('Text')).toBe('{{ run }}');
  await press('Send one to myself');
  expect(api.test).toHaveBeenCalledWith(id);
});

test('the list says who hears of what; only administrators set it', async () => {
  const list = await shown(RecordMails);
  expect((await list.rows())[0]).toContain(
    'get a mail when a record of Customers was created or refused in Market Row.',
  );
  expect(await list.text()).toContain('No mail can be sent.');
  TestBed.resetTestingModule();
  const other = await shown(RecordMail, id, 'operator');
  expect(await other.buttons()).toEqual([]);
});
