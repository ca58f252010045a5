import { provideZonelessChangeDetection, signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { MatAutocompleteHarness } from '@angular/material/autocomplete/testing';
import { MatSelectHarness } from '@angular/material/select/testing';
import type { ReferenceStep } from '@anchor-knot/core';
import { of } from 'rxjs';
import { AnchorsApi } from '../../../api/anchorsApi';
import { eventually } from '../../../testing/eventually';
import { KnotEditor } from './knotEditor';
import { ReferenceStepEditor } from './referenceStep';

const thing = '0193a0de-7a11-7c00-8000-000000000001';

async function shown(step: ReferenceStep, isKnown = true) {
  const emitted: ReferenceStep[] = [];
  const things = signal<Record<string, { title: string }>>({});
  const asked: unknown[] = [];
  const target = {
    members: [
      { id: 'till', system: 'shop' },
      { id: 'books', system: 'erp' },
    ],
    fields: [{ id: 'email', name: 'Email' }],
    keyRules: [
      { name: 'Email', fields: [{ field: 'email', normalise: 'email' }] },
      { name: 'Name and town', fields: [{ field: 'name' }, { field: 'town' }] },
    ],
  };
  TestBed.configureTestingModule({
    imports: [ReferenceStepEditor],
    providers: [
      provideZonelessChangeDetection(),
      {
        provide: KnotEditor,
        useValue: {
          systems: signal([
            { id: 'shop', name: 'Market Row' },
            { id: 'erp', name: 'Coldharbour ERP' },
          ]),
          targets: {
            definitions: signal(isKnown ? { customers: target } : {}),
            things,
            name: (one: { $thing: string; title: string }) => things.set({ [one.$thing]: one }),
          },
        },
      },
      {
        provide: AnchorsApi,
        useValue: {
          anchors: (...question: unknown[]) => {
            asked.push(question);
            return of({ anchors: [{ id: thing, title: 'Larkspur Orchids' }] });
          },
        },
      },
    ],
  });
  const fixture = TestBed.createComponent(ReferenceStepEditor);
  fixture.componentRef.setInput('step', step);
  fixture.componentRef.setInput('knot', 'customers');
  fixture.componentInstance.changed.subscribe((changed) => {
    emitted.push(changed);
    fixture.componentRef.setInput('step', changed);
  });
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const [way, notFound] = await loader.getAllHarnesses(MatSelectHarness);
  if (!way || !notFound) throw new Error('there are two choices');
  return { emitted, asked, loader, way, notFound, element: fixture.nativeElement as HTMLElement };
}

test('a system refers by a key of each member there, or by a field that is a key alone', async () => {
  const { way, emitted } = await shown({ kind: 'reference', by: { member: 'till' } });
  await way.open();
  const options = await way.getOptions();
  expect(await Promise.all(options.map((option) => option.getText()))).toEqual([
    'key of the record in Market Row',
    'key of the record in Coldharbour ERP',
    'Email: its value',
  ]);
  await way.clickOptions({ text: 'Email: its value' });
  expect(emitted).toEqual([{ kind: 'reference', by: { field: 'email' } }]);
});

test('what is not known is blank, or one that is sought by its name; or waits again', async () => {
  const { notFound, emitted, loader, element, asked } = await shown({ kind: 'reference', by: { member: 'till' } });
  await notFound.clickOptions({ text: 'is blank' });
  expect(emitted.at(-1)?.notFound).toBe('blank');
  await notFound.clickOptions({ text: 'is this one instead' });
  // Until one is chosen it stays as it was.
  expect(emitted).toHaveLength(1);
  const search = await loader.getHarness(MatAutocompleteHarness);
  await search.enterText('lark');
  await eventually(() => search.selectOption({ text: 'Larkspur Orchids' }));
  expect(asked.at(-1)).toEqual(['customers', { search: 'lark' }]);
  expect(emitted.at(-1)?.notFound).toEqual({ instead: thing });
  expect(element.textContent).toContain('This one: Larkspur Orchids');
  await notFound.clickOptions({ text: 'waits until it is there' });
  expect(emitted.at(-1)).toEqual({ kind: 'reference', by: { member: 'till' } });
});

test('a way that is not among those known there stays to be seen', async () => {
  const { way } = await shown({ kind: 'reference', by: { member: 'gone' } }, false);
  expect(await way.getValueText()).toBe('key of the record in gone');
});
