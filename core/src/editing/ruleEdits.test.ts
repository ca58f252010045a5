import fc from 'fast-check';
import { applyRule } from '../merge/rule.js';
import type { Rule, RuleStep } from '../definition/index.js';
import { addRuleStep, moveRuleStep, newRuleStep, removeRuleStep, ruleFor, stepsToAdd } from './ruleEdits.js';

const members = ['crm', 'shop', 'erp'];
const begin: Rule = { steps: [{ step: 'newest' }, { step: 'ask' }] };
const names = (rule: Rule): string[] => rule.steps.map(({ step }) => step);

test('a step is added before ask, which stays last', () => {
  const longer = addRuleStep(begin, newRuleStep('order', members));
  expect(names(longer)).toEqual(['newest', 'order', 'ask']);
  expect(longer.steps[1]).toEqual({ step: 'order', members });
  expect(names(moveRuleStep(longer, 2, 0))).toEqual(['newest', 'order', 'ask']);
  expect(names(moveRuleStep(longer, 1, 0))).toEqual(['order', 'newest', 'ask']);
});

test('a rule of which every step was taken away asks', () => {
  expect(names(removeRuleStep(removeRuleStep(begin, 0), 0))).toEqual(['ask']);
});

test('what cannot be combined in a field of another type is left to the steps', () => {
  const sum: Rule = { combine: 'sum', steps: [{ step: 'ask' }], reason: 'stock' };
  expect(ruleFor('number', sum)).toBe(sum);
  expect(ruleFor('date', sum)).toEqual({ steps: [{ step: 'ask' }], reason: 'stock' });
});

test('however a rule is edited, each step stands once, ask is last, and it settles or asks', () => {
  const edit = fc.record({ act: fc.constantFrom('add', 'remove', 'move'), a: fc.nat(8), b: fc.nat(8) });
  fc.assert(
    fc.property(fc.array(edit, { maxLength: 12 }), (edits) => {
      const rule = edits.reduce((now: Rule, { act, a, b }) => {
        if (act === 'remove') return removeRuleStep(now, a % now.steps.length);
        if (act === 'move') return moveRuleStep(now, a % now.steps.length, b % now.steps.length);
        const free = stepsToAdd(now);
        return free.length === 0
          ? now
          : addRuleStep(now, newRuleStep(free[a % free.length] as RuleStep['step'], members));
      }, begin);
      expect(new Set(names(rule)).size).toBe(rule.steps.length);
      expect(rule.steps.length).toBeGreaterThan(0);
      expect(names(rule).indexOf('ask')).toBe(names(rule).includes('ask') ? rule.steps.length - 1 : -1);
      const candidates = ['a', 'bb'].map((value, at) => ({ value, givers: [], at, isAgreed: false, editedIn: [] }));
      expect(applyRule(rule, 'text', candidates).candidates.length).toBeGreaterThan(0);
    }),
  );
});
