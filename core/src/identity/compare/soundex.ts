const codes: Readonly<Record<string, string>> = {
  b: '1',
  f: '1',
  p: '1',
  v: '1',
  c: '2',
  g: '2',
  j: '2',
  k: '2',
  q: '2',
  s: '2',
  x: '2',
  z: '2',
  d: '3',
  t: '3',
  l: '4',
  m: '5',
  n: '5',
  r: '6',
};

/**
 * The Soundex code of a word (Russell 1918, US patent 1,261,167, in the form of the US National Archives): its first
 * letter and
 * three digits. A word of another script gives its first two characters.
 */
export function soundex(word: string): string {
  const first = word.charAt(0);
  if (!/[a-z]/.test(first)) return word.slice(0, 2);
  let code = first;
  let last = codes[first] ?? '';
  for (let at = 1; at < word.length && code.length < 4; at += 1) {
    const letter = word.charAt(at);
    const digit = codes[letter] ?? '';
    if (digit !== '' && digit !== last) code += digit;
    // H and W do not part two letters of one code; vowels do.
    if (letter !== 'h' && letter !== 'w') last = digit;
  }
  return code.padEnd(4, '0');
}
