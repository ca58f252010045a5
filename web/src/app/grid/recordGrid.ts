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
import { Pennant } from '../pennant/pennant';

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
 * The one grid: rows are shared fields; the leftmost columns are the field and, where values are shown, the anchor; then
 * the members, always in the same order and at the same widths, each under its pennant. What stands in a cell is given
 * by the view as a template: `#cell` for members, `#anchor` for the agreed value, `#field` where a field's name is more than its words.
 */
@Component({
  selector: 'ak-record-grid',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [NgTemplateOutlet, CdkDrag, CdkDropList, Pennant],
  template: `
    <table [attr.aria-rowcount]="isLong() ? rows().length + 1 : null" [style.min-width.px]="150 + (anchorTemplate() ? 126 : 0) + members().length * 146">
      <caption class="hidden">{{ caption() }}</caption>
      <colgroup>
        <col style="width: 150px" />
        @if (anchorTemplate()) { <col style="width: 15%" /> }
        @for (member of members(); track member.id) { <col /> }
      </colgroup>
      <thead>
        <tr cdkDropList cdkDropListOrientation="horizontal" [cdkDropListDisabled]="!mayMove()" (cdkDropListDropped)="dropped($event)">
          <th scope="col"><span class="system">Field</span><small>{{ fieldHint() }}</small></th>
          @if (anchorTemplate()) { <th scope="col"><span class="system">{{ anchorName() }}</span><small>{{ anchorHint() }}</small></th> }
          @for (member of members(); track member.id) {
            <th scope="col" cdkDrag cdkDragLockAxis="x" [cdkDragDisabled]="!mayMove()" [cdkDragData]="member.id" [class.movable]="mayMove()" [title]="mayMove() ? 'Drag to move this column; Alt with an arrow in a cell does the same' : ''">
              <span class="system"><ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" /></span>
              <small>@if (member.link) {<a [href]="member.link" target="_blank" rel="noopener">{{ member.hint }}<span class="hidden"> (opens the record in {{ member.systemName }})</span></a>} @else {{{ member.hint }}}</small>
            </th>
          }
        </tr>
      </thead>
      <tbody>
        @if (window().from > 0) { <tr class="filler" aria-hidden="true"><td [attr.colspan]="members().length + 2" [style.height.px]="window().from * rowHeight()"></td></tr> }
        @for (row of shown(); track row.id; let index = $index) {
          <tr [attr.data-field]="row.id" [attr.aria-rowindex]="isLong() ? window().from + index + 2 : null" [style.height.px]="isLong() ? rowHeight() : null">
            <th scope="row" class="field">@if (fieldTemplate(); as template) { <ng-container [ngTemplateOutlet]="template" [ngTemplateOutletContext]="{ $implicit: row }" /> } @else {{{ row.name }}@if (row.hint) {<small [title]="row.hint">{{ row.hint }}</small>}}</th>
            @if (anchorTemplate(); as template) { <td class="agreed"><ng-container [ngTemplateOutlet]="template" [ngTemplateOutletContext]="{ $implicit: row }" /></td> }
            @for (member of members(); track member.id) {
              <td [class]="'cell ' + tone()(row, member)" [class.from]="tieing()(row, member) === 'from'" [class.to]="tieing()(row, member) === 'to'" [class.both]="tieing()(row, member) === 'both ways'" [attr.data-member]="member.id">
                @if (cellTemplate(); as template) { <ng-container [ngTemplateOutlet]="template" [ngTemplateOutletContext]="{ $implicit: row, member: member }" /> }
              </td>
            }
          </tr>
        }
        @if (rows().length > window().to) { <tr class="filler" aria-hidden="true"><td [attr.colspan]="members().length + 2" [style.height.px]="(rows().length - window().to) * rowHeight()"></td></tr> }
      </tbody>
    </table>
  `,
  styles: `
    table { border-collapse: separate; border-spacing: 0; width: 100%; table-layout: fixed; background: var(--sheet); }
    th, td { text-align: left; vertical-align: top; padding: 4px 10px; border-bottom: 1px solid var(--hair-2); border-right: 1px solid var(--hair-2); font-weight: 400; min-width: 0; overflow: hidden; }
    thead th { position: sticky; top: 0; z-index: 2; background: var(--paper); border-bottom: 1px solid var(--hair); padding: 7px 10px 6px; }
    .system { display: block; font-weight: 650; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
    thead .system, thead small { --name-wraps: normal; white-space: normal; overflow-wrap: anywhere; }
    small { display: block; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
    th:first-child { position: sticky; left: 0; z-index: 1; background: var(--sheet); } thead th:first-child { z-index: 3; background: var(--paper); }
    .field { font-weight: 600; } .field small { font-weight: 400; }
    .cell { position: relative; padding-left: 18px; }
    .cell::before { content: ''; position: absolute; left: 0; top: 6px; bottom: 6px; width: 6px; }
    .both::before { background: var(--petrol); border-radius: 0 4px 4px 0; }
    .from::before { background: linear-gradient(var(--petrol) 50%, transparent 50%); border-radius: 0 4px 0 0; border-bottom: 1px solid var(--petrol); }
    .to::before { background: linear-gradient(transparent 50%, var(--petrol) 50%); border-radius: 0 0 4px 0; border-top: 1px solid var(--petrol); }
    .filler td { padding: 0; border: 0; } .movable { cursor: grab; } .cdk-drag-preview { background: var(--sheet); border: 1px solid var(--hair); padding: 7px 10px; box-sizing: border-box; }
    .waits { background: var(--brass-tint); } .wrong { background: var(--vermilion-tint); }
  `,
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
    return { from: Math.min(from, Math.max(0, rows - 1)), to: Math.min(rows, from + Math.ceil(height / this.rowHeight()) + 3 * drawnAround) };
  });
  protected readonly shown = computed(() => this.rows().slice(this.window().from, this.window().to));
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
      const look = (): void => this.#seen.set({ top: Math.max(0, container.getBoundingClientRect().top - host.getBoundingClientRect().top), height: container.clientHeight });
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
