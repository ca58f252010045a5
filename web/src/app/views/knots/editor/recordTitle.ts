/** Gives the value at a path of names separated by points; a name with a point in it is found at the top. */
export function valueAt(record: Readonly<Record<string, unknown>>, path: string): unknown {
  if (Object.hasOwn(record, path)) return record[path];
  return path
    .split('.')
    .reduce<unknown>(
      (value, name) =>
        typeof value === 'object' && value !== null && Object.hasOwn(value, name)
          ? (value as Record<string, unknown>)[name]
          : undefined,
      record,
    );
}

/**
 * What a record may be called: by the field that names an anchor; as long as none does, its first value with words in
 * it.
 */
export function recordTitle(record: Readonly<Record<string, unknown>>, path?: string): string {
  const named = path === undefined ? undefined : valueAt(record, path);
  if (typeof named === 'string' && named.trim() !== '') return named;
  const values = Object.values(record);
  return String(values.find((value) => typeof value === 'string' && /\p{L}{3}/u.test(value)) ?? values[0] ?? '');
}
