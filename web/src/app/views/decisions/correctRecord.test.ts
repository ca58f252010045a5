/** A record is corrected where it stands: what is wrong is open, and only what was typed is sent. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { TestBed } from '@angular/core/testing';
import { HttpErrorResponse } from '@angular/common/http';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import type { Decision, RecordToCorrect } from '@anchor-knot/contracts';
import { of, Subject, throwError } from 'rxjs';
import { DecisionsApi } from '../../api/decisionsApi';
import { LiveEvents } from '../../api/liveEvents';
import { memberNamed } from '../../testing/fakeEditor';
import { CorrectRecord } from './correctRecord';

const field = (id: string, raw: never, reason: string | null = null) => ({
  id,
  name: id,
  path: `${id}_there`,
  raw,
  meaning: null,
  reason,
  mayWrite: true,
});
const record: RecordToCorrect = {
  member: 'crm',
  key: 'A-1',
  version: '7',
  fields: [
    field('phone', '16320O' as never, 'no phone number'),
    field('limit', { $number: '4500' } as never),
    field('town', 'Marrowby' as never),
  ],
  fails: [],
  cannot: null,
};
const decision = { id: '5', knot: 'customers', kind: 'unreadable', member: 'crm', key: 'A-1', field: 'phone' };

async function shown(there: RecordToCorrect, answer: () => unknown = () => of({})) {
  const sent: unknown[] = [];
  TestBed.configureTestingModule({
    providers: [
      {
        provide: DecisionsApi,
        useValue: {
          recordToCorrect: () => of(there),
          correct: (...call: unknown[]) => {
            sent.push(call);
            return answer();
          },
        },
      },
      { provide: LiveEvents, useValue: { decided: new Subject() } },
    ],
  });
  const fixture = TestBed.createComponent(CorrectRecord);
  fixture.componentRef.setInput('decision', decision as unknown as Decision);
  fixture.componentRef.setInput('members', [memberNamed('crm')]);
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const button = (text: RegExp) => loader.getHarness(MatButtonHarness.with({ text }));
  const inputs = await loader.getAllHarnesses(MatInputHarness);
  return { fixture, sent, button, inputs, text: () => (fixture.nativeElement as HTMLElement).textContent };
}

test('what cannot be read stands first with its reason; what was typed is sent with the version seen', async () => {
  const { sent, button, inputs, text } = await shown(record);
  expect(text()).toContain('no phone number');
  expect(await (await button(/Write/)).isDisabled()).toBe(true);
  expect(await inputs[0]?.getValue()).toBe('16320O');
  await inputs[0]?.setValue('+44 1632 960');
  await inputs[1]?.setValue('4600');
  const write = await button(/Write/);
  expect(await write.getText()).toBe('Write 2 values to Fernhill CRM');
  await write.click();
  expect(sent).toEqual([
    ['customers', '5', { version: '7', values: { phone: '+44 1632 960', limit: { $number: '4600' } } }],
  ]);
});

test('what was typed back to what stands there is nothing to send', async () => {
  const { button, inputs } = await shown(record);
  await inputs[2]?.setValue('Thornquay');
  await inputs[2]?.setValue('Marrowby');
  expect(await (await button(/Write/)).isDisabled()).toBe(true);
});

test('a refusal is told, and what was typed stays', async () => {
  const error = { code: 'not possible', says: 'It would still be rejected: no name.' };
  const refuse = () => throwError(() => new HttpErrorResponse({ status: 409, error }));
  const { button, inputs, text } = await shown(record, refuse);
  await inputs[0]?.setValue('1');
  await (await button(/Write/)).click();
  expect(text()).toContain('It would still be rejected: no name.');
  expect(await inputs[0]?.getValue()).toBe('1');
});

test('where the knot may not write it is said why', async () => {
  const cannot = 'The knot may not update records of this member.';
  const { inputs, text } = await shown({
    ...record,
    cannot,
    fields: record.fields.map((one) => ({ ...one, mayWrite: false })),
  });
  expect(text()).toContain(cannot);
  expect(await inputs[0]?.isReadonly()).toBe(true);
});
