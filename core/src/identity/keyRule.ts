import type { KeyNormalisation, KeyRule } from '../definition/index.js';
import type { FieldId, Shared } from '../record/index.js';

/**
 * The key of a record under a rule: comparable text, or `undefined` when a field of the rule is blank or unreadable.
 */
export function keyOf(rule: KeyRule, values: ReadonlyMap<FieldId, Shared>): string | undefined {
  const parts: string[] = [];
  for (const { field, normalise } of rule.fields) {
    const value = values.get(field);
    if (value === undefined || value === null) return undefined;
    const part = normaliseKey(normalise, Array.isArray(value) ? value.join('\u001f') : String(value));
    if (part === '') return undefined;
    parts.push(part);
  }
  // The unit separator cannot be typed into a field, so ("a b", "c") and ("a", "b c") stay apart.
  return parts.join('\u001f');
}

/** What a key rule says of two records. */
export type RuleSays = 'the same' | 'differs' | 'missing';

export function ruleSays(a: string | undefined, b: string | undefined): RuleSays {
  return a === undefined || b === undefined ? 'missing' : a === b ? 'the same' : 'differs';
}

function normaliseKey(kind: KeyNormalisation, text: string): string {
  switch (kind) {
    case 'exact':
      return text;
    case 'text':
      return text.normalize('NFKC').toLowerCase().replaceAll(/\s+/g, ' ').trim();
    case 'email':
      // RFC 5321 lets the local part be case-sensitive; no mailbox that people write to is.
      return text
        .normalize('NFKC')
        .toLowerCase()
        .replaceAll(/\s+/g, '')
        .replace(/^mailto:/, '');
    case 'digits':
      return text.replaceAll(/\D/g, '');
    default:
      throw new Error(`unknown normalisation ${String(kind satisfies never)}`);
  }
}
