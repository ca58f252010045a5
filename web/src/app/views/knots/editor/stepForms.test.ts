import { readFileSync } from 'node:fs';
import { stepSchema } from '@anchor-knot/contracts';
import { compileStep, notLookedUp, type Step } from '@anchor-knot/core';
import { stepWords } from '../../../words/sentences';
import { partText, stepForm, stepForms, type StepPart, withPart } from './stepForms';

const referring = { knot: 'customers', references: notLookedUp };
const tables = { groups: { name: 'Groups', rows: [] } };

test('every kind of step has a form, begins as one that can be run, and is said in words', () => {
  const kinds = stepSchema.options.map(({ shape }) => shape.kind.value);
  expect(stepForms.map(({ kind }) => kind).sort()).toEqual([...kinds].sort());
  for (const form of stepForms) {
    const step = form.make(['groups'], 'https://crm.example/records/{key}');
    expect(stepSchema.safeParse(step).success).toBe(true);
    expect([form.kind, compileStep(step as never, 'crm', tables, referring).ok]).toEqual([form.kind, true]);
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

test('the engine’s word for a record’s own key is the client’s', async () => {
  const [{ recordKeyPath }, client] = [
    await import('@anchor-knot/core'),
    readFileSync('web/src/app/views/knots/editor/recordKey.ts', 'utf8'),
  ];
  expect(client).toContain(`'${recordKeyPath}'`);
});
