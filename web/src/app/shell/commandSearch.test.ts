/** One field finds everything that has a name, and a late answer never replaces a newer one. */
import { jest } from '@jest/globals';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { TestBed } from '@angular/core/testing';
import { MatAutocompleteHarness } from '@angular/material/autocomplete/testing';
import { MatDialogRef } from '@angular/material/dialog';
import { provideRouter, Router } from '@angular/router';
import { of, Subject, throwError } from 'rxjs';
import { AnchorsApi } from '../api/anchorsApi';
import { KnotsApi } from '../api/knotsApi';
import { SystemsApi } from '../api/systemsApi';
import { eventually } from '../testing/eventually';
import { CommandSearch } from './commandSearch';

interface FoundAnchor {
  id: string;
  title: string;
  knotName: string;
  keys: string[];
}
const found = (id: string, title = `Thing ${id}`): FoundAnchor => ({ id, title, knotName: 'Customers', keys: ['A-1'] });

async function shown(isAnswered = true) {
  const answers = new Map<string, Subject<FoundAnchor[]>>();
  const find = jest.fn((text: string) => {
    const answer = new Subject<FoundAnchor[]>();
    answers.set(text, answer);
    return answer;
  });
  const close = jest.fn();
  const fails = throwError(() => new Error('the server is gone'));
  TestBed.configureTestingModule({
    providers: [
      provideRouter([{ path: '**', children: [] }]),
      { provide: MatDialogRef, useValue: { close } },
      { provide: AnchorsApi, useValue: { find } },
      { provide: KnotsApi, useValue: { knots: () => (isAnswered ? of([{ id: 'orders', name: 'Orders' }]) : fails) } },
      { provide: SystemsApi, useValue: { systems: () => (isAnswered ? of([]) : fails) } },
    ],
  });
  const fixture = TestBed.createComponent(CommandSearch);
  const field = await TestbedHarnessEnvironment.loader(fixture).getHarness(MatAutocompleteHarness);
  const type = async (text: string): Promise<void> => {
    await field.clear();
    await field.enterText(text);
  };
  /** The question that is asked once nothing was typed for a moment. */
  const answer = async (text: string): Promise<Subject<FoundAnchor[]>> => {
    await eventually(() => expect([...answers.keys()]).toContain(text));
    return answers.get(text) as Subject<FoundAnchor[]>;
  };
  const names = async () => Promise.all((await field.getOptions()).map((option) => option.getText()));
  return { field, type, names, answer, find, close };
}

test('views, knots and their parts are there at once; anchors of every knot join when they come', async () => {
  const { type, names, answer, field, close } = await shown();
  await type('orders');
  await eventually(async () => expect((await names())[0]).toMatch(/^Orders/));
  (await answer('orders')).next([found('1', 'Orders & Sons'), found('2', '')]);
  expect(await names()).toEqual(
    expect.arrayContaining(['Orders & Sons Customers · A-1', 'without a name Customers · A-1']),
  );
  await field.selectOption({ text: /^Orders & Sons/ });
  expect(close).toHaveBeenCalledTimes(1);
  await TestBed.inject(Router).navigate([], { queryParamsHandling: 'preserve' });
  expect(TestBed.inject(Router).url).toBe('/anchors/1');
});

test('a late answer to what was typed before is dropped; one letter asks nobody', async () => {
  const { type, names, answer, find } = await shown();
  await type('m');
  // As long as the pause after which the text would have been asked for.
  await new Promise((resolve) => setTimeout(resolve, 200));
  expect(find).not.toHaveBeenCalled();
  await type('marram');
  const late = await answer('marram');
  await type('marrow');
  (await answer('marrow')).next([found('2', 'Marrowby')]);
  late.next([found('1', 'Marram')]);
  expect(await names()).toEqual(['Marrowby Customers · A-1']);
});

test('what is called nothing says so, and with the server gone the views are still found', async () => {
  const { type, names, answer } = await shown(false);
  await type('watch');
  await eventually(async () => expect((await names())[0]).toMatch(/^Watch/));
  await type('zzzz');
  (await answer('zzzz')).error(new Error('the server is gone'));
  expect(await names()).toEqual(['Nothing is called that.']);
  await type('decisions');
  await eventually(async () => expect((await names())[0]).toMatch(/^Decisions/));
});
