/** A condition on a field of a record, put together by choosing. */
export interface Condition {
  readonly kind: 'equals' | 'differs' | 'contains' | 'empty' | 'filled' | 'before' | 'after' | 'oneOf' | 'lastDays';
  readonly path: string;
  readonly value: string;
}

export const conditions: readonly {
  readonly kind: Condition['kind'];
  readonly says: string;
  readonly needsValue: boolean;
}[] = [
  { kind: 'equals', says: 'equals', needsValue: true },
  { kind: 'differs', says: 'differs from', needsValue: true },
  { kind: 'oneOf', says: 'is one of', needsValue: true },
  { kind: 'contains', says: 'contains', needsValue: true },
  { kind: 'empty', says: 'is empty', needsValue: false },
  { kind: 'filled', says: 'has a value', needsValue: false },
  { kind: 'before', says: 'is before', needsValue: true },
  { kind: 'after', says: 'is after', needsValue: true },
  { kind: 'lastDays', says: 'is in the last so many days', needsValue: true },
];

/** The formula over `record` that a condition stands for. A field that was not sent counts as empty. */
export function conditionFormula({ kind, path, value }: Condition, isNumber: boolean): string {
  const at = pathFormula(path);
  const literal = (text: string): string =>
    isNumber && /^-?\d+(\.\d+)?$/.test(text.trim()) ? text.trim() : JSON.stringify(text.trim());
  const isThere = presence(path);
  switch (kind) {
    case 'equals':
      return `(${isThere} && ${at} == ${literal(value)})`;
    case 'differs':
      return `(!(${isThere}) || ${at} != ${literal(value)})`;
    case 'oneOf':
      return `(${isThere} && ${at} in [${value.split(',').map(literal).join(', ')}])`;
    case 'contains': {
      const text = value.trim().replaceAll(/[.*+?^${}()|[\]\\]/g, '\\$&');
      return `(${isThere} && fits(${at}, ${JSON.stringify(`(?is).*${text}.*`)}))`;
    }
    case 'empty':
      return `(!(${isThere}) || ${at} == null || ${at} == "")`;
    case 'filled':
      return `(${isThere} && ${at} != null && ${at} != "")`;
    case 'before':
      return `(${isThere} && ${at} < ${literal(value)})`;
    case 'after':
      return `(${isThere} && ${at} > ${literal(value)})`;
    case 'lastDays': {
      const days = /^\d+$/.test(value.trim()) ? value.trim() : '30';
      return `(${isThere} && ${at} != null && daysBetween(${at}, today) <= ${days})`;
    }
    default:
      return kind satisfies never;
  }
}

const isName = (part: string): boolean => /^[A-Za-z_][A-Za-z0-9_]*$/.test(part);
const step = (part: string): string => (isName(part) ? `.${part}` : `[${JSON.stringify(part)}]`);

/** A field of the record in a formula. */
export function pathFormula(path: string): string {
  return `record${path.split('.').map(step).join('')}`;
}

/** That the field was sent, at each of its levels. */
function presence(path: string): string {
  const parts = path.split('.');
  return parts
    .map((part, index) => `${JSON.stringify(part)} in record${parts.slice(0, index).map(step).join('')}`)
    .join(' && ');
}
