import type { Knot } from '../definition/index.js';

/** Edits of a definition: each gives a new one and leaves the old one as it is, so that it can be undone. */
export type Edit = (definition: Knot) => Knot;

/** An identifier from words that none of `taken` is. */
export function freeId(words: string, taken: readonly string[]): string {
  const parts = words
    .normalize('NFKD')
    .replaceAll(/\p{M}/gu, '')
    .replaceAll(/[^A-Za-z0-9]+/g, ' ')
    .trim()
    .split(' ');
  const camel = parts
    .map((part, index) => (index === 0 ? part.charAt(0).toLowerCase() : part.charAt(0).toUpperCase()) + part.slice(1))
    .join('');
  const start = (/^[a-z]/.test(camel) ? camel : `field${camel}`).slice(0, 36);
  let id = start;
  for (let number = 2; taken.includes(id); number += 1) id = `${start}${number}`;
  return id;
}
