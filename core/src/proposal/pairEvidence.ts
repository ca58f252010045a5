import { nameLikeness, type NamePart } from './fieldNames.js';
import { type FieldSketch, sharedValues } from './sketch.js';
import type { TiedComparison } from './tiedEvidence.js';
import type { ValueKind } from './valueForms.js';

/** Why two fields are thought to correspond, or not. Each adds its part to the score: log odds, in nats. */
export type Reason =
  | { readonly kind: 'names'; readonly likeness: number; readonly adds: number }
  | { readonly kind: 'type'; readonly left: ValueKind; readonly right: ValueKind; readonly adds: number }
  | { readonly kind: 'format'; readonly format: string; readonly adds: number }
  | { readonly kind: 'values'; readonly share: number; readonly count: number; readonly adds: number }
  | { readonly kind: 'tied'; readonly equal: number; readonly of: number; readonly adds: number }
  | { readonly kind: 'crosswalk'; readonly of: number; readonly adds: number }
  | { readonly kind: 'factor'; readonly factor: number; readonly of: number; readonly adds: number }
  | {
      readonly kind: 'refers';
      readonly found: number;
      readonly of: number;
      readonly words: string;
      readonly adds: number;
    };

/** A field with what its name says. */
export interface NamedSketch extends FieldSketch {
  readonly parts: readonly NamePart[];
}

/** Among some 25 fields on the other side, one is meant. */
const prior = -3.2;

/** Collects what speaks for and against two fields being the same; the score is the sum of the parts and the prior. */
export function judgePair(
  left: NamedSketch,
  right: NamedSketch,
  tied: TiedComparison | undefined,
): { readonly score: number; readonly reasons: readonly Reason[] } {
  const reasons = [
    namesReason(left, right),
    typeReason(left, right),
    formatReason(left, right),
    ...valuesReason(left, right, tied),
    ...tiedReasons(left, right, tied),
  ];
  const counted = reasons.filter((reason): reason is Reason => reason !== undefined && reason.adds !== 0);
  return { score: counted.reduce((sum, { adds }) => sum + adds, prior), reasons: counted };
}

function namesReason(left: NamedSketch, right: NamedSketch): Reason {
  const likeness = nameLikeness(left.parts, right.parts);
  return { kind: 'names', likeness, adds: likeness === 0 ? -1.2 : 6.8 * likeness - 1.2 };
}

/** What most of the values are; a number of long values is text. */
export function mainKind({
  kinds,
  filled,
  length,
  distinct,
}: FieldSketch): ValueKind | 'long text' | 'choice' | 'none' {
  if (filled === 0) return 'none';
  const [kind, count] = [...kinds].toSorted(([, a], [, b]) => b - a)[0] as [ValueKind, number];
  const main = count >= filled * 0.7 ? kind : 'text';
  if (main !== 'text') return main;
  if (length > 45) return 'long text';
  return distinct <= 12 && distinct <= filled / 4 ? 'choice' : 'text';
}

const telling = new Set(['email', 'url', 'phone', 'list', 'long text']);

function typeReason(left: FieldSketch, right: FieldSketch): Reason | undefined {
  const [a, b] = [mainKind(left), mainKind(right)];
  const says = (adds: number): Reason => ({ kind: 'type', left: a as ValueKind, right: b as ValueKind, adds });
  if (a === 'none' || b === 'none') return undefined;
  if (a === b) {
    if (telling.has(a)) return says(1.6);
    if (a === 'date') return says(1.2);
    if (a === 'number') return says(fitsInSize(left, right) ? 0.5 : -0.6);
    return says(a === 'yes/no' ? 1 : a === 'choice' ? 0.6 : 0);
  }
  const pair = new Set([a, b]);
  if (pair.has('choice') && (pair.has('number') || pair.has('yes/no') || pair.has('text'))) return says(-0.5);
  if (pair.has('text') && pair.has('long text')) return says(-0.5);
  // Times as seconds are numbers that also read as days.
  if (pair.has('number') && pair.has('date')) return says(sharedValues(left, right).count > 0 ? 0.5 : -4);
  if (pair.has('text') && (pair.has('number') || pair.has('phone'))) return says(-2.5);
  return says(-5);
}

/** Numbers of some digits are rarely the same as numbers of other digits. */
function fitsInSize(left: FieldSketch, right: FieldSketch): boolean {
  return Math.abs(left.length - right.length) <= 2.5;
}

/** Forms that say something: with digits or signs in them, as postcodes and registrations have. */
function formatReason(left: FieldSketch, right: FieldSketch): Reason | undefined {
  if (mainKind(left) !== 'text' || mainKind(right) !== 'text') return undefined;
  const shared = [...left.formats]
    .map(([format, count]) => ({
      format,
      both: Math.min(count / left.filled, (right.formats.get(format) ?? 0) / right.filled),
    }))
    .filter(({ both }) => both > 0)
    .toSorted((a, b) => b.both - a.both);
  const share = shared.reduce((sum, { both }) => sum + both, 0);
  const [commonest] = shared;
  if (!commonest || share < 0.2) return { kind: 'format', format: '', adds: -0.8 };
  const specific = /\d/.test(commonest.format);
  return { kind: 'format', format: commonest.format, adds: (specific ? 1.6 : 0.4) * share };
}

function valuesReason(left: FieldSketch, right: FieldSketch, tied: TiedComparison | undefined): readonly Reason[] {
  if (left.filled === 0 || right.filled === 0) return [];
  const { count, share } = sharedValues(left, right);
  const few = Math.min(left.distinct, right.distinct);
  const kind = mainKind(left);
  // Small numbers, dates and yes or no are alike everywhere.
  const common = kind === 'number' || kind === 'date' || kind === 'yes/no';
  const weight = common ? 0.3 : few <= 12 ? 0.7 : 1;
  if (share < 0.04)
    return tied === undefined && !common && few > 3 && few <= 12 ? [{ kind: 'values', share, count, adds: -0.6 }] : [];
  return [
    { kind: 'values', share, count, adds: weight * (1 + 2.5 * Math.min(1, share)) * (tied && tied.of >= 20 ? 0.5 : 1) },
  ];
}

function tiedReasons(left: FieldSketch, right: FieldSketch, tied: TiedComparison | undefined): readonly Reason[] {
  if (!tied || tied.of < 8) return [];
  const { of, equal, chance, tells, information, factor } = tied;
  const share = equal / of;
  if (factor !== undefined) return [{ kind: 'factor', factor, of, adds: 6 }];
  const lift = share - chance;
  if (share >= 0.5 && lift >= 0.15)
    return [
      { kind: 'tied', equal, of, adds: Math.min(8, 2.2 * Math.log((share + 0.02) / (chance + 0.02)) + 2 * share) },
    ];
  if (tells >= 0.75 && information >= 8)
    return [{ kind: 'crosswalk', of, adds: Math.min(5.5, 1.5 + information * 0.06) }];
  // The same thing, and yet other values: not the same field. Where all records have one value, nothing is said.
  if (share < 0.5 && left.distinct > 2 && right.distinct > 2)
    return [{ kind: 'tied', equal, of, adds: -3.5 * Math.min(1, of / 25) * (1 - share) }];
  return [];
}
