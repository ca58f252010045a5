/** What is typed has the form of what stood there. */
import { rawFromText } from './rawFromText.js';

test.each<[string, Parameters<typeof rawFromText>[1], unknown]>([
  ['+44 1632', 'n/a', '+44 1632'],
  ['', 'n/a', ''],
  ['', null, null],
  ['', 7, null],
  ['12345678901234567890', 7, { $number: '12345678901234567890' }],
  ['1.10', { $number: '2.20' }, { $number: '1.10' }],
  ['1,10', { $number: '2.20' }, '1,10'],
  ['yes', false, true],
  ['no', true, false],
  ['maybe', true, 'maybe'],
  ['7', '8', '7'],
  ['7', null, '7'],
])('“%s” where %j stood is %j', (text, before, expected) => {
  expect(rawFromText(text, before)).toEqual(expected);
});
