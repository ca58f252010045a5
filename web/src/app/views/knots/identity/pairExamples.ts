import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import type { EvidenceSurvey, MemberSummary, PairExample } from '@anchor-knot/contracts';
import { MatListModule } from '@angular/material/list';
import { Pennant } from '../../../pennant/pennant';
import type { Thresholds } from './scoreChart';

const shown = 3;

/** Pairs just above and just below each line, the nearest first. */
@Component({
  selector: 'ak-pair-examples',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatListModule, Pennant],
  templateUrl: './pairExamples.html',
  styleUrl: './pairExamples.scss',
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
    const between = (from: number, to: number): PairExample[] =>
      pairs.filter(({ score }) => score.bits >= from && score.bits < to);
    return [
      { says: 'Left apart, just below asking', pairs: between(-Infinity, lower).slice(-shown).toReversed() },
      { says: 'Asked, just above that line', pairs: between(lower, upper).slice(0, shown) },
      { says: 'Asked, just below tying', pairs: between(lower, upper).slice(-shown).toReversed() },
      { says: 'Tied, just above that line', pairs: between(upper, Infinity).slice(0, shown) },
    ];
  });

  protected pennantOf(member: string): MemberSummary['pennant'] {
    return (
      this.members().find(({ id }) => id === member)?.pennant ?? { pattern: 'border', colour: 'ink', letters: '??' }
    );
  }
  protected nameOf(member: string): string {
    return this.members().find(({ id }) => id === member)?.systemName ?? member;
  }
}
