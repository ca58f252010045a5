import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { RouterLink } from '@angular/router';
import { RunDetail } from './runDetail';

/** What happened, record by record? */
@Component({
  selector: 'ak-one-run-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, RunDetail],
  templateUrl: './runView.html',
})
export class OneRunView {
  readonly id = input.required<string>();
}
