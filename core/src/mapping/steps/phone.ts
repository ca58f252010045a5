import {
  type CountryCode,
  getCountryCallingCode,
  isSupportedCountry,
  type MetadataJson,
  parsePhoneNumberFromString,
} from 'libphonenumber-js/core';
import metadataJson from 'libphonenumber-js/min/metadata';
import { failed, good, type Outcome, type Raw } from '../../record/index.js';
import { type Step, type StepLens, textOf } from '../step.js';

const metadata = metadataJson as unknown as MetadataJson;

/** Parsing a number costs some 40 µs, and the same numbers come in every run: outcomes are kept by raw text. */
const keptOutcomes = 50_000;

/**
 * Phone numbers: the shared value is E.164 (ITU-T E.164, with an RFC 3966 extension where there is one), the member has
 * its own form.
 */
export function phoneLens(step: Extract<Step, { kind: 'phone' }>): StepLens {
  const country = step.country.toUpperCase() as CountryCode;
  const known = new Map<string, Outcome<Raw>>();
  const read = (text: string): Outcome<Raw> => {
    if (!isSupportedCountry(country, metadata)) return failed(`“${step.country}” is not a country code`);
    const letter = /[a-z]/i.exec(text.replace(/\s*(ext\.?|x|extension)\s*\d+\s*$/i, ''));
    if (letter) return failed(`“${text}” is not a phone number: letter ${letter[0]} at place ${letter.index + 1}`);
    const number = parsePhoneNumberFromString(text, { defaultCountry: country, extract: false }, metadata);
    if (!number) return failed(`“${text}” is not a phone number`);
    if (!number.isPossible())
      return failed(
        `“${text}” is not a phone number: ${text.replace(/\D/g, '').length} digits do not make a number there`,
      );
    return good(number.ext ? `${number.number};ext=${number.ext}` : number.number);
  };
  return {
    inbound: (value) => {
      const text = textOf(value);
      if (text === undefined || text.length > 60) return failed('is not a phone number');
      let outcome = known.get(text);
      if (!outcome) {
        if (known.size >= keptOutcomes) known.clear();
        outcome = read(text);
        known.set(text, outcome);
      }
      return outcome;
    },
    outbound: (value) => {
      const [main = '', extension] = String(value).split(';ext=');
      const number = parsePhoneNumberFromString(main, { defaultCountry: country }, metadata);
      if (!number) return failed(`“${main}” is not a phone number`);
      if (extension) number.setExt(extension);
      if (step.form === 'e164') return good(extension ? `${number.number} ext. ${extension}` : number.number);
      // A national form can only be read back in its own country.
      const isNational =
        isSupportedCountry(country, metadata) && number.countryCallingCode === getCountryCallingCode(country, metadata);
      return good(step.form === 'national' && isNational ? number.formatNational() : number.formatInternational());
    },
  };
}
