import { rawResult, rawVariable, readFormula } from '../../expression/index.js';
import { failed, good, type Outcome, type Raw } from '../../record/index.js';
import type { Step, StepLens } from '../step.js';

function oneWay(source: string): Outcome<(value: Raw) => Outcome<Raw>> {
  const formula = readFormula(source, ['value']);
  if (!formula.ok) return formula;
  return good((value: Raw) => {
    const result = formula.value.evaluate({ value: rawVariable(value) });
    return result.ok ? rawResult(result.value) : result;
  });
}

/** A formula for one way or for each way, over `value`. Formulas also see blanks. */
export function formulaLens(step: Extract<Step, { kind: 'formula' }>): Outcome<StepLens> {
  if (step.inbound === undefined && step.outbound === undefined)
    return failed('a formula step needs a formula for at least one way');
  const inbound = step.inbound === undefined ? undefined : oneWay(step.inbound);
  if (inbound && !inbound.ok) return inbound;
  const outbound = step.outbound === undefined ? undefined : oneWay(step.outbound);
  if (outbound && !outbound.ok) return outbound;
  return good({
    takesBlank: true,
    ...(inbound ? { inbound: (value: Raw) => inbound.value(value) } : {}),
    ...(outbound ? { outbound: (value: Raw) => outbound.value(value) } : {}),
  });
}
