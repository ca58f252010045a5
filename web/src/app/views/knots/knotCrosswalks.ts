import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { KnotView } from '@anchor-knot/contracts';
import { Pennant } from '../../pennant/pennant';

/** Tables that translate values between systems: the shared value, and what each member calls it. */
@Component({
  selector: 'ak-knot-crosswalks',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Pennant],
  template: `
    @for (table of tables(); track table.id) {
      <h2 class="pad">{{ table.name }} <small>used by {{ table.usedBy }}</small></h2>
      <table class="plain">
        <thead><tr><th scope="col">Shared value</th>@for (member of knot().members; track member.id) {<th scope="col"><ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" /></th>}</tr></thead>
        <tbody>@for (row of table.rows; track row.shared) { <tr><th scope="row">{{ row.shared }}</th>@for (member of knot().members; track member.id) {<td>@for (value of row.values[member.id]; track value; let first = $first) {<span class="value">{{ value }}</span>@if (first && (row.values[member.id]?.length ?? 0) > 1) { <small>is what is written</small>}<br />} @empty {<span class="quiet">none</span>}</td>}</tr> }</tbody>
      </table>
    } @empty { <p class="empty">This knot has no crosswalk.</p> }
  `,
  styles: `h2 { padding-bottom: 6px; } h2 small { font-weight: 400; }`,
})
export class KnotCrosswalks {
  readonly knot = input.required<KnotView>();
  protected readonly tables = computed(() => {
    const { crosswalks, fields } = this.knot().definition;
    return Object.entries(crosswalks).map(([id, table]) => ({
      id,
      ...table,
      usedBy:
        fields
          .filter(({ mappings }) => Object.values(mappings).some(({ steps }) => steps.some((step) => step.kind === 'crosswalk' && step.table === id)))
          .map(({ name }) => name)
          .join(', ') || 'no field',
    }));
  });
}
