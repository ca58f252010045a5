/**
 * How much two sets of words have in common, from 0 to 1 (Dice 1945): twice the common ones by all. Words that come
 * twice count once.
 */
export function dice(a: readonly string[], b: readonly string[]): number {
  if (a.length === 0 || b.length === 0) return 0;
  // Values have a few words: walking them is quicker than making sets.
  let [common, left, right] = [0, 0, 0];
  for (const [at, word] of a.entries()) {
    if (a.indexOf(word) < at) continue;
    left += 1;
    if (b.includes(word)) common += 1;
  }
  for (const [at, word] of b.entries()) if (b.indexOf(word) === at) right += 1;
  return (2 * common) / (left + right);
}

/** Whether every word of the shorter one, of two at least, is in the other. */
export function holdsAll(a: readonly string[], b: readonly string[]): boolean {
  const [short, long] = a.length <= b.length ? [a, b] : [b, a];
  return short.length >= 2 && short.every((word) => long.includes(word));
}
