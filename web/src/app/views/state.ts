import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { MatProgressBarModule } from '@angular/material/progress-bar';
import type { Loaded } from '../api/loaded';

/** What stands in a view's place while it loads, or when it cannot be loaded. */
@Component({
  selector: 'ak-state',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatProgressBarModule],
  template: `
    @if (of().problem(); as problem) {
      <div class="banner" role="alert"><strong>{{ problem.says }}</strong><small>{{ problem.advice }}</small> <button type="button" (click)="of().reload()">Try again</button></div>
    } @else if (of().loading() && of().value() === undefined) { <mat-progress-bar mode="indeterminate" aria-label="Loading" /> }
  `,
  styles: `button { border: 0; background: none; color: var(--petrol); text-decoration: underline; padding: 4px 0; cursor: pointer; }`,
})
export class State {
  readonly of = input.required<Loaded<unknown>>();
}
