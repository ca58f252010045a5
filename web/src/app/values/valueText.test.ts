import fc from 'fast-check';
import { pieces, valueText } from './valueText';

const text = fc.string({
  unit: fc.constantFrom('a', 'b', ' ', '1', 'ü', '\u{1F33F}', '\u{1F331}', '\t'),
  maxLength: 12,
});
function undotted(shown: string, original: string): string {
  const characters = [...shown];
  return [...original].map((character, index) => (characters[index] === '·' ? character : characters[index])).join('');
}

test('pieces put together are the text, with blanks at its ends as dots, and no character is cut in two', () => {
  fc.assert(
    fc.property(text, fc.option(text, { nil: undefined }), (one, other) => {
      const shown = pieces(one, other);
      const joined = shown.map((piece) => piece.text).join('');
      expect([...joined]).toHaveLength([...one].length);
      expect(undotted(joined, one)).toBe(one);
      for (const piece of shown) expect(piece.text.isWellFormed()).toBe(true);
      const inner = joined.slice(one.length - one.trimStart().length, one.trimEnd().length);
      expect(inner).toBe(one.trim());
    }),
  );
});

test('only what differs is marked, and equal texts or a text alone have no mark', () => {
  const marked = (one: string, other?: string) =>
    pieces(one, other).flatMap((piece) => (piece.changed ? [piece.text] : []));
  expect(marked('Saltpan Lane 9', 'Saltpan Lane 12')).toEqual(['9']);
  expect(marked('Saltpan Lane 12', 'Saltpan Lane 9')).toEqual(['12']);
  expect(marked('aaa', 'aa')).toEqual(['a']);
  // Both plants begin with the same half of a surrogate pair.
  expect(marked('x\u{1F33F}y', 'x\u{1F331}y')).toEqual(['\u{1F33F}']);
  expect(marked('same', 'same')).toEqual([]);
  expect(marked('alone')).toEqual([]);
  expect(pieces('Ann ', 'Ann')).toEqual([
    { text: 'Ann', changed: false, blank: false },
    { text: '·', changed: true, blank: true },
  ]);
});

test('values of every form show as a person reads them, exact numbers as they were sent', () => {
  expect(
    [null, undefined, true, false, '', 0, 12.5, ['a', null, 'b'], { $number: '1.10' }, { a: 1 }].map(valueText),
  ).toEqual(['', '', 'yes', 'no', '', '0', '12.5', 'a, , b', '1.10', '{"a":1}']);
});
