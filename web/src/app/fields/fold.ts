import { ChangeDetectionStrategy, Component, input, model } from '@angular/core';
import { MatExpansionModule } from '@angular/material/expansion';

/** What is rarely set, folded: its title says how it is set now. */
@Component({
  selector: 'ak-fold',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatExpansionModule],
  templateUrl: './fold.html',
})
export class Fold {
  readonly says = input.required<string>();
  readonly isOpen = model(false);
}
