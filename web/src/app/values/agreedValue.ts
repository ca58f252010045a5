import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { RouterLink } from '@angular/router';
import { thingOf } from '@anchor-knot/contracts';
import { Value } from './value';

/** A shared value: a thing of another knot by its name, which leads there; anything else as it is. */
@Component({
  selector: 'ak-agreed-value',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Value],
  templateUrl: './agreedValue.html',
})
export class AgreedValue {
  readonly value = input.required<unknown>();
  protected readonly thing = computed(() => thingOf(this.value()));
}
