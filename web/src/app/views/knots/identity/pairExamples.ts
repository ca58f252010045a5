import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import type { EvidenceSurvey, MemberSummary, PairExample } from '@anchor-knot/contracts';
import { Pennant } from '../../../pennant/pennant';
import type { Thresholds } from './scoreChart';

const shown = 3;

/** Pairs just above and just below each line, the nearest first. */
@Component({
  selector: 'ak-pair-examples',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Pennant],
  template: `
    @for (group of groups(); track group.says) {
      <section [attr.aria-label]="group.says">
        <h3>{{ group.says }}</h3>
        <ul>
          @for (pair of group.pairs; track $index) {
            <li>
              <button type="button" [class.on]="pair === chosen()" [attr.aria-pressed]="pair === chosen()" (click)="choose.emit(pair)">
                <span class="value bits">{{ pair.score.bits.toFixed(2) }}</span>
                @for (side of [pair.a, pair.b]; track $index) { <span class="side"><ak-pennant [settings]="pennantOf(side.member)" [name]="nameOf(side.member)" /> {{ side.title || side.key }}</span> }
              </button>
            </li>
          } @empty { <li class="quiet small">no pair near it</li> }
        </ul>
      </section>
    }
  `,
  styles: `
    :host { display: grid; grid-template-columns: repeat(4, minmax(0, 1fr)); gap: 0 16px; margin-bottom: 10px; } h3 { font-size: 12.5px; font-weight: 650; margin: 0 0 4px; } ul { list-style: none; margin: 0; padding: 0; }
    button { display: grid; grid-template-columns: 46px minmax(0, 1fr); gap: 1px 6px; width: 100%; text-align: left; border: 0; border-top: 1px solid var(--hair-2); background: none; padding: 4px 4px; cursor: pointer; color: var(--ink); font: 12.5px/17px var(--words); } button.on { background: var(--petrol-tint); } button:hover { background: var(--sheet); }
    .bits { grid-row: span 2; font-size: 12.5px; } .side { grid-column: 2; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
    @media (max-width: 1150px) { :host { grid-template-columns: repeat(2, minmax(0, 1fr)); } }
  `,
})
export class PairExamples {
  readonly bins = input.required<EvidenceSurvey['bins']>();
  readonly thresholds = input.required<Thresholds>();
  readonly members = input.required<readonly MemberSummary[]>();
  readonly chosen = input<PairExample>();
  readonly choose = output<PairExample>();

  protected readonly groups = computed(() => {
    const { upper, lower } = this.thresholds();
    const pairs = this.bins()
      .flatMap(({ examples }) => examples)
      .toSorted((a, b) => a.score.bits - b.score.bits);
    const between = (from: number, to: number): PairExample[] => pairs.filter(({ score }) => score.bits >= from && score.bits < to);
    return [
      { says: 'Left apart, just below asking', pairs: between(-Infinity, lower).slice(-shown).toReversed() },
      { says: 'Asked, just above that line', pairs: between(lower, upper).slice(0, shown) },
      { says: 'Asked, just below tying', pairs: between(lower, upper).slice(-shown).toReversed() },
      { says: 'Tied, just above that line', pairs: between(upper, Infinity).slice(0, shown) },
    ];
  });

  protected pennantOf(member: string): MemberSummary['pennant'] {
    return this.members().find(({ id }) => id === member)?.pennant ?? { pattern: 'border', colour: 'ink', letters: '??' };
  }
  protected nameOf(member: string): string {
    return this.members().find(({ id }) => id === member)?.systemName ?? member;
  }
}
