import { tokensOf } from './fold.js';
import { fullNameOf } from './nicknames.js';

const titles = new Set(
  (
    'mr mrs ms miss mx dr prof professor sir dame herr frau mme mlle madame monsieur m sr sra senor ' +
    'senora signor signora dhr mevr ing dipl phd md jr sr ii iii'
  ).split(' '),
);

/** The words of a person's name without titles; a name of titles alone stays as it is. */
export function personWords(name: string): string[] {
  const words = tokensOf(name.replaceAll('-', ' '));
  const telling = words.filter((word) => !titles.has(word));
  return telling.length > 0 ? telling : words;
}

/** The words with everyday forms as the full name they stand for: *Bill* as *william*. */
export function fullForms(words: readonly string[]): string[] {
  return words.map((word) => fullNameOf.get(word) ?? word);
}
