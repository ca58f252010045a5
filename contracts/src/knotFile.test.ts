import { compileKnot, type Knot } from '@anchor-knot/core';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { z } from 'zod';
import { describeIssues, knotFileSchema, knotSchema } from './knotFile.js';

/** A knot that a test may spoil in any way. */
// eslint-disable-next-line @typescript-eslint/no-explicit-any -- it is spoilt against its type
type Spoilable = any;
type Mutable<T> = T extends readonly (infer Item)[] ? Mutable<Item>[] : T extends object ? { -readonly [Name in keyof T]: Mutable<T[Name]> } : T;
type Same<A, B> = [A] extends [B] ? ([B] extends [A] ? true : false) : false;

const demo = JSON.parse(readFileSync(join(import.meta.dirname, '../../server/demo/customers.knot.json'), 'utf8')) as Record<string, never>;

test('the schema of a knot and the type of the engine are one', () => {
  const same: Same<Mutable<Knot>, Mutable<z.output<typeof knotSchema>>> = true;
  expect(same).toBe(true);
});

test('the demo’s knot is a knot, and survives being written and read', () => {
  const file = knotFileSchema.parse(demo);
  expect(compileKnot(file.knot)).toMatchObject({ ok: true });
  expect(file.knot.fields).toHaveLength(13);
  expect(knotFileSchema.parse(JSON.parse(JSON.stringify(file)))).toEqual(file);
});

test.each<[string, (knot: Spoilable) => unknown, RegExp]>([
  ['a direction that is none', (knot) => (knot.fields[0].mappings.crm.direction = 'sideways' as never), /fields\.0\.mappings\.crm\.direction/],
  ['a setting that does not exist', (knot) => ((knot as unknown as Record<string, unknown>).colour = 'red'), /colour/],
  ['a field path into a prototype', (knot) => (knot.fields[0].mappings.crm.field = '__proto__.x' as never), /not a field name/],
  ['a single member', (knot) => (knot.members as unknown as unknown[]).pop(), /members/],
])('%s is refused with the place', (_, spoil, says) => {
  const file = structuredClone(demo);
  spoil(file.knot as never);
  const result = knotFileSchema.safeParse(file);
  expect(
    result.success
      ? ''
      : describeIssues(result.error)
          .map(({ at, says: words }) => `${at} ${words}`)
          .join('\n'),
  ).toMatch(says);
});

test.each<[string, (knot: Spoilable) => unknown, RegExp]>([
  ['an unknown crosswalk', (knot) => (knot.fields[9].mappings.crm.steps[0].table = 'gone' as never), /no crosswalk “gone”/],
  ['a rule that leaves a conflict unsettled', (knot) => (knot.fields[0].rule.steps = [{ step: 'newest' }] as never), /last step must be ask/],
  ['two fields that write to one', (knot) => (knot.fields[1].mappings.crm.field = 'name' as never), /already writes/],
  ['a formula over a field that is not there', (knot) => (knot.checks[0].formula = 'firm != null' as never), /firm/],
  ['an order that forgets a member', (knot) => (knot.fields[3].rule.steps = [{ step: 'order', members: ['crm'] }] as never), /leaves out shop/],
])('%s is found when the knot is compiled', (_, spoil, says) => {
  const file = structuredClone(demo);
  spoil(file.knot as never);
  const compiled = compileKnot(knotFileSchema.parse(file).knot);
  expect(compiled.ok ? '' : compiled.problems.map(({ says: words }) => words).join('\n')).toMatch(says);
});
