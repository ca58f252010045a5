import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { Fold } from '../../fields/fold';
import type { Probe, ProbeStep } from '@anchor-knot/contracts';

/** More objects that are read well than this are told of together. */
const mostSeparately = 2;

/** How a test of a system went, step by step. */
@Component({
  selector: 'ak-probe-steps',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Fold],
  templateUrl: './probeSteps.html',
  styleUrl: './probeSteps.scss',
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
  return steps.flatMap((step): ShownStep[] =>
    step === reads[0] ? [together] : isGoodRead(step) ? [] : [{ ...step, parts: [] }],
  );
}
