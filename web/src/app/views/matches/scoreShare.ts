import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';

/** From this many bits on a bar has its whole length. */
const wholeBits = 14;

/** What one part adds to a score, or takes from it: a bar to the right or the left, and the number. */
@Component({
  selector: 'ak-score-share',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    <span class="bar" aria-hidden="true"><i [class.against]="adds() < 0" [style.width.%]="share()"></i></span>
    <span class="value">{{ words() }}</span> <small [title]="says()">{{ says() }}</small>
  `,
  styles: `
    :host { display: grid; grid-template-columns: minmax(24px, 1fr) 6ch; column-gap: 6px; align-items: center; }
    /* Zero stands a little left of the middle: what agrees adds more than what differs takes. */
    .bar { display: block; height: 12px; position: relative; border-left: 1px solid var(--hair); margin-left: 42%; }
    i { position: absolute; left: 0; top: 0; bottom: 0; background: var(--petrol); } i.against { left: auto; right: 100%; background: var(--ink-3); max-width: 72%; }
    small { grid-column: 1 / -1; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; } .value { white-space: nowrap; text-align: right; }
  `,
})
export class ScoreShare {
  /** In bits. */
  readonly adds = input.required<number>();
  readonly says = input('');
  protected readonly share = computed(() => Math.min(100, (100 * Math.abs(this.adds())) / wholeBits));
  protected readonly words = computed(() => (this.says() === 'missing' ? '0' : `${this.adds() < 0 ? '−' : '+'}${Math.abs(this.adds()).toFixed(2)}`));
}
