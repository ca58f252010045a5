import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { MatTooltip } from '@angular/material/tooltip';
import { AgoPipe, ExactTimePipe } from './times';

/** How long ago something was; the exact time, in the reader's zone, on hover. */
@Component({
  selector: 'ak-ago',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [AgoPipe, ExactTimePipe, MatTooltip],
  template: `<time [attr.datetime]="at()" [matTooltip]="at() | exactTime">{{ at() | ago }}</time>`,
})
export class AgoTime {
  /** ISO 8601. */
  readonly at = input.required<string>();
}
