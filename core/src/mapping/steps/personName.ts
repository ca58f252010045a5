import parser from 'humanparser';
import { failed, good, type Raw } from '../../record/index.js';
import { type PersonNamePart, type Step, type StepLens, textOf, textThere } from '../step.js';

const names = {
  salutation: 'salutation',
  given: 'firstName',
  middle: 'middleName',
  family: 'lastName',
  suffix: 'suffix',
} as const;
const order: readonly PersonNamePart[] = ['salutation', 'given', 'middle', 'family', 'suffix'];

/**
 * One part of a person's whole name (`Dr. Ada Lovelace`, `Lovelace, Ada`). What is written takes the place of that
 * part.
 */
export function personNameLens({ part }: Extract<Step, { kind: 'personName' }>): StepLens {
  return {
    takesBlank: true,
    usesPresent: true,
    inbound: (value: Raw) => {
      if (value === null) return good(null);
      const text = textOf(value);
      return text === undefined ? failed('is not a text') : good(parser.parseName(text)[names[part]] ?? '');
    },
    outbound: (value: Raw, present?: Raw) => {
      const there = textThere(present);
      if (there === '') return good(value);
      const found = parser.parseName(there);
      const text = value === null ? '' : String(value);
      const before = found[names[part]] ?? '';
      const place = before === '' ? -1 : there.indexOf(before);
      // Taken at its place, so that the writing of the rest stays; put together anew where it has none.
      if (place >= 0 && text !== '') return good(there.slice(0, place) + text + there.slice(place + before.length));
      return good(
        order
          .map((name) => (name === part ? text : (found[names[name]] ?? '')))
          .filter((one) => one !== '')
          .join(' '),
      );
    },
  };
}
