import { Decimal } from 'decimal.js';
import { decimalOf, failed, good, type Outcome, type Raw, WideDecimal } from '../../record/index.js';
import { type Rounding, type Step, type StepLens, textOf } from '../step.js';

export const roundings: Readonly<Record<Rounding, Decimal.Rounding>> = {
  'half up': Decimal.ROUND_HALF_UP,
  'half even': Decimal.ROUND_HALF_EVEN,
  up: Decimal.ROUND_UP,
  down: Decimal.ROUND_DOWN,
};

const hasBlank = /[\s\u00a0]/;
const blanks = /[\s\u00a0]/g;

/** Numbers: the shared value is plain decimal text; the member has its own separators, places and scale. */
export function numberLens(step: Extract<Step, { kind: 'number' }>): StepLens {
  const decimalMark = step.decimal ?? '.';
  const group = step.group ?? (decimalMark === '.' ? ',' : '.');
  const factor = step.factor === undefined ? undefined : new WideDecimal(step.factor);
  // A group mark is taken only where groups of three are; otherwise 1.5 and 1,5 would be confused.
  const grouped = new RegExp(`^[+-]?\\d{1,3}(${group.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')}\\d{3})+(\\D\\d*)?$`);
  const read = (text: string): Decimal | undefined => {
    const bare = hasBlank.test(text) ? text.replaceAll(blanks, '') : text;
    const ungrouped = group !== '' && bare.includes(group) && grouped.test(bare) ? bare.replaceAll(group, '') : bare;
    if (decimalMark === '.') return decimalOf(ungrouped);
    return ungrouped.includes('.') ? undefined : decimalOf(ungrouped.replace(decimalMark, '.'));
  };
  const write = (shared: Decimal): Decimal => {
    const scaled = factor ? shared.times(factor) : shared;
    return step.places === undefined
      ? scaled
      : scaled.toDecimalPlaces(step.places, roundings[step.rounding ?? 'half up']);
  };
  // A number has no decimal mark of its own: where one was chosen, and no number stands there, texts are meant. A bare
  // number would be written with a point there, and 1.234 means a thousand times as much.
  const writesText = (present: Raw | undefined): boolean =>
    step.as === 'text' ||
    (step.as === undefined && decimalMark === ',' && (present === undefined || present === null || isText(present)));
  const format = (value: Decimal, present: Raw | undefined): Raw => {
    if (writesText(present))
      return (step.places === undefined ? value.toString() : value.toFixed(step.places)).replace('.', decimalMark);
    const text = value.toString();
    const plain = Number(text);
    return String(plain) === text ? plain : { $number: text };
  };
  return {
    usesHeld: step.places !== undefined,
    usesPresent: step.as === undefined && decimalMark === ',',
    setsRawForm: true,
    inbound: (raw, held): Outcome<Raw> => {
      const text = textOf(raw);
      // Numbers in JSON always use the point, whatever the system's texts do.
      const value =
        text === undefined || typeof raw === 'boolean'
          ? undefined
          : typeof raw === 'string'
            ? read(text)
            : decimalOf(text);
      if (!value) return failed(`“${text ?? JSON.stringify(raw)}” is not a number`);
      const whole = typeof held === 'string' ? decimalOf(held) : undefined;
      return good(whole && write(whole).eq(value) ? (held as string) : (factor ? value.div(factor) : value).toString());
    },
    outbound: (value, present): Outcome<Raw> => {
      const decimal = decimalOf(String(value));
      return decimal ? good(format(write(decimal), present)) : failed(`“${String(value)}” is not a number`);
    },
  };
}

function isText(raw: Raw): boolean {
  return typeof raw === 'string';
}
