import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import type { Probe } from '@anchor-knot/contracts';

/** How a test of a system went, step by step. */
@Component({
  selector: 'ak-probe-steps',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    <ul>
      @for (step of probe().steps; track $index) {
        <li>
          <span class="mark" [class.wrong]="step.state === 'failed'" [class.waits]="step.state === 'doubtful'" [class.none]="step.state === 'not tried'"></span><strong [class.wrong]="step.state === 'failed'">{{ step.name }}</strong>
          <small>{{ step.state === 'not tried' ? 'not tried: ' : '' }}{{ step.says }}</small>
          @if (step.advice) { <small class="advice">{{ step.advice }}</small> }
        </li>
      }
    </ul>
  `,
  styles: `ul { list-style: none; margin: 0 0 14px; padding: 0; } li { padding: 6px 0; border-top: 1px solid var(--hair-2); overflow-wrap: anywhere; } li small { display: block; padding-left: 15px; } .advice { color: var(--ink); }`,
})
export class ProbeSteps {
  readonly probe = input.required<Probe>();
}
