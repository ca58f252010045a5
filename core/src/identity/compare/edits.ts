/**
 * Whether one edit makes one text of the other: a character added, left out, replaced, or two neighbours swapped
 * (Damerau 1964, A technique for computer detection and correction of spelling errors, which found four of five errors
 * to be one of these).
 */
export function isOneEdit(a: string, b: string): boolean {
  if (a === b) return true;
  const [short, long] = a.length <= b.length ? [a, b] : [b, a];
  if (long.length - short.length > 1) return false;
  let from = 0;
  while (from < short.length && short.charCodeAt(from) === long.charCodeAt(from)) from += 1;
  if (long.length > short.length) return short.slice(from) === long.slice(from + 1);
  if (short.slice(from + 1) === long.slice(from + 1)) return true;
  return (
    short.charCodeAt(from) === long.charCodeAt(from + 1) &&
    short.charCodeAt(from + 1) === long.charCodeAt(from) &&
    short.slice(from + 2) === long.slice(from + 2)
  );
}
