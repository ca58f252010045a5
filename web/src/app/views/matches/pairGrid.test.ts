/** Two records side by side: what is shown of a score is all that it consists of. */
import { TestBed } from '@angular/core/testing';
import type { MemberSummary, PairScore } from '@anchor-knot/contracts';
import { PairGrid } from './pairGrid';

const pennant = { pattern: 'halves', colour: 'petrol', letters: 'FC' } as MemberSummary['pennant'];
const members = [
  { id: 'crm', systemName: 'Fernhill CRM', pennant, recordPage: 'http://crm.example/{key}', listPage: null },
  { id: 'shop', systemName: 'Market Row', pennant, recordPage: null, listPage: null },
] as unknown as MemberSummary[];
const part = (name: string, says: string, adds: number) => ({ name, says, adds, rarity: 0 });
const score: PairScore = {
  bits: -1.29,
  probability: 0.29,
  prior: -15.08,
  related: -14.3,
  parts: [
    part('Name', 'one name alike, another not', 1.2),
    part('Address', 'same', 13.5),
    part('Phone', 'same', 13.39),
  ],
};

function shown(of: PairScore): HTMLElement {
  const fixture = TestBed.createComponent(PairGrid);
  fixture.componentRef.setInput('members', members);
  fixture.componentRef.setInput('records', [
    { member: 'crm', key: 'A-1', title: 'Ada Noel' },
    { member: 'shop', key: '77', title: '77' },
  ]);
  fixture.componentRef.setInput(
    'rows',
    of.parts.map((one, at) => ({
      id: one.name,
      name: one.name,
      values: [`left ${at}`, at === 2 ? null : `right ${at}`],
      part: one,
    })),
  );
  fixture.componentRef.setInput('score', of);
  fixture.componentRef.setInput('rules', [{ name: 'Email', says: 'missing' }]);
  fixture.detectChanges();
  return fixture.nativeElement as HTMLElement;
}
const textOf = (element: Element | null): string => (element?.textContent ?? '').replaceAll(/\s+/g, ' ').trim();
const hundredths = (text: string): number =>
  Math.round(100 * Number(text.replaceAll(/[^\d.−-]/g, '').replace('−', '-')));

test('what related records take off is said, and all that is shown adds up to the score, to the last digit', () => {
  const grid = shown(score);
  const says = textOf(grid.querySelector('p'));
  expect(says).toContain('−14.30 bits because others who are not the same agree in as much');
  expect(says).toContain('Email is missing in one');
  const [whole = '', ...before] = [...grid.querySelectorAll('p .value')].map(textOf);
  const parts = [...grid.querySelectorAll('ak-score-share .value')].map(textOf);
  expect(parts).toHaveLength(3);
  expect([...before, ...parts].reduce((sum, text) => sum + hundredths(text), 0)).toBe(hundredths(whole));
});

test('where nothing is taken off, nothing is said of it; a record is linked where its system has a page for it', () => {
  const grid = shown({ ...score, bits: 13.01, related: 0 });
  expect(textOf(grid.querySelector('p'))).not.toContain('because');
  expect(
    [...grid.querySelectorAll('thead a')].map((link) => [
      link.getAttribute('href'),
      textOf(link).includes('A-1 · Ada Noel'),
    ]),
  ).toEqual([['http://crm.example/A-1', true]]);
  expect(textOf(grid.querySelector('tr[data-field="Phone"]'))).toContain('blank');
});
