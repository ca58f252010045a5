import { getCountries, getCountryCallingCode, type MetadataJson } from 'libphonenumber-js/core';
import metadataJson from 'libphonenumber-js/min/metadata';

const metadata = metadataJson as unknown as MetadataJson;
/** None of them is the beginning of another. */
const callingCodes = new Set(getCountries(metadata).map((country) => String(getCountryCallingCode(country, metadata))));

const address = /^([^@\s]+)@([^@\s]+)$/;

/** An email without its tag (sub-addressing, RFC 5233) and in small letters; `undefined` for what is none. */
export function emailForm(text: string): string | undefined {
  const [, local, domain] =
    address.exec(
      text
        .normalize('NFKC')
        .toLowerCase()
        .replaceAll(/\s+/g, '')
        .replace(/^mailto:/, ''),
    ) ?? [];
  if (local === undefined || domain === undefined) return undefined;
  const tag = local.indexOf('+');
  return `${tag > 0 ? local.slice(0, tag) : local}@${domain}`;
}

const comparedDigits = 9;

/** The country calling code (ITU-T E.164) of a number that is written with one, behind + or 00; otherwise blank. */
export function callingCodeOf(text: string): string {
  const [, digits = ''] = /^\D*?(?:\+|\b00)(\d{1,3})/.exec(text.normalize('NFKC')) ?? [];
  return [1, 2, 3].map((length) => digits.slice(0, length)).find((code) => callingCodes.has(code)) ?? '';
}

/**
 * The digits by which phone numbers are compared: of E.164, of a national and of an international form the last nine
 * are
 * the same, whichever country they are dialled from; whether their countries differ is told by {@link callingCodeOf}.
 * Fewer than six digits are no number.
 */
export function phoneForm(text: string): string | undefined {
  const main = text.replace(/(?:ext|x|;ext=).*$/i, '');
  const digits = main.normalize('NFKC').replaceAll(/\D/g, '').replace(/^0+/, '');
  return digits.length < 6 ? undefined : digits.slice(-comparedDigits);
}
