import { good } from '../../record/index.js';
import type { Step, StepLens } from '../step.js';

/** Where the member says nothing, the shared value is this. What is written is never made blank again. */
export function defaultLens({ value: standard }: Extract<Step, { kind: 'default' }>): StepLens {
  return { takesBlank: true, inbound: (value) => good(value ?? standard), outbound: good };
}

/** Always this value, whatever the other side holds. Such a mapping runs one way. */
export function constantLens({ value }: Extract<Step, { kind: 'constant' }>): StepLens {
  return { takesBlank: true, setsRawForm: true, oneWay: true, inbound: () => good(value), outbound: () => good(value) };
}
