const basis = 0x811c9dc5;
const prime = 0x01000193;

/**
 * FNV-1a, 32 bits, over the UTF-16 units of a text (Fowler, Noll and Vo 1991); goes on from a hash before. The result
 * may be negative.
 */
export function fnv1a(text: string, before = basis): number {
  let hash = before;
  for (let at = 0; at < text.length; at += 1) hash = Math.imul(hash ^ text.charCodeAt(at), prime);
  return hash;
}
