/** What a log may show of calls: no secrets, and nothing that the knot says is sensitive. */

const struck = '(sensitive)';
/** Shorter ones come by chance. */
const shortestSecret = 4;

/** A text without a secret, wherever it stands in it; also as it is written in addresses and in JSON. */
export function withoutSecret(text: string, secret: string | undefined): string {
  if (secret === undefined || secret.length < shortestSecret) return text;
  const forms = new Set([secret, encodeURIComponent(secret), JSON.stringify(secret).slice(1, -1)]);
  return [...forms].reduce((rest, form) => rest.replaceAll(form, '(secret)'), text);
}

/**
 * JSON without the values of sensitive members, however deep they are. What is no JSON might have them anywhere, and is
 * not shown at all.
 * @param names of members, as the last parts of the paths of sensitive fields
 */
export function withoutSensitive(text: string, names: ReadonlySet<string>): string {
  if (names.size === 0 || text.trim() === '') return text;
  let parsed: unknown;
  try {
    parsed = JSON.parse(text);
  } catch {
    return '(not shown: the knot has sensitive fields, and this is no JSON in which they could be struck out)';
  }
  return JSON.stringify(strikeMembers(parsed, names));
}

/** An address without the values of its query: records may be sought by what is sensitive. */
export function withoutQuery(target: string, names: ReadonlySet<string>): string {
  return names.size === 0 ? target : target.replaceAll(/([?&][^=&]*=)[^&]*/g, '$1…');
}

function strikeMembers(value: unknown, names: ReadonlySet<string>): unknown {
  if (Array.isArray(value)) return value.map((item) => strikeMembers(item, names));
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(
    Object.entries(value).map(([name, member]) => [name, names.has(name) ? struck : strikeMembers(member, names)]),
  );
}
