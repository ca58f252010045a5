import { compileKnot, type Knot } from '@anchor-knot/core';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { z } from 'zod';
import { describeIssues, knotFileSchema, knotSchema } from './knotFile.js';

/**
 * Puts a value (or nothing) at a path of a knot, against its type; what is in a list is found by its id or its place.
 */
function spoil(knot: unknown, path: string, value?: unknown): void {
  const names = path.split('.');
  const last = names.pop() as string;
  let at = knot as Record<string, unknown>;
  for (const name of names)
    at = (Array.isArray(at) ? (at.find(({ id }) => id === name) ?? at[Number(name)]) : at[name]) as Record<
      string,
      unknown
    >;
  if (value === undefined) (at as unknown as unknown[]).splice(Number(last), 1);
  else at[last] = value;
}
type Mutable<T> = T extends readonly (infer Item)[]
  ? Mutable<Item>[]
  : T extends object
    ? { -readonly [Name in keyof T]: Mutable<T[Name]> }
    : T;
type Same<A, B> = [A] extends [B] ? ([B] extends [A] ? true : false) : false;

const demo = JSON.parse(
  readFileSync(join(import.meta.dirname, '../../server/demo/customers.knot.json'), 'utf8'),
) as Record<string, never>;

test('the schema of a knot and the type of the engine are one', () => {
  const same: Same<Mutable<Knot>, Mutable<z.output<typeof knotSchema>>> = true;
  expect(same).toBe(true);
});

test('the demo’s knot is a knot, and survives being written and read', () => {
  const file = knotFileSchema.parse(demo);
  expect(compileKnot(file.knot)).toMatchObject({ ok: true });
  expect(file.knot.members).toHaveLength(4);
  expect(knotFileSchema.parse(JSON.parse(JSON.stringify(file)))).toEqual(file);
});

test.each<[string, string, unknown, RegExp]>([
  ['a direction that is none', 'fields.0.mappings.crm.direction', 'sideways', /fields\.0\.mappings\.crm\.direction/],
  ['a setting that does not exist', 'colour', 'red', /colour/],
  ['a field path into a prototype', 'fields.0.mappings.crm.field', '__proto__.x', /not a field name/],
  ['weights of more than is certain', 'evidence.weights.prior', 1.5, /evidence\.weights\.prior/],
  ['a comparison that does not exist', 'evidence.fields.0.compare', 'sound', /evidence\.fields\.0\.compare/],
  ['a threshold out of all reach', 'evidence.thresholds.upper', 900, /evidence\.thresholds\.upper/],
  ['how common a value is, above all records', 'evidence.weights.fields.0.common', { x1: 5 }, /common\.x1/],
  [
    'a single member',
    'members',
    [{ id: 'crm', system: 'fernhill', object: 'accounts', may: { create: true, update: true } }],
    /members/,
  ],
])('%s is refused with the place', (_, path, value, says) => {
  const file = structuredClone(demo);
  spoil(file.knot, path, value);
  const result = knotFileSchema.safeParse(file);
  expect(
    result.success
      ? ''
      : describeIssues(result.error)
          .map(({ at, says: words }) => `${at} ${words}`)
          .join('\n'),
  ).toMatch(says);
});

test.each<[string, string, unknown, RegExp]>([
  ['an unknown crosswalk', 'fields.group.mappings.crm.steps.0.table', 'gone', /no crosswalk “gone”/],
  ['a rule that leaves a conflict unsettled', 'fields.0.rule.steps', [{ step: 'newest' }], /last step must be ask/],
  ['two fields that write to one', 'fields.firstName.mappings.crm.field', 'name', /already writes/],
  ['a formula over a field that is not there', 'checks.0.formula', 'firm != null', /firm/],
  ['evidence of a field that is not there', 'evidence.fields.0.fields', ['firm'], /no shared field “firm”/],
  ['evidence of a computed field', 'evidence.fields.1.fields', ['contactName'], /is computed: no record holds it/],
  ['evidence of nothing', 'evidence.fields.0.fields', [], /compares no field/],
  ['asking above tying', 'evidence.thresholds', { upper: 1, lower: 2 }, /may not be above/],
  ['weights of another comparison', 'evidence.fields.2.compare', 'text', /learned again/],
  ['weights of fewer fields', 'evidence.weights.fields', [], /learned again/],
  [
    'an order that forgets a member',
    'fields.email.rule.steps',
    [{ step: 'order', members: ['crm'] }],
    /leaves out shop/,
  ],
])('%s is found when the knot is compiled', (_, path, value, says) => {
  const file = structuredClone(demo);
  spoil(file.knot, path, value);
  const compiled = compileKnot(knotFileSchema.parse(file).knot);
  expect(compiled.ok ? '' : compiled.problems.map(({ says: words }) => words).join('\n')).toMatch(says);
});
