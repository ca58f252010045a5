/** Columns are made wider by pointer and by keyboard, the same in every grid, and stay so. */
import { ChangeDetectionStrategy, Component } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { memberNamed } from '../testing/fakeEditor';
import { ColumnWidths } from './columnWidths';
import { RecordGrid } from './recordGrid';

@Component({
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RecordGrid],
  template: `<ak-record-grid caption="One" [rows]="[]" [members]="members" />
    <ak-record-grid caption="Two" [rows]="[]" [members]="members.slice(0, 1)" />`,
})
class TwoGrids {
  protected readonly members = ['crm', 'shop'].map((id) => ({ ...memberNamed(id), hint: 'things' }));
}

beforeEach(() => {
  localStorage.clear();
  // Nothing is laid out here: every column is as wide as it usually is.
  HTMLElement.prototype.getBoundingClientRect = () => new DOMRect(0, 0, 146, 30);
  HTMLElement.prototype.setPointerCapture = () => undefined;
});

async function shown() {
  const fixture = TestBed.createComponent(TwoGrids);
  await fixture.whenStable();
  const host = fixture.nativeElement as HTMLElement;
  const edge = host.querySelector('[aria-label="Width of Fernhill CRM"]') as HTMLElement;
  const columns = () =>
    Array.from(host.querySelectorAll('table')).map((table) =>
      Array.from(table.querySelectorAll('col'), ({ style }) => style.width).slice(1),
    );
  const act = async (event: Event) => {
    edge.dispatchEvent(event);
    await fixture.whenStable();
  };
  return { edge, columns, act };
}
const key = (name: string) => new KeyboardEvent('keydown', { key: name, bubbles: true });
const pointer = (type: string, clientX: number) =>
  Object.assign(new MouseEvent(type, { clientX, button: 0, bubbles: true }), { pointerId: 1 });

test('the arrows make a column wider in every grid that has it, and Home gives it its share again', async () => {
  const { edge, columns, act } = await shown();
  await act(key('ArrowRight'));
  expect(columns()).toEqual([['170px', ''], ['170px']]);
  expect(edge.getAttribute('aria-valuenow')).toBe('170');
  await act(key('ArrowLeft'));
  expect(columns()).toEqual([['122px', ''], ['122px']]);
  await act(key('Home'));
  expect(columns()).toEqual([['', ''], ['']]);
});

test('dragged it follows the pointer, within bounds, until it is let go', async () => {
  const { columns, act } = await shown();
  await act(pointer('pointerdown', 500));
  await act(pointer('pointermove', 560));
  expect(columns()[0]).toEqual(['206px', '']);
  await act(pointer('pointermove', 5000));
  expect(columns()[0]).toEqual(['900px', '']);
  await act(pointer('pointermove', -900));
  await act(pointer('pointerup', -900));
  await act(pointer('pointermove', 560));
  expect(columns()[0]).toEqual(['90px', '']);
});

test('a width is remembered; what is no width is not', async () => {
  localStorage.setItem('anchor-knot-column-widths', '{"crm": 300, "shop": "wide", "erp": -4, "desk": 1e9}');
  const { columns } = await shown();
  expect(columns()[0]).toEqual(['300px', '']);
  TestBed.inject(ColumnWidths).set('shop', 200);
  expect(JSON.parse(localStorage.getItem('anchor-knot-column-widths') ?? '')).toEqual({ crm: 300, shop: 200 });
  TestBed.resetTestingModule();
  localStorage.setItem('anchor-knot-column-widths', 'not JSON');
  expect((await shown()).columns()[0]).toEqual(['', '']);
});
