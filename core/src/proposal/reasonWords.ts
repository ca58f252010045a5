import type { Reason } from './pairEvidence.js';

const kinds: Readonly<Record<string, string>> = {
  email: 'emails',
  url: 'web addresses',
  phone: 'phone numbers',
  date: 'dates',
  'yes/no': 'yes or no',
  number: 'numbers',
  list: 'lists',
  'long text': 'long texts',
  choice: 'a few choices',
};

/** A reason as a person reads it, those that speak for a pair; nothing for what speaks against it. */
export function reasonWords(reason: Reason): string | undefined {
  if (reason.adds <= 0) return undefined;
  switch (reason.kind) {
    case 'names':
      return reason.likeness > 0.9 ? 'names say the same' : 'names alike';
    case 'type':
      return kinds[reason.left] ? `both hold ${kinds[reason.left] ?? ''}` : undefined;
    case 'format':
      return reason.format === '' ? undefined : `same format (${reason.format})`;
    case 'values':
      return `${Math.round(Math.min(1, reason.share) * 100)} percent of the values are the same`;
    case 'tied':
      return `${reason.equal} of ${reason.of} tied records have equal values`;
    case 'crosswalk':
      return `in ${reason.of} tied records each value there goes with one value here`;
    case 'factor':
      return (
        `in ${reason.of} tied records it is always ` +
        `${reason.factor >= 1 ? `${reason.factor} times as much` : `one part in ${Math.round(1 / reason.factor)}`}`
      );
    case 'refers': {
      const left = reason.of - reason.found;
      return `${reason.found} of ${reason.of} values are ${reason.words}${left === 0 ? '' : `; ${left} are not known`}`;
    }
    default:
      return reason satisfies never;
  }
}
