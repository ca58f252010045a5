/** Sections are tabs with addresses: the one that is shown is selected, also while a page within it is. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { ChangeDetectionStrategy, Component, signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatTabNavBarHarness } from '@angular/material/tabs/testing';
import { provideRouter, Router } from '@angular/router';
import { RouterTestingHarness } from '@angular/router/testing';
import { type Section, Sections } from './sections';

const shown = signal<readonly Section[]>([]);

@Component({
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Sections],
  template: '<ak-sections [of]="of()">what is shown</ak-sections>',
})
class View {
  protected readonly of = shown;
}

test('a section is chosen by its tab, and shown by its address', async () => {
  shown.set([
    { name: 'Members', link: ['/knots', 'a b', 'members'], isWithin: false },
    { name: 'Identity', link: ['/knots', 'a b', 'identity'], isWithin: false },
  ]);
  TestBed.configureTestingModule({ providers: [provideRouter([{ path: 'knots/:id/:section', component: View }])] });
  const harness = await RouterTestingHarness.create('/knots/a%20b/members');
  const bar = await TestbedHarnessEnvironment.loader(harness.fixture).getHarness(MatTabNavBarHarness);
  const active = async () => (await bar.getActiveLink()).getLabel();
  expect(await active()).toBe('Members');
  await bar.clickLink({ label: 'Identity' });
  expect([TestBed.inject(Router).url, await active()]).toEqual(['/knots/a%20b/identity', 'Identity']);
  await harness.navigateByUrl('/knots/a%20b/duplicates');
  shown.update((all) => all.map((one) => ({ ...one, isWithin: one.name === 'Identity' })));
  expect(await active()).toBe('Identity');
  const panel = (harness.routeNativeElement as HTMLElement).querySelector('[role=tabpanel]');
  expect(panel?.textContent).toBe('what is shown');
});
