import { Decimal } from 'decimal.js';
import { decimalOf, failed, good, type Outcome, type Raw, WideDecimal } from '../../record/index.js';
import { type Step, type StepLens, textOf } from '../step.js';

/** Numbers: the shared value is plain decimal text; the member has its own separators, places and scale. */
export function numberLens(step: Extract<Step, { kind: 'number' }>): StepLens {
  const decimalMark = step.decimal ?? '.';
  const group = step.group ?? (decimalMark === '.' ? ',' : '.');
  const factor = new WideDecimal(step.factor ?? 1);
  const read = (text: string): Decimal | undefined => {
    const bare = text.trim().replaceAll(/[\s\u00a0]/g, '');
    // A group mark is taken only where groups of three are; otherwise 1.5 and 1,5 would be confused.
    const escaped = group.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');
    const grouped = group !== '' && new RegExp(`^[+-]?\\d{1,3}(${escaped}\\d{3})+(\\D\\d*)?$`).test(bare);
    const ungrouped = grouped ? bare.replaceAll(group, '') : bare;
    if (decimalMark === ',' && ungrouped.includes('.')) return undefined;
    return decimalOf(ungrouped.replace(decimalMark, '.'));
  };
  const write = (shared: Decimal): Decimal => {
    const scaled = shared.times(factor);
    return step.places === undefined ? scaled : scaled.toDecimalPlaces(step.places, Decimal.ROUND_HALF_UP);
  };
  const format = (value: Decimal): Raw => {
    const fixed = step.places === undefined ? value.toString() : value.toFixed(step.places);
    if (step.as === 'text') return fixed.replace('.', decimalMark);
    const plain = value.toNumber();
    return String(plain) === value.toString() ? plain : { $number: value.toString() };
  };
  return {
    usesHeld: step.places !== undefined,
    setsRawForm: true,
    inbound: (raw, held): Outcome<Raw> => {
      const text = textOf(raw);
      // Numbers in JSON always use the point, whatever the system's texts do.
      const value = text === undefined || typeof raw === 'boolean' ? undefined : typeof raw === 'string' ? read(text) : decimalOf(text);
      if (!value) return failed(`“${text ?? JSON.stringify(raw)}” is not a number`);
      const whole = typeof held === 'string' ? decimalOf(held) : undefined;
      return good(whole && write(whole).eq(value) ? (held as string) : value.div(factor).toString());
    },
    outbound: (value): Outcome<Raw> => {
      const decimal = decimalOf(String(value));
      return decimal ? good(format(write(decimal))) : failed(`“${String(value)}” is not a number`);
    },
  };
}
