import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatProgressBarModule } from '@angular/material/progress-bar';
import type { Loaded } from '../api/loaded';
import { ProblemText } from './problem';

/** What stands in a view's place while it loads, or when it cannot be loaded. */
@Component({
  selector: 'ak-state',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ProblemText, MatButtonModule, MatProgressBarModule],
  templateUrl: './state.html',
  styleUrl: './state.scss',
})
export class State {
  readonly of = input.required<Loaded<unknown>>();
}
