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

/**
 * The digits by which phone numbers are compared: of E.164, of a national and of an international form the last nine are
 * the same, whichever country they are dialled from. Fewer than six digits are no number.
 */
export function phoneForm(text: string): string | undefined {
  const main = text.replace(/(?:ext|x|;ext=).*$/i, '');
  const digits = main.normalize('NFKC').replaceAll(/\D/g, '').replace(/^0+/, '');
  return digits.length < 6 ? undefined : digits.slice(-comparedDigits);
}
