import type { Correction } from './decisions.js';

type JsonValue = Correction['values'][string];

/**
 * What was typed, in the form in which the system sent what stood there: a number where a number stood, exactly as it
 * was typed; yes or no where that stood; nothing where nothing was typed and nothing stood there.
 */
export function rawFromText(text: string, before: JsonValue): JsonValue {
  if (text === '') return typeof before === 'string' ? '' : null;
  const isNumber = typeof before === 'number' || (typeof before === 'object' && before !== null && '$number' in before);
  if (isNumber && /^-?\d+(\.\d+)?$/.test(text.trim())) return { $number: text.trim() };
  if (typeof before === 'boolean' && /^(yes|no)$/.test(text.trim())) return text.trim() === 'yes';
  return text;
}
