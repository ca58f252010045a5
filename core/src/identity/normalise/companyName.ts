import { tokensOf } from './fold.js';

/** Legal forms of companies, folded; those of several words as words in a row. */
const legalForms = new Set(
  (
    'ltd limited plc llp llc inc incorporated corp corporation company co lp gmbh mbh ag kg kgaa ohg gbr ' +
    'ug ev eg se sa sarl sas sasu eurl sci snc spa srl srls sapa bv nv vof cv ' +
    'sl slu sau ab as asa aps oy oyj kft zrt sro doo ooo pty pvt cic kk und partner'
  ).split(' '),
);
const joined = new Set([
  'gmbh co kg',
  'co kg',
  'co ltd',
  'pty ltd',
  's a r l',
  's a s',
  's p a',
  's r l',
  'b v',
  'n v',
  's l',
  's a',
  'e v',
  'k k',
]);
const smallWords = new Set([
  'the',
  'and',
  'und',
  'et',
  'en',
  'y',
  'e',
  'of',
  'de',
  'der',
  'die',
  'das',
  'le',
  'la',
  'les',
  'von',
  'van',
]);
const longestForm = 4;

/**
 * The words of a company's name that tell it from others: without its legal form at the end, and without *and* and
 * *the*.
 */
export function companyWords(name: string): string[] {
  const words = tokensOf(name.replaceAll('&', ' and ').replaceAll('.', ''));
  const spaced = tokensOf(name.replaceAll('&', ' and '));
  // `B.V.` and `B. V.` are the same form; the dots are read as blanks only to find it.
  let end = words.length;
  while (
    end > 1 &&
    (legalForms.has(words[end - 1] as string) || (end < words.length && smallWords.has(words[end - 1] as string)))
  )
    end -= 1;
  let kept = words.slice(0, end);
  if (end === words.length) {
    for (let length = longestForm; length > 1; length -= 1) {
      if (spaced.length <= length || !joined.has(spaced.slice(-length).join(' '))) continue;
      kept = spaced.slice(0, -length);
      break;
    }
  }
  const telling = kept.filter((word) => !smallWords.has(word));
  return telling.length > 0 ? telling : kept;
}
