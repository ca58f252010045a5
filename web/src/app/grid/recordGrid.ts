import { CdkDrag, type CdkDragDrop, CdkDropList } from '@angular/cdk/drag-drop';
import { NgTemplateOutlet } from '@angular/common';
import {
  afterNextRender,
  ChangeDetectionStrategy,
  Component,
  computed,
  contentChild,
  DestroyRef,
  ElementRef,
  inject,
  input,
  output,
  signal,
  type TemplateRef,
} from '@angular/core';
import type { MemberSummary } from '@anchor-knot/contracts';
import { MatTooltip } from '@angular/material/tooltip';
import { ColumnEdge } from './columnEdge';
import { ColumnWidths, usualWidth } from './columnWidths';
import { Pennant } from '../pennant/pennant';
import { WholeText } from '../values/wholeText';

/** A row of the grid: one shared field. */
export interface GridRow {
  readonly id: string;
  readonly name: string;
  /** Said below the name: type, rule. */
  readonly hint?: string;
}

export interface GridMember extends MemberSummary {
  /** Said below the system's name: object, key, how many. */
  readonly hint: string;
  readonly link?: string | null;
}

/** How a cell stands out. Agreement is quiet. */
export type CellTone = 'plain' | 'waits' | 'wrong';
/** How a cell's edge is tied to the anchor's column. */
export type CellTieing = 'from' | 'to' | 'both ways' | null;

/** From so many rows on only those are drawn that can be seen. */
const longGrid = 60;
const drawnAround = 8;

/**
 * The one grid: rows are shared fields; the leftmost columns are the field and, where values are shown, the anchor;
 * then
 * the members, always in the same order and at the same widths, each under its pennant. What stands in a cell is given
 * by the view as a template: `#cell` for members, `#anchor` for the agreed value, `#field` where a field's name is more
 * than its words.
 */
@Component({
  selector: 'ak-record-grid',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ColumnEdge, NgTemplateOutlet, CdkDrag, CdkDropList, Pennant, WholeText, MatTooltip],
  templateUrl: './recordGrid.html',
  styleUrl: './recordGrid.scss',
})
export class RecordGrid {
  readonly caption = input.required<string>();
  readonly rows = input.required<readonly GridRow[]>();
  readonly members = input.required<readonly GridMember[]>();
  readonly fieldHint = input('');
  readonly anchorName = input('Anchor');
  readonly anchorHint = input('what is agreed');
  readonly tone = input<(row: GridRow, member: GridMember) => CellTone>(() => 'plain');
  readonly tieing = input<(row: GridRow, member: GridMember) => CellTieing>(() => null);
  /** The height of every row, in pixels. Where it is given, a long grid draws only the rows that can be seen. */
  readonly rowHeight = input(0);
  /** Whether columns can be dragged to another place. */
  readonly mayMove = input(false);
  /** A member's column was dragged by so many places. */
  readonly moved = output<{ readonly member: string; readonly by: number }>();
  protected readonly isLong = computed(() => this.rowHeight() > 0 && this.rows().length > longGrid);
  /** What can be seen of the container that scrolls, in pixels from the grid's top. */
  readonly #seen = signal({ top: 0, height: 1200 });
  protected readonly window = computed(() => {
    const rows = this.rows().length;
    if (!this.isLong()) return { from: 0, to: rows };
    const { top, height } = this.#seen();
    // Steps of a few rows, so that a little scrolling draws nothing anew.
    const from = Math.max(0, Math.floor(top / this.rowHeight() / drawnAround) * drawnAround - drawnAround);
    return {
      from: Math.min(from, Math.max(0, rows - 1)),
      to: Math.min(rows, from + Math.ceil(height / this.rowHeight()) + 3 * drawnAround),
    };
  });
  protected readonly shown = computed(() => this.rows().slice(this.window().from, this.window().to));
  protected readonly widths = inject(ColumnWidths);
  /** Below it the columns no longer hold what stands in them, and the grid scrolls. */
  protected readonly leastWidth = computed(() => {
    const ofMembers = this.members().map(({ system }) => this.widths.of(system) ?? usualWidth);
    const ofAnchor = this.anchorTemplate() ? (this.widths.of('anchor') ?? 126) : 0;
    return ofMembers.reduce((sum, width) => sum + width, (this.widths.of('field') ?? 150) + ofAnchor);
  });
  protected readonly cellTemplate = contentChild<TemplateRef<{ $implicit: GridRow; member: GridMember }>>('cell');
  protected readonly fieldTemplate = contentChild<TemplateRef<{ $implicit: GridRow }>>('field');
  protected readonly anchorContent = contentChild<TemplateRef<{ $implicit: GridRow }>>('anchor');
  protected readonly anchorTemplate = computed(() => this.anchorContent());

  constructor() {
    const host = inject<ElementRef<HTMLElement>>(ElementRef).nativeElement;
    const destroyed = inject(DestroyRef);
    afterNextRender(() => {
      const container = host.closest('.scroll');
      if (!container) return;
      const look = (): void =>
        this.#seen.set({
          top: Math.max(0, container.getBoundingClientRect().top - host.getBoundingClientRect().top),
          height: container.clientHeight,
        });
      look();
      container.addEventListener('scroll', look, { passive: true });
      const resized = new ResizeObserver(look);
      resized.observe(container);
      destroyed.onDestroy(() => {
        container.removeEventListener('scroll', look);
        resized.disconnect();
      });
    });
  }

  protected dropped({ item, previousIndex, currentIndex }: CdkDragDrop<unknown, unknown, string>): void {
    if (previousIndex !== currentIndex) this.moved.emit({ member: item.data, by: currentIndex - previousIndex });
  }
}
