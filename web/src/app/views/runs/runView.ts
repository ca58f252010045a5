import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { RouterLink } from '@angular/router';
import { RunDetail } from './runDetail';

/** What happened, record by record? */
@Component({
  selector: 'ak-one-run-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, RunDetail],
  template: `<div class="page"><header><h1>Run</h1><small><a routerLink="/runs">all runs</a></small></header><div class="scroll" style="overflow: auto"><ak-run-detail [run]="id()" /></div></div>`,
})
export class OneRunView {
  readonly id = input.required<string>();
}
