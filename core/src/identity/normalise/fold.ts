const marks = /\p{M}/gu;
const plainAscii = /^[a-z0-9 ]*$/;
/** Letters that are no composition of a letter and a mark, as they are commonly written without it. */
const letters: Readonly<Record<string, string>> = {
  ß: 'ss',
  æ: 'ae',
  œ: 'oe',
  ø: 'o',
  ð: 'd',
  þ: 'th',
  ł: 'l',
  đ: 'd',
  ı: 'i',
  ى: 'ي',
  ة: 'ه',
};
const special = /[ßæœøðþłđıىة]/g;
/** Vowels with marks that German and Nordic names have as two letters where marks cannot be typed. */
const digraphs = /(?<=[aou])e/g;

/**
 * A text for comparing: Unicode NFKD without marks (UAX 15), small letters, everything that is neither letter nor digit
 * as one blank. Scripts without capitals pass through; right-to-left text keeps its logical order.
 */
export function fold(text: string): string {
  if (plainAscii.test(text) && !text.includes('  ')) return text.trim();
  return text
    .normalize('NFKD')
    .replace(marks, '')
    .toLowerCase()
    .replace(special, (letter) => letters[letter] ?? letter)
    .replace(/['’`]/g, '')
    .replace(/[^\p{L}\p{N}]+/gu, ' ')
    .trim();
}

/** The words of a text, folded; *Mueller* and *Müller* are one word. */
export function tokensOf(text: string): string[] {
  const folded = fold(text).replace(digraphs, '');
  return folded === '' ? [] : folded.split(' ');
}
