import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { WholeText } from '../../values/wholeText';

/** From this many bits on a bar has its whole length. */
const wholeBits = 14;

/** What one part adds to a score, or takes from it: a bar to the right or the left, and the number. */
@Component({
  selector: 'ak-score-share',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [WholeText],
  templateUrl: './scoreShare.html',
  styleUrl: './scoreShare.scss',
})
export class ScoreShare {
  /** In bits. */
  readonly adds = input.required<number>();
  readonly says = input('');
  protected readonly share = computed(() => Math.min(100, (100 * Math.abs(this.adds())) / wholeBits));
  protected readonly words = computed(() =>
    this.says() === 'missing' ? '0' : `${this.adds() < 0 ? '−' : '+'}${Math.abs(this.adds()).toFixed(2)}`,
  );
}
