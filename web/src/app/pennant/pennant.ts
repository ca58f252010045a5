import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { Pennant as PennantSettings } from '@anchor-knot/contracts';

let serial = 0;

/** The flag of a system: swallow-tailed, two-tone, told apart by shape as well as colour. */
@Component({
  selector: 'ak-pennant',
  changeDetection: ChangeDetectionStrategy.OnPush,
  templateUrl: './pennant.html',
  styleUrl: './pennant.scss',
})
export class Pennant {
  readonly settings = input.required<PennantSettings>();
  readonly name = input('');
  /** Whether the name stands beside the flag, or is only read out. */
  readonly shown = input(false);
  /** The two letters instead of the name, where there is little room. */
  readonly short = input(false);
  protected readonly label = computed(() => (this.short() ? this.settings().letters : this.name()));
  protected readonly clip = `pennant-${(serial += 1)}`;
}
