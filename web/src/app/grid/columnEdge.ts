import { ChangeDetectionStrategy, Component, computed, ElementRef, inject, input } from '@angular/core';
import { ColumnWidths, greatestWidth, leastWidth, usualWidth } from './columnWidths';

/** In pixels, by a key. */
const step = 24;

/**
 * The right edge of a column's header: dragged, or moved by the arrow keys, it makes the column wider or narrower; a
 * double click or Home gives it its share of the room again. A separator that can be moved (ARIA 1.2).
 */
@Component({
  selector: 'ak-column-edge',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: '',
  styleUrl: './columnEdge.scss',
  host: {
    role: 'separator',
    tabindex: '0',
    'aria-orientation': 'vertical',
    '[attr.aria-label]': '"Width of " + name()',
    '[attr.aria-valuemin]': 'least',
    '[attr.aria-valuemax]': 'greatest',
    '[attr.aria-valuenow]': 'width() ?? usual',
    '(pointerdown)': 'grasp($event)',
    // The column itself is dragged by its header, which listens to these.
    '(mousedown)': '$event.stopPropagation()',
    '(touchstart)': '$event.stopPropagation()',
    '(dblclick)': 'widths.set(column(), undefined)',
    '(keydown)': 'press($event)',
  },
})
export class ColumnEdge {
  readonly column = input.required<string>();
  readonly name = input.required<string>();
  readonly #element = inject<ElementRef<HTMLElement>>(ElementRef).nativeElement;
  protected readonly widths = inject(ColumnWidths);
  protected readonly width = computed(() => this.widths.of(this.column()));
  protected readonly least = leastWidth;
  protected readonly greatest = greatestWidth;
  protected readonly usual = usualWidth;

  protected grasp(event: PointerEvent): void {
    if (event.button !== 0) return;
    event.preventDefault();
    event.stopPropagation();
    const from = this.#shown();
    const move = ({ clientX }: PointerEvent): void => this.widths.set(this.column(), from + clientX - event.clientX);
    this.#element.setPointerCapture(event.pointerId);
    this.#element.addEventListener('pointermove', move);
    const release = (): void => this.#element.removeEventListener('pointermove', move);
    this.#element.addEventListener('pointerup', release, { once: true });
    this.#element.addEventListener('pointercancel', release, { once: true });
  }

  protected press(event: KeyboardEvent): void {
    if (event.altKey || event.ctrlKey || event.metaKey) return;
    if (event.key === 'ArrowRight') this.widths.set(this.column(), this.#shown() + step);
    else if (event.key === 'ArrowLeft') this.widths.set(this.column(), this.#shown() - step);
    else if (event.key === 'Home') this.widths.set(this.column(), undefined);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** How wide the column is now, whoever decided that. */
  #shown(): number {
    return this.#element.parentElement?.getBoundingClientRect().width ?? this.width() ?? usualWidth;
  }
}
