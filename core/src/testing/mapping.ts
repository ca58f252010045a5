import type { Mapping } from '../definition/index.js';
import type { Step } from '../mapping/index.js';

/** A mapping of a field as the interface begins one; both ways and without steps unless said otherwise. */
export const mapping = (
  field: string,
  direction: Mapping['direction'] = 'both ways',
  steps: readonly Step[] = [],
): Mapping => ({
  field,
  direction,
  steps,
  absentMeansBlank: false,
  blankAs: 'null',
  drift: 'put back',
});
