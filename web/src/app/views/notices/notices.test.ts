/** What needed somebody, and what was sent: what is new, what goes on, and where it leads. */
import { jest } from '@jest/globals';
import { type Type } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import type { Message, MessageList, Notice, NoticeList } from '@anchor-knot/contracts';
import { NEVER, of } from 'rxjs';
import { LiveEvents } from '../../api/liveEvents';
import { NoticesApi } from '../../api/noticesApi';
import { hands } from '../../testing/hands';
import { refused, signedInAs, telling } from '../../testing/stubs';
import { Happened } from './happened';
import { SentMessages } from './sentMessages';

const notice = (more: Partial<Notice>): Notice => ({
  id: '7',
  topic: 'run failed',
  about: 'Customers',
  words: 'Customers: the run failed.',
  path: '/runs/r1',
  beganAt: '2026-11-29T08:00:00Z',
  latestAt: '2026-11-29T08:00:00Z',
  times: 1,
  overAt: null,
  isUnread: false,
  ...more,
});
const message = (more: Partial<Message>): Message => ({
  id: 'm1',
  ruleName: 'Night watch',
  recipient: { kind: 'mail', address: 'bram@x.example' },
  subject: 'Customers: the run failed.',
  text: 'The whole text.',
  state: 'sent',
  attempts: 1,
  nextAt: null,
  trouble: null,
  createdAt: '2026-11-29T08:00:00Z',
  sentAt: '2026-11-29T08:00:01Z',
  ...more,
});

async function shown<T>(component: Type<T>, api: object, role: 'administrator' | 'operator' = 'administrator') {
  const { told, provider } = telling();
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      { provide: NoticesApi, useValue: api },
      { provide: LiveEvents, useValue: { ends: NEVER } },
      signedInAs(role),
      provider,
    ],
  });
  const fixture = TestBed.createComponent(component);
  await fixture.whenStable();
  return { ...hands(fixture), told, fixture };
}
const happened = (list: Partial<NoticeList>) => {
  const api = {
    notices: jest.fn(() => of({ notices: [], next: null, unread: 0, ...list })),
    markSeen: jest.fn(() => of(null)),
  };
  return { api, ...{ shown: () => shown(Happened, api) } };
};

test('what goes on stands apart from what is over and what just happened; each leads to its place', async () => {
  const notices = [
    notice({
      id: '9',
      topic: 'decision',
      words: 'Customers: 3 held fields wait.',
      path: '/decisions?knot=c&kind=held',
    }),
    notice({ id: '8', isUnread: true, times: 4 }),
    notice({ id: '7', topic: 'run missed', words: 'Missed.', overAt: '2026-11-29T08:00:00Z' }),
    notice({ id: '6', topic: 'system in trouble', words: 'No answer.', overAt: '2026-11-29T09:00:00Z' }),
  ];
  const { api, shown } = happened({ notices, unread: 1, next: '6' });
  const { rows, links, press, text } = await shown();
  const [decision, failed, missed, over] = await rows();
  expect([decision, failed, missed, over]).toEqual([
    expect.stringMatching(/held fields wait.*waits$/),
    expect.stringMatching(/\(new to you\).*4 times, last .*goes on$/),
    expect.stringMatching(/happened$/),
    expect.stringMatching(/over .+$/),
  ]);
  expect(await links()).toEqual([
    '/decisions?knot=c&kind=held',
    '/runs/r1',
    '/runs/r1',
    '/runs/r1',
    '/notices/happened?before=6',
  ]);
  expect(await text()).toContain('1 notice new to you.');
  await press('I have seen them');
  expect(api.markSeen).toHaveBeenCalledWith('9');
  expect(api.notices).toHaveBeenCalledTimes(2);
});

test('where nothing has happened, it says what will be here', async () => {
  expect(await (await happened({}).shown()).text()).toContain('Nothing has needed anybody.');
});

test('sent, tried again and refused are told apart; a text opens, a message goes again', async () => {
  const messages = [
    message({}),
    message({ id: 'm2', state: 'waiting', attempts: 2, trouble: 'no answer', nextAt: '2099-01-01T00:00:00Z' }),
    message({ id: 'm3', state: 'refused', trouble: 'no such mailbox', subject: 'Other' }),
  ];
  const list: MessageList = { messages, next: null };
  const api = { messages: jest.fn(() => of(list)), sendAgain: jest.fn() as jest.Mock };
  const { rows, loader, told, text } = await shown(SentMessages, api);
  const [sent, waiting, refusedRow] = await rows();
  expect(sent).toMatch(/sent/);
  expect(waiting).toMatch(/tried 2 times · again .*no answer/);
  expect(refusedRow).toMatch(/refusedno such mailbox/);
  const { MatButtonHarness } = await import('@angular/material/button/testing');
  const button = (name: string) => loader.getHarness(MatButtonHarness.with({ selector: `[aria-label="${name}"]` }));
  await (await button('Text of Other')).click();
  expect(await text()).toContain('The whole text.');
  api.sendAgain.mockReturnValue(refused(404, { code: 'not found', says: 'There is no such message.' }));
  await (await button('Send again: Other')).click();
  expect(api.sendAgain).toHaveBeenCalledWith('m3');
  expect(told).toEqual(['There is no such message.']);
});

test('who may not send reads only', async () => {
  const api = { messages: () => of({ messages: [message({})], next: null }) };
  expect(await (await shown(SentMessages, api, 'operator')).buttons()).toEqual(['Text']);
});
