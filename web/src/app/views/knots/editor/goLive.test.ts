/** What keeps a knot from going live is named as a person knows it, and leads to where it is mended. */
import { jest } from '@jest/globals';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { provideRouter, Router } from '@angular/router';
import type { Finding } from '@anchor-knot/core';
import { fakeEditor } from '../../../testing/fakeEditor';
import { GoLive } from './goLive';
import { KnotEditor } from './knotEditor';
import { Surveys } from './surveys';

async function shown(findings: readonly Finding[]) {
  const editor = { ...fakeEditor(), findings: signal(findings) };
  const surveys = {
    last: signal(undefined),
    progress: signal(undefined),
    problem: signal(undefined),
    findings: signal([]),
    isCurrent: () => false,
    begin: jest.fn(),
  };
  TestBed.configureTestingModule({
    providers: [
      provideRouter([{ path: '**', children: [] }]),
      { provide: KnotEditor, useValue: editor },
      { provide: Surveys, useValue: surveys },
    ],
  });
  const fixture = TestBed.createComponent(GoLive);
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const text = () => (fixture.nativeElement as HTMLElement).textContent.replaceAll(/\s+/g, ' ');
  const buttons = async () => Promise.all((await loader.getAllHarnesses(MatButtonHarness)).map((one) => one.getText()));
  await fixture.whenStable();
  return { loader, text, buttons, surveys };
}
const warns = (at: string): Finding => ({ kind: 'warns', at, says: `about ${at}` });
const stops = (at: string): Finding => ({ kind: 'stops', at, says: `about ${at}` });

test.each([
  ['fields.phone.mappings.crm.steps.0', 'Phone, Fernhill CRM', '/knots/customers/fields?field=phone&member=crm'],
  ['fields.phone.rule', 'Phone', '/knots/customers/fields?field=phone'],
  ['members.erp', 'Members: Coldharbour ERP', '/knots/customers/members'],
  ['members', 'Members', '/knots/customers/members'],
  ['keyRules', 'Identity', '/knots/customers/identity'],
  ['evidence.fields.0', 'Identity: fields', '/knots/customers/identity'],
  ['checks.companyFilled', 'Checks: the company has no name', '/knots/customers/checks'],
  ['titleField', 'Name of an anchor', '/knots/customers/fields'],
])('%s is called “%s” and leads to %s', async (at, name, address) => {
  const { loader } = await shown([stops(at)]);
  await (await loader.getHarness(MatButtonHarness.with({ text: name }))).click();
  await TestBed.inject(Router).navigate([], { queryParamsHandling: 'preserve' });
  expect(TestBed.inject(Router).url).toBe(address);
});

test('what stops stands before what only warns, and a long list says how much is left out', async () => {
  const { buttons, text } = await shown([...Array.from({ length: 44 }, () => warns('members')), stops('keyRules')]);
  const names = await buttons();
  expect([names[0], names.length]).toEqual(['Identity', 41]);
  expect(text()).toContain('and 5 more things');
  expect(text()).not.toContain('Nothing.');
});

test('with nothing that stops it says so, and how much there is to know', async () => {
  expect((await shown([warns('members')])).text()).toContain('Nothing. 1 thing to know:');
});

test('all records are tried only when it is asked for', async () => {
  const { loader, surveys } = await shown([]);
  expect(surveys.begin).not.toHaveBeenCalled();
  await (await loader.getHarness(MatButtonHarness.with({ text: 'Try on all records' }))).click();
  expect(surveys.begin).toHaveBeenCalledWith('customers');
});
