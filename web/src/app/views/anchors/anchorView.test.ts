/** One thing as all systems have it: what waits at each record, and what the records were told of one another. */
import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import type { AnchorView } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { AnchorsApi } from '../../api/anchorsApi';
import { memberNamed } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { quiet, signedInAs, telling } from '../../testing/stubs';
import { StartRun } from '../runs/startRun';
import { OneAnchorView } from './anchorView';

type Member = AnchorView['members'][number];

const member = (id: string, key: string, more: Partial<Member> = {}): Member => ({
  ...memberNamed(id),
  key,
  gone: false,
  rejected: [],
  parked: null,
  unacknowledgedSince: null,
  told: [],
  ...more,
});
const told = (state: 'done' | 'failed' | 'pending', more: Partial<Member['told'][number]> = {}) => ({
  of: 'erp',
  state,
  words: null,
  at: '2026-11-29T08:00:00Z',
  refused: null,
  ...more,
});

async function shown(...members: Member[]) {
  const view = {
    ...{ id: 'a1', knot: 'customers', knotName: 'Customers', thing: 'customer', title: 'Marram', agrees: true },
    ...{ members, fields: [], decisions: [], journal: [], referring: [] },
  } satisfies AnchorView;
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      { provide: AnchorsApi, useValue: { anchor: () => of(view) } },
      { provide: StartRun, useValue: {} },
      signedInAs('viewer'),
      telling().provider,
      quiet,
    ],
  });
  const fixture = TestBed.createComponent(OneAnchorView);
  fixture.componentRef.setInput('id', 'a1');
  await fixture.whenStable();
  return hands(fixture);
}

test('what each record was told last is said, with the reason, and where its system would not take it', async () => {
  const words = 'Phone: no number';
  const { text } = await shown(
    member('crm', 'A-1', { told: [told('failed', { words, refused: 'it is locked' })] }),
    member('shop', '77', { told: [told('done')] }),
    member('erp', 'D1', { unacknowledgedSince: '2026-11-29T08:00:00Z' }),
  );
  const said = await text();
  expect(said).toContain('Fernhill CRM: it failed in Coldharbour ERP: Phone: no number');
  expect(said).toContain('not taken: it is locked');
  expect(said).toContain('Market Row: it is done in Coldharbour ERP');
  expect(said).toContain('D1 · not acknowledged');
});

test('where nothing was told, and of a record that is gone, nothing is said', async () => {
  const { text } = await shown(member('crm', 'A-1', { gone: true, told: [told('done')] }), member('erp', 'D1'));
  expect(await text()).toContain('A-1 · gone');
  expect(await text()).not.toContain('What its records were told');
});
