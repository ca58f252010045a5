import { NgTemplateOutlet } from '@angular/common';
import { ChangeDetectionStrategy, Component, computed, contentChild, input, type TemplateRef } from '@angular/core';
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

/**
 * The one grid: rows are shared fields; the leftmost columns are the field and, where values are shown, the anchor; then
 * the members, always in the same order and at the same widths, each under its pennant. What stands in a cell is given
 * by the view as a template: `#cell` for members, `#anchor` for the agreed value.
 */
@Component({
  selector: 'ak-record-grid',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [NgTemplateOutlet, Pennant],
  template: `
    <table [style.min-width.px]="186 + (anchorTemplate() ? 190 : 0) + members().length * 200">
      <caption class="hidden">{{ caption() }}</caption>
      <colgroup>
        <col style="width: 186px" />
        @if (anchorTemplate()) { <col style="width: 23%" /> }
        @for (member of members(); track member.id) { <col /> }
      </colgroup>
      <thead>
        <tr>
          <th scope="col"><span class="system">Field</span><small>{{ fieldHint() }}</small></th>
          @if (anchorTemplate()) { <th scope="col"><span class="system">Anchor</span><small>{{ anchorHint() }}</small></th> }
          @for (member of members(); track member.id) {
            <th scope="col">
              <span class="system"><ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" /></span>
              <small>@if (member.link) {<a [href]="member.link" target="_blank" rel="noopener">{{ member.hint }}<span class="hidden"> (opens the record in {{ member.systemName }})</span></a>} @else {{{ member.hint }}}</small>
            </th>
          }
        </tr>
      </thead>
      <tbody>
        @for (row of rows(); track row.id) {
          <tr [attr.data-field]="row.id">
            <th scope="row" class="field">{{ row.name }}@if (row.hint) {<small [title]="row.hint">{{ row.hint }}</small>}</th>
            @if (anchorTemplate(); as template) { <td class="agreed"><ng-container [ngTemplateOutlet]="template" [ngTemplateOutletContext]="{ $implicit: row }" /></td> }
            @for (member of members(); track member.id) {
              <td [class]="'cell ' + tone()(row, member)" [class.from]="tieing()(row, member) === 'from'" [class.to]="tieing()(row, member) === 'to'" [class.both]="tieing()(row, member) === 'both ways'" [attr.data-member]="member.id">
                @if (cellTemplate(); as template) { <ng-container [ngTemplateOutlet]="template" [ngTemplateOutletContext]="{ $implicit: row, member: member }" /> }
              </td>
            }
          </tr>
        }
      </tbody>
    </table>
  `,
  styles: `
    table { border-collapse: separate; border-spacing: 0; width: 100%; table-layout: fixed; background: var(--sheet); }
    th, td { text-align: left; vertical-align: top; padding: 4px 10px; border-bottom: 1px solid var(--hair-2); border-right: 1px solid var(--hair-2); font-weight: 400; min-width: 0; overflow: hidden; }
    thead th { position: sticky; top: 0; z-index: 2; background: var(--paper); border-bottom: 1px solid var(--hair); padding: 7px 10px 6px; }
    .system { display: flex; font-weight: 650; white-space: nowrap; }
    small { display: block; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
    .field { font-weight: 600; } .field small { font-weight: 400; }
    .cell { position: relative; padding-left: 18px; }
    .cell::before { content: ''; position: absolute; left: 0; top: 6px; bottom: 6px; width: 6px; }
    .both::before { background: var(--petrol); border-radius: 0 4px 4px 0; }
    .from::before { background: linear-gradient(var(--petrol) 50%, transparent 50%); border-radius: 0 4px 0 0; border-bottom: 1px solid var(--petrol); }
    .to::before { background: linear-gradient(transparent 50%, var(--petrol) 50%); border-radius: 0 0 4px 0; border-top: 1px solid var(--petrol); }
    .waits { background: var(--brass-tint); } .wrong { background: var(--vermilion-tint); }
  `,
})
export class RecordGrid {
  readonly caption = input.required<string>();
  readonly rows = input.required<readonly GridRow[]>();
  readonly members = input.required<readonly GridMember[]>();
  readonly fieldHint = input('');
  readonly anchorHint = input('what is agreed');
  readonly tone = input<(row: GridRow, member: GridMember) => CellTone>(() => 'plain');
  readonly tieing = input<(row: GridRow, member: GridMember) => CellTieing>(() => null);
  protected readonly cellTemplate = contentChild<TemplateRef<{ $implicit: GridRow; member: GridMember }>>('cell');
  protected readonly anchorContent = contentChild<TemplateRef<{ $implicit: GridRow }>>('anchor');
  protected readonly anchorTemplate = computed(() => this.anchorContent());
}
