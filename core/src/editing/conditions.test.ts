import { tryFilter } from '../trying/index.js';
import { conditionFormula, conditions } from './conditions.js';

describe('a condition that is put together by choosing', () => {
  const records = [
    { status: 'open', size: 12, since: '2026-11-20', address: { town: 'Oakridge (North)' }, 'odd name': 'x' },
    { status: 'done', size: 3, since: '2026-01-01', address: { town: null }, 'odd name': '' },
    { status: 'Open "quoted" \\', address: {} },
  ] as never[];
  const noon = Date.UTC(2026, 10, 24, 12);
  const passing = (formula: string): readonly boolean[] | string => {
    const outcome = tryFilter(formula, records, noon);
    return outcome.ok ? outcome.value.passes : outcome.reason;
  };
  test.each<[(typeof conditions)[number]['kind'], string, string, boolean, readonly boolean[]]>([
    ['equals', 'status', 'open', false, [true, false, false]],
    ['equals', 'status', 'Open "quoted" \\', false, [false, false, true]],
    ['equals', 'size', '12', true, [true, false, false]],
    ['differs', 'size', '12', true, [false, true, true]],
    ['oneOf', 'status', 'open, done', false, [true, true, false]],
    ['contains', 'address.town', 'ridge (n', false, [true, false, false]],
    ['empty', 'address.town', '', false, [false, true, true]],
    ['filled', 'odd name', '', false, [true, false, false]],
    ['before', 'since', '2026-06-01', false, [false, true, false]],
    ['after', 'size', '5', true, [true, false, false]],
    ['lastDays', 'since', '30', false, [true, false, false]],
  ])('%s %s %s', (kind, path, value, isNumber, expected) => {
    expect(passing(conditionFormula({ kind, path, value }, isNumber))).toEqual(expected);
  });
  test('several are joined, and none passes everything that is cut off', () => {
    const isOpen = conditionFormula({ kind: 'equals', path: 'status', value: 'open' }, false);
    const both = `${isOpen} && ${conditionFormula({ kind: 'after', path: 'size', value: '20' }, true)}`;
    expect(passing(both)).toEqual([false, false, false]);
    expect(
      conditions.every(
        ({ kind }) => typeof passing(conditionFormula({ kind, path: 'a b.c-d', value: '"; true' }, false)) !== 'string',
      ),
    ).toBe(true);
  });
});
