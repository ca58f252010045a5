import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { pieces, valueText } from './valueText';
import { WholeText } from './wholeText';

/** A record's value, whole on hover and focus, with changed characters and blanks at the ends made visible. */
@Component({
  selector: 'ak-value',
  changeDetection: ChangeDetectionStrategy.OnPush,
  templateUrl: './value.html',
  hostDirectives: [WholeText],
  host: { class: 'value', '[class.wrap]': 'wrap()' },
  styleUrl: './value.scss',
})
export class Value {
  readonly value = input.required<unknown>();
  /** Another value to compare with: what differs from it is marked. */
  readonly against = input<unknown>(undefined);
  readonly wrap = input(false);
  readonly blankAs = input('blank');
  protected readonly text = computed(() => valueText(this.value()));
  protected readonly parts = computed(() =>
    pieces(this.text().slice(0, 5000), this.against() === undefined ? undefined : valueText(this.against())),
  );
}
