/** What a record may be called, as long as no shared field says how: its first value with words in it. */
export function recordTitle(record: Readonly<Record<string, unknown>>): string {
  const values = Object.values(record);
  return String(values.find((value) => typeof value === 'string' && /\p{L}{3}/u.test(value)) ?? values[0] ?? '');
}
