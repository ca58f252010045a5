import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { pieces, valueText } from './valueText';

/** A record's value, whole on hover, with changed characters and blanks at the ends made visible. */
@Component({
  selector: 'ak-value',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `@if (text() === '') {<span class="blank">{{ blankAs() }}</span>} @else {@for (piece of parts(); track $index) {<span [class.changed]="piece.changed" [class.ends]="piece.blank">{{ piece.text }}</span>}}`,
  host: { class: 'value', '[attr.title]': 'text().length > 24 ? text() : null', '[class.wrap]': 'wrap()' },
  styles: `
    :host { display: block; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
    :host(.wrap) { white-space: pre-wrap; overflow-wrap: anywhere; max-height: 180px; overflow: auto; }
    .blank { color: var(--ink-3); font-family: var(--words); font-size: 12.5px; }
    .changed { background: var(--brass-tint); color: var(--brass); }
    .ends { color: var(--vermilion); }
  `,
})
export class Value {
  readonly value = input.required<unknown>();
  /** Another value to compare with: what differs from it is marked. */
  readonly against = input<unknown>(undefined);
  readonly wrap = input(false);
  readonly blankAs = input('blank');
  protected readonly text = computed(() => valueText(this.value()));
  protected readonly parts = computed(() => pieces(this.text().slice(0, 5000), this.against() === undefined ? undefined : valueText(this.against())));
}
