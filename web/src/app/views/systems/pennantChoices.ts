import type { Pennant } from '@anchor-knot/contracts';

/** Two letters for a pennant, from a name: `Coldharbour ERP` gives `CE`. */
export function lettersFor(name: string): string {
  const words = name
    .trim()
    .split(/[^\p{L}\p{N}]+/u)
    .filter(Boolean);
  const letters =
    words.length > 1
      ? `${[...(words[0] ?? '')][0] ?? ''}${[...(words.at(-1) ?? '')][0] ?? ''}`
      : [...(words[0] ?? '')].slice(0, 2).join('');
  return letters.toUpperCase();
}

export const patterns: readonly Pennant['pattern'][] = [
  'halves',
  'quarters',
  'bars',
  'saltire',
  'disc',
  'border',
  'chevron',
  'chequer',
];
export const colours: readonly Pennant['colour'][] = ['petrol', 'vermilion', 'brass', 'kelp', 'ink', 'plum'];
