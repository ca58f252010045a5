import { tokensOf } from './fold.js';

/**
 * Reads a table of words, one word with its other forms in a line: the full form first.
 * @returns the full form of each; one that stands in several lines has that of the first
 */
export function wordForms(table: string): ReadonlyMap<string, string> {
  const lines = table.trim().split('\n').toReversed().map(tokensOf);
  return new Map(
    lines.flatMap(([full = '', ...forms]) => [full, ...forms].map((form): [string, string] => [form, full])),
  );
}
