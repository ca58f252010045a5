import type { Decimal } from 'decimal.js';
import { decimalOf, failed, good, numberText, type Outcome, type Raw } from '../../record/index.js';
import { type Step, type StepLens, textOf } from '../step.js';
import { roundings } from './number.js';

/**
 * Amounts of money as text: the shared value is plain decimal text in the given currency (ISO 4217); the member writes
 * it as
 * the locale does (Unicode CLDR, through `Intl.NumberFormat`), with as many decimal places as the currency has.
 */
export function moneyLens(step: Extract<Step, { kind: 'money' }>): Outcome<StepLens> {
  const currency = step.currency.toUpperCase();
  let format: Intl.NumberFormat;
  try {
    format = new Intl.NumberFormat(step.locale, {
      style: 'currency',
      currency,
      currencyDisplay: step.show === 'code' ? 'code' : 'symbol',
    });
  } catch {
    return failed(`“${step.locale}” with “${step.currency}” is no locale and currency`);
  }
  const places = format.resolvedOptions().maximumFractionDigits ?? 2;
  const bareFormat = new Intl.NumberFormat(step.locale, {
    minimumFractionDigits: places,
    maximumFractionDigits: places,
  });
  const sample = format.formatToParts(-11111.11);
  const mark = (type: Intl.NumberFormatPartTypes, otherwise: string): string =>
    sample.find((part) => part.type === type)?.value ?? otherwise;
  const [group, decimalMark, symbol] = [mark('group', ''), mark('decimal', '.'), mark('currency', '')];
  const rounding = roundings[step.rounding ?? 'half up'];
  const written = (value: Decimal): Decimal => value.toDecimalPlaces(places, rounding);
  const code = new RegExp(`\\b${currency}\\b`, 'i');
  const needsNoRounding = places === 0 ? /^-?\d{1,30}$/ : new RegExp(`^-?\\d{1,30}(\\.\\d{1,${places}})?$`);
  const groups =
    group.trim() === '' ? undefined : new RegExp(`(?<=\\d)[${escapeInClass(group)}](?=\\d{3}(?!\\d))`, 'g');
  const read = (text: string): Decimal | undefined => {
    const unmarked = symbol !== '' && text.includes(symbol) ? text.replaceAll(symbol, '') : text.replace(code, '');
    const bare = needsCleaning.test(unmarked) ? unmarked.replaceAll(blanks, '').replace('\u2212', '-') : unmarked;
    const ungrouped = groups && bare.includes(group) ? bare.replaceAll(groups, '') : bare;
    if (decimalMark === '.') return decimalOf(ungrouped);
    return ungrouped.includes('.') ? undefined : decimalOf(ungrouped.replace(decimalMark, '.'));
  };
  return good({
    usesHeld: true,
    setsRawForm: true,
    inbound: (raw: Raw, held: Raw | undefined) => {
      const number = numberText(raw);
      const text = textOf(raw);
      const value =
        text === undefined || typeof raw === 'boolean'
          ? undefined
          : number === undefined
            ? read(text)
            : decimalOf(number);
      if (!value) return failed(`“${text ?? JSON.stringify(raw)}” is no amount in ${currency}`);
      const whole = typeof held === 'string' ? decimalOf(held) : undefined;
      return good(whole && written(whole).eq(value) ? (held as string) : value.toString());
    },
    outbound: (value: Raw) => {
      const shown = step.show === 'number' ? bareFormat : format;
      const text = String(value);
      if (needsNoRounding.test(text)) return good(shown.format(text as `${number}`));
      const decimal = decimalOf(text);
      if (!decimal) return failed(`“${String(value)}” is not a number`);
      // Formatted from text, so that no amount is rounded on its way through a binary number.
      return good(shown.format(written(decimal).toFixed(places) as `${number}`));
    },
  });
}

const blanks = /[\s\u00a0\u202f]/g;
const needsCleaning = /[\s\u00a0\u202f\u2212]/;
const escapeInClass = (text: string): string => text.replaceAll(/[\]\\^-]/g, '\\$&');
