import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { toObservable } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { AnchorView, KnotView } from '@anchor-knot/contracts';
import { catchError, distinctUntilChanged, map, of, switchMap } from 'rxjs';
import { Api } from '../../api/api';
import { type GridMember, type GridRow, RecordGrid } from '../../grid/recordGrid';
import { Value } from '../../values/value';
import { plural, ruleWords, stepWords } from '../../words/sentences';

/** What each cell maps to, its direction and its translation, and under it the value of a sample record. */
@Component({
  selector: 'ak-knot-fields',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, RecordGrid, Value],
  template: `
    <ak-record-grid [caption]="'Fields of ' + knot().name" fieldHint="type · who wins" [anchorHint]="sample() ? 'of the sample' : 'what is agreed'" [rows]="rows()" [members]="members()" [tieing]="tieing()">
      <ng-template #anchor let-row>@if (sample()) { <ak-value [value]="agreed(row.id)" /> } @else { <small>no sample yet</small> }</ng-template>
      <ng-template #cell let-row let-member="member">
        @if (mapping(row.id, member.id); as one) {
          <small class="how"><b>{{ one.direction }}</b> · <span class="path">{{ one.field }}</span>{{ words(row.id, member.id) }}</small>
          @if (sample(); as anchor) { <ak-value class="quiet" [value]="raw(anchor, row.id, member.id)" /> }
        } @else { <small>not here</small> }
      </ng-template>
    </ak-record-grid>
    <p class="pad small">@if (sample(); as one) {Sample: <a [routerLink]="['/anchors', one.id]">{{ one.title }}</a>. }From: the system gives the value. To: it is given the agreed one. Both ways: an edit on either side crosses. The edge of a cell tells the same.</p>
  `,
  styles: `.how { display: block; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; } .how b { color: var(--petrol); font-weight: 600; } .path { font-family: var(--values); font-size: 12px; }`,
})
export class KnotFields {
  readonly knot = input.required<KnotView>();
  readonly #api = inject(Api);
  readonly #id = computed(() => this.knot().id);
  /** A record that is tied in every member, to show what the mappings do. */
  protected readonly sample = toSignal(
    toObservable(this.#id).pipe(
      distinctUntilChanged(),
      switchMap((id) => this.#api.anchors(id, {})),
      map(({ anchors }) => (anchors.find(({ ties, agrees }) => agrees && ties.length === this.knot().members.length) ?? anchors[0])?.id),
      switchMap((id) => (id === undefined ? of(undefined) : this.#api.anchor(id))),
      catchError(() => of(undefined)),
    ),
  );
  protected readonly rows = computed((): GridRow[] =>
    this.knot().definition.fields.map((field) => ({ id: field.id, name: field.name, hint: `${field.type} · ${ruleWords(field.rule, this.knot().members)}` })),
  );
  protected readonly members = computed((): GridMember[] =>
    this.knot().members.map((member) => ({ ...member, hint: `${member.object} · ${plural(member.ties, 'record')} tied`, link: null })),
  );
  protected readonly tieing = computed(() => (row: GridRow, member: GridMember) => this.mapping(row.id, member.id)?.direction ?? null);

  protected mapping(field: string, member: string) {
    return this.knot().definition.fields.find(({ id }) => id === field)?.mappings[member];
  }
  protected words(field: string, member: string): string {
    const steps = this.mapping(field, member)?.steps ?? [];
    return steps.map((step) => ` · ${stepWords(step, this.knot().definition)}`).join('');
  }
  protected agreed(field: string): unknown {
    return this.sample()?.fields.find(({ id }) => id === field)?.agreed?.value;
  }
  protected raw(anchor: AnchorView, field: string, member: string): unknown {
    return anchor.fields.find(({ id }) => id === field)?.cells[member]?.raw;
  }
}
