import countries from 'i18n-iso-countries';
import english from 'i18n-iso-countries/langs/en.json' with { type: 'json' };
import { failed, good } from '../../record/index.js';
import { type Step, type StepLens, textOf } from '../step.js';

countries.registerLocale(english);

/** Spellings that people use and ISO 3166 does not list. */
const everydayNames: Readonly<Record<string, string>> = {
  uk: 'GB',
  'great britain': 'GB',
  britain: 'GB',
  england: 'GB',
  scotland: 'GB',
  wales: 'GB',
  'northern ireland': 'GB',
  usa: 'US',
  'u.s.a.': 'US',
  'u.k.': 'GB',
  holland: 'NL',
  'the netherlands': 'NL',
  eire: 'IE',
  'republic of ireland': 'IE',
  czechia: 'CZ',
};

/** The library walks all names for each question; the answers for spellings that were met are kept. */
const codesOfNames = new Map<string, string | undefined>();
const keptNames = 5000;

/** The ISO 3166-1 alpha-2 code of a country by its code or English name; `undefined` when no country is called so. */
export function countryCode(text: string): string | undefined {
  const upper = text.toUpperCase();
  if (upper.length === 2 && countries.isValid(upper)) return upper;
  if (codesOfNames.has(text)) return codesOfNames.get(text);
  const code =
    (upper.length === 3 ? countries.alpha3ToAlpha2(upper) : undefined) ??
    everydayNames[text.toLowerCase()] ??
    countries.getAlpha2Code(text, 'en');
  if (codesOfNames.size >= keptNames) codesOfNames.clear();
  codesOfNames.set(text, code);
  return code;
}

/** Countries: the shared value is the ISO 3166-1 alpha-2 code; the member has the English name or a code. */
export function countryLens(step: Extract<Step, { kind: 'country' }>): StepLens {
  const forms = new Map(
    Object.entries(countries.getAlpha2Codes()).map(([code, alpha3]) => [
      code,
      step.form === 'alpha2' ? code : step.form === 'alpha3' ? alpha3 : (countries.getName(code, 'en') ?? code),
    ]),
  );
  return {
    inbound: (value) => {
      const text = textOf(value)?.trim() ?? '';
      const code = countryCode(text);
      return code ? good(code) : failed(`no country is called “${text}”`);
    },
    outbound: (value) => {
      const code = String(value);
      const form = forms.get(code);
      return form === undefined ? failed(`“${code}” is not an ISO 3166 country code`) : good(form);
    },
  };
}
