import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import type { Decision, MatchRecords, MemberSummary } from '@anchor-knot/contracts';
import { DecisionsApi } from '../../api/decisionsApi';
import { load } from '../../api/loaded';
import { State } from '../state';
import { type ComparedRow, PairGrid } from './pairGrid';

/** The records that a decision on a match is about, side by side, with what each field adds to the score. */
@Component({
  selector: 'ak-match-records',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [PairGrid, State],
  templateUrl: './matchRecordsGrid.html',
  styles: `:host { display: block; margin: 2px 0 8px; }`,
})
export class MatchRecordsGrid {
  readonly decision = input.required<Decision>();
  readonly members = input.required<readonly MemberSummary[]>();
  readonly #api = inject(DecisionsApi);
  protected readonly loaded = load(this.decision, ({ knot, id }) => this.#api.matchRecords(knot, id));
  /** The score of the best pair. */
  protected readonly score = computed(() => {
    const decision = this.decision();
    if (decision.kind === 'unsure match') return decision.detail.candidates[0]?.score ?? null;
    return decision.kind === 'duplicate' ? (decision.detail.scores[0]?.score ?? null) : null;
  });

  /** What is weighed comes first, each part at the first of its fields, with the others below. */
  protected rows({ fields }: MatchRecords): ComparedRow[] {
    const score = this.score();
    const weighed = (score?.texts ?? []).flatMap((part, index) =>
      part.fields
        .flatMap((id) => fields.find((field) => field.id === id) ?? [])
        .map(({ id, name, values }, place, own): ComparedRow => {
          const others = own.slice(1).map((other) => other.name);
          return {
            id,
            name,
            values,
            ...(place === 0
              ? { part: score?.parts[index], ...(others.length > 0 ? { hint: `with ${others.join(', ')}` } : {}) }
              : {}),
          };
        }),
    );
    const named = new Set(weighed.map(({ id }) => id));
    return [
      ...weighed.filter(({ id }, place) => weighed.findIndex((row) => row.id === id) === place),
      ...fields.filter(({ id }) => !named.has(id)),
    ];
  }
}
