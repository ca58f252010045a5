/** The rules of a knot: one for a field, or one for all that are ticked. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { Component, ChangeDetectionStrategy, input, output } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatCheckboxHarness } from '@angular/material/checkbox/testing';
import { MatTableHarness } from '@angular/material/table/testing';
import { provideRouter } from '@angular/router';
import type { Rule } from '@anchor-knot/core';
import { fakeEditor } from '../../../testing/fakeEditor';
import { GoLive } from '../editor/goLive';
import { KnotEditor } from '../editor/knotEditor';
import { KnotRules } from './knotRules';
import { RuleEditor } from './ruleEditor';

@Component({ selector: 'ak-go-live', changeDetection: ChangeDetectionStrategy.OnPush, template: '' })
class NoFindings {}

const given: { rule?: Rule; types?: readonly string[]; set?: (rule: Rule) => void; say?: (text: string) => void } = {};
@Component({ selector: 'ak-rule-editor', changeDetection: ChangeDetectionStrategy.OnPush, template: '' })
class FakeRuleEditor {
  readonly rule = input.required<Rule>();
  readonly types = input.required<readonly string[]>();
  readonly members = input<unknown>();
  readonly mayEdit = input<boolean>();
  readonly changed = output<Rule>();
  readonly reasoned = output<string>();
  look(): void {
    Object.assign(given, {
      rule: this.rule(),
      types: this.types(),
      set: (rule: Rule) => this.changed.emit(rule),
      say: (text: string) => this.reasoned.emit(text),
    });
  }
}

async function shown(field: string) {
  const editor = fakeEditor();
  TestBed.configureTestingModule({
    providers: [provideRouter([{ path: '**', children: [] }]), { provide: KnotEditor, useValue: editor }],
  });
  TestBed.overrideComponent(KnotRules, {
    remove: { imports: [GoLive, RuleEditor] },
    add: { imports: [NoFindings, FakeRuleEditor] },
  });
  const fixture = TestBed.createComponent(KnotRules);
  fixture.componentRef.setInput('field', field);
  const loader = TestbedHarnessEnvironment.loader(fixture);
  await fixture.whenStable();
  const look = async (): Promise<void> => {
    await fixture.whenStable();
    const { debugElement } = fixture;
    debugElement.query(({ name }) => name === 'ak-rule-editor')?.componentInstance.look();
  };
  const ruleOf = (id: string) => editor.definition().fields.find((one) => one.id === id)?.rule;
  return { loader, look, ruleOf, editor, text: () => (fixture.nativeElement as HTMLElement).textContent };
}
const newest: Rule = { steps: [{ step: 'newest' }, { step: 'ask' }] };

test('every field that members give stands there with its rule in words; a computed one has none', async () => {
  const { loader } = await shown('phone');
  const table = await loader.getHarness(MatTableHarness);
  const rows = await Promise.all((await table.getRows()).map((row) => row.getCellTextByColumnName()));
  expect(rows.find(({ field }) => field?.startsWith('Phone'))).toMatchObject({ rule: 'ask' });
  expect(rows.find(({ field }) => field?.startsWith('Company'))?.rule).toContain(
    'the newest; else the first of Fernhill CRM',
  );
  expect(rows.some(({ field }) => field?.startsWith('Contact'))).toBe(false);
});

test('the field of the address is edited, and gets a reason', async () => {
  const { look, ruleOf } = await shown('phone');
  await look();
  expect(given.types).toEqual(['phone']);
  given.set?.(newest);
  await look();
  given.say?.('The newest call counts');
  expect(ruleOf('phone')).toEqual({ ...newest, reason: 'The newest call counts' });
  await look();
  given.say?.(' ');
  expect(ruleOf('phone')).toEqual(newest);
});

test('all that are ticked get one rule; each keeps only what fits its type', async () => {
  const { loader, look, ruleOf, text } = await shown('phone');
  for (const name of ['Note', 'Credit limit'])
    await (
      await loader.getHarness(
        MatCheckboxHarness.with({
          selector: `[aria-label="Tick ${name}"], mat-checkbox`,
          ancestor: `tr:has([aria-label="Tick ${name}"])`,
        }),
      )
    ).check();
  await look();
  expect(given.types).toEqual(['number', 'note']);
  expect(text()).toContain('They have different rules now');
  given.set?.({ ...newest, combine: 'text' });
  expect(ruleOf('note')).toEqual({ ...newest, combine: 'text' });
  expect(ruleOf('creditLimit')).toEqual(newest);
  expect(ruleOf('phone')).toEqual({ steps: [{ step: 'ask' }] });
});
