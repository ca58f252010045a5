import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { Probe, ProbeStep } from '@anchor-knot/contracts';

/** More objects that are read well than this are told of together. */
const mostSeparately = 2;

/** How a test of a system went, step by step. */
@Component({
  selector: 'ak-probe-steps',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    <ul>
      @for (step of steps(); track $index) {
        <li>
          <span class="mark" [class.wrong]="step.state === 'failed'" [class.waits]="step.state === 'doubtful'" [class.none]="step.state === 'not tried'"></span><strong [class.wrong]="step.state === 'failed'">{{ step.name }}</strong>
          @if (step.parts.length === 0) { <small>{{ step.state === 'not tried' ? 'not tried: ' : '' }}{{ step.says }}</small> } @else { <details><summary>{{ step.says }}</summary>@for (part of step.parts; track part.name) {<small>{{ part.name }}: {{ part.says }}</small>}</details> }
          @if (step.advice) { <small class="advice">{{ step.advice }}</small> }
        </li>
      }
    </ul>
  `,
  styles: `ul { list-style: none; margin: 0 0 14px; padding: 0; } li { padding: 6px 0; border-top: 1px solid var(--hair-2); overflow-wrap: anywhere; } li small { display: block; padding-left: 15px; } .advice { color: var(--ink); } details { padding-left: 15px; font-size: 12.5px; color: var(--ink-2); } summary { cursor: pointer; } details small { padding: 3px 0 0; }`,
})
export class ProbeSteps {
  readonly probe = input.required<Probe>();
  protected readonly steps = computed(() => grouped(this.probe().steps));
}

type ShownStep = ProbeStep & { readonly parts: readonly { readonly name: string; readonly says: string }[] };

/** Objects that are read well are one step, so that what is wrong is not lost among them. */
function grouped(steps: readonly ProbeStep[]): ShownStep[] {
  const isGoodRead = ({ name, state }: ProbeStep): boolean => state === 'good' && name.startsWith('Read ');
  const reads = steps.filter(isGoodRead);
  if (reads.length <= mostSeparately) return steps.map((step) => ({ ...step, parts: [] }));
  const parts = reads.map(({ name, says }) => ({ name: name.slice('Read '.length), says }));
  const together: ShownStep = { name: 'Read', state: 'good', says: parts.map(({ name }) => name).join(', '), parts };
  return steps.flatMap((step): ShownStep[] => (step === reads[0] ? [together] : isGoodRead(step) ? [] : [{ ...step, parts: [] }]));
}
