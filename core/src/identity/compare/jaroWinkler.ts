/** Reused between calls: which characters of each side found a partner. */
let flags = new Uint8Array(256);

/**
 * How alike two texts are, from 0 to 1 (Winkler 1990, String comparator metrics and enhanced decision rules in the
 * Fellegi-Sunter model of record linkage): Jaro's measure with a bonus of 0.1 for each of up to four equal first
 * characters.
 */
export function jaroWinkler(a: string, b: string): number {
  if (a === b) return a === '' ? 0 : 1;
  const alike = jaro(a, b);
  if (alike <= 0.7) return alike;
  let prefix = 0;
  const most = Math.min(4, a.length, b.length);
  while (prefix < most && a.charCodeAt(prefix) === b.charCodeAt(prefix)) prefix += 1;
  return alike + prefix * 0.1 * (1 - alike);
}

/** Texts up to this length keep which of their characters found a partner in the bits of a number. */
const mostBits = 31;

/** Jaro 1989: shares of characters in common within half the longer text, and of those in the same order. */
export function jaro(a: string, b: string): number {
  if (a === b) return a === '' ? 0 : 1;
  const [m, n] = [a.length, b.length];
  if (m === 0 || n === 0) return 0;
  // Partners are found greedily from one side: always the same side, so that the measure is the same either way round.
  if (m > n || (m === n && a > b)) return jaro(b, a);
  return m <= mostBits && n <= mostBits ? shortJaro(a, b, m, n) : longJaro(a, b, m, n);
}

function shortJaro(a: string, b: string, m: number, n: number): number {
  const window = Math.max(0, (Math.max(m, n) >> 1) - 1);
  let ofA = 0;
  let ofB = 0;
  let common = 0;
  for (let i = 0; i < m; i += 1) {
    const code = a.charCodeAt(i);
    const end = i + window < n - 1 ? i + window : n - 1;
    for (let j = i > window ? i - window : 0; j <= end; j += 1) {
      if ((ofB & (1 << j)) !== 0 || b.charCodeAt(j) !== code) continue;
      ofA |= 1 << i;
      ofB |= 1 << j;
      common += 1;
      break;
    }
  }
  if (common === 0) return 0;
  let moved = 0;
  for (let i = 0, j = 0; i < m; i += 1) {
    if ((ofA & (1 << i)) === 0) continue;
    while ((ofB & (1 << j)) === 0) j += 1;
    if (a.charCodeAt(i) !== b.charCodeAt(j)) moved += 1;
    j += 1;
  }
  return (common / m + common / n + (common - moved / 2) / common) / 3;
}

function longJaro(a: string, b: string, m: number, n: number): number {
  const window = Math.max(0, (Math.max(m, n) >> 1) - 1);
  if (flags.length < m + n) flags = new Uint8Array(2 * (m + n));
  else flags.fill(0, 0, m + n);
  let common = 0;
  for (let i = 0; i < m; i += 1) {
    const code = a.charCodeAt(i);
    const end = Math.min(n - 1, i + window);
    for (let j = Math.max(0, i - window); j <= end; j += 1) {
      if (flags[m + j] !== 0 || b.charCodeAt(j) !== code) continue;
      flags[i] = 1;
      flags[m + j] = 1;
      common += 1;
      break;
    }
  }
  if (common === 0) return 0;
  let moved = 0;
  for (let i = 0, j = 0; i < m; i += 1) {
    if (flags[i] === 0) continue;
    while (flags[m + j] === 0) j += 1;
    if (a.charCodeAt(i) !== b.charCodeAt(j)) moved += 1;
    j += 1;
  }
  return (common / m + common / n + (common - moved / 2) / common) / 3;
}
