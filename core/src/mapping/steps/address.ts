import { failed, good, type Raw } from '../../record/index.js';
import { type AddressPart, type Step, type StepLens, textOf } from '../step.js';
import { countryCode } from './country.js';

/** Postcodes by country, as the Universal Postal Union describes them; elsewhere four to six digits. */
const postcodes: Readonly<Record<string, RegExp>> = {
  GB: /\b[A-Z]{1,2}\d[A-Z\d]? ?\d[A-Z]{2}\b/i,
  IE: /\b[A-Z]\d[\dW] ?[A-Z\d]{4}\b/i,
  NL: /\b\d{4} ?[A-Z]{2}\b/i,
  CA: /\b[A-Z]\d[A-Z] ?\d[A-Z]\d\b/i,
  US: /\b\d{5}(?:-\d{4})?\b/,
  PL: /\b\d{2}-\d{3}\b/,
  PT: /\b\d{4}-\d{3}\b/,
  SE: /\b\d{3} ?\d{2}\b/,
};
const otherPostcode = /\b\d{4,6}\b/;

interface Span {
  readonly from: number;
  readonly to: number;
}

type AddressSpans = { [Part in AddressPart]?: Span | undefined };

/**
 * Where the parts of an address of one text stand: segments between commas or line ends, the country last, the town
 * beside the postcode.
 */
export function addressParts(text: string, country: string): AddressSpans {
  const segments = [...text.matchAll(/[^,\n]+/g)]
    .map((match): Span => trimmed(text, { from: match.index, to: match.index + match[0].length }))
    .filter(({ from, to }) => to > from);
  const parts: AddressSpans = {};
  const last = segments.at(-1);
  if (last && segments.length > 1 && countryCode(text.slice(last.from, last.to)) !== undefined) {
    parts.country = last;
    segments.pop();
  }
  const pattern = postcodes[country.toUpperCase()] ?? otherPostcode;
  // A house number may look like a postcode: the last segment that has one is it.
  for (const [index, segment] of [...segments.entries()].toReversed()) {
    const found = index === 0 && segments.length > 1 ? null : pattern.exec(text.slice(segment.from, segment.to));
    if (!found) continue;
    parts.postcode = { from: segment.from + found.index, to: segment.from + found.index + found[0].length };
    const beside = [
      trimmed(text, { from: segment.from, to: parts.postcode.from }),
      trimmed(text, { from: parts.postcode.to, to: segment.to }),
    ].filter(({ from, to }) => to > from);
    segments.splice(index, 1);
    parts.town = beside[0] ?? (index > 1 ? segments.splice(index - 1, 1)[0] : undefined);
    break;
  }
  if (!parts.town && segments.length > 1) parts.town = segments.pop();
  const [first] = segments;
  const end = segments.at(-1);
  if (first && end) parts.street = { from: first.from, to: end.to };
  return parts;
}

function trimmed(text: string, { from, to }: Span): Span {
  let [start, end] = [from, to];
  while (start < end && /\s/.test(text.charAt(start))) start += 1;
  while (end > start && /\s/.test(text.charAt(end - 1))) end -= 1;
  return { from: start, to: end };
}

/** One part of a postal address that is one text. What is written takes that part's place; the rest stays as it is. */
export function addressLens({ part, country }: Extract<Step, { kind: 'address' }>): StepLens {
  return {
    takesBlank: true,
    usesPresent: true,
    inbound: (value: Raw) => {
      if (value === null) return good(null);
      const text = textOf(value);
      if (text === undefined) return failed('is not a text');
      const span = addressParts(text, country)[part];
      return good(span ? text.slice(span.from, span.to) : null);
    },
    outbound: (value: Raw, present?: Raw) => {
      const there = present === undefined || present === null ? '' : (textOf(present) ?? '');
      if (there.trim() === '')
        return value === null
          ? good(null)
          : failed(
              `there is no address there that the ${part} could be put into; a computed field can write the whole`,
            );
      const span = addressParts(there, country)[part];
      if (!span)
        return value === null
          ? good(there)
          : failed(`“${there}” has no place for the ${part}; a computed field can write the whole`);
      return good(there.slice(0, span.from) + (value === null ? '' : String(value)) + there.slice(span.to));
    },
  };
}
