import { readFileSync } from 'node:fs';
import { stepSchema } from '@anchor-knot/contracts';
import { compileStep, tryFilter } from '@anchor-knot/core';
import { stepWords } from '../../../words/sentences';
import { conditionFormula, conditions } from './conditions';
import type { Step } from './draftEdits';
import { partText, stepForm, stepForms, type StepPart, withPart } from './stepForms';

const tables = { groups: { name: 'Groups', rows: [] } };

test('every kind of step has a form, begins as one that can be run, and is said in words', () => {
  const kinds = stepSchema.options.map(({ shape }) => shape.kind.value);
  expect(stepForms.map(({ kind }) => kind).sort()).toEqual([...kinds].sort());
  for (const form of stepForms) {
    const step = form.make(['groups'], 'https://crm.example/records/{key}');
    expect(stepSchema.safeParse(step).success).toBe(true);
    expect([form.kind, compileStep(step as never, 'crm', tables).ok]).toEqual([form.kind, true]);
    expect(stepWords(step, { crosswalks: tables } as never)).not.toBe('');
  }
});

test('each part of each form shows what the step holds, and takes it again', () => {
  for (const form of stepForms) {
    const step = form.make(['groups']);
    for (const part of form.parts) {
      const text = partText(step, part);
      if (part.as === 'check' || (text === '' && part.optional)) continue;
      expect(withPart(step, part, text)).toEqual(step);
    }
  }
});

const part = (kind: Step['kind'], key: string): readonly [Step, StepPart] => {
  const form = stepForm(kind);
  return [form.make(['groups']), form.parts.find((one) => one.key === key) as StepPart];
};
test.each<[Step['kind'], string, string, unknown]>([
  ['cut', 'length', '12', { length: 12 }],
  ['cut', 'length', '-1', { refused: expect.stringContaining('whole number') as string }],
  ['cut', 'length', '', { refused: expect.stringContaining('may not be empty') as string }],
  ['yesNo', 'yes', 'Y, 1 , true', { yes: ['Y', 1, true] }],
  ['number', 'factor', '0', { refused: expect.stringContaining('greater than zero') as string }],
  ['number', 'factor', '', { kind: 'number', places: 2 }],
  ['phone', 'country', 'Britain', { refused: expect.stringContaining('two letters') as string }],
  ['money', 'currency', 'pounds', { refused: expect.stringContaining('three letters') as string }],
  ['replace', 'by', '', { by: '' }],
  ['replace', 'find', '', { refused: expect.stringContaining('may not be empty') as string }],
  ['pad', 'with', '00', { refused: expect.stringContaining('one character') as string }],
  ['list', 'separator', ' ', { separator: ' ' }],
  ['formula', 'inbound', 'x'.repeat(50_000), { refused: expect.stringContaining('4,000') as string }],
])('%s, %s: “%.20s” gives %j', (kind, key, entered, expected) => {
  const [step, one] = part(kind, key);
  expect(withPart(step, one, entered)).toMatchObject(expected as object);
});

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

test('the engine’s word for a record’s own key is the client’s', async () => {
  const [{ recordKeyPath }, client] = [
    await import('@anchor-knot/core'),
    readFileSync('web/src/app/views/knots/editor/recordKey.ts', 'utf8'),
  ];
  expect(client).toContain(`'${recordKeyPath}'`);
});
