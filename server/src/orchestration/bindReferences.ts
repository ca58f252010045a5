import {
  type Anchor,
  type AnchorId,
  type CompiledKnot,
  keyOf,
  type KeyRule,
  type KnotQuestions,
  type KnownName,
  Levels,
  LookUps,
  type MemberId,
  type Reading,
  recordKey,
  type ReferenceBy,
  referenceQuestions,
  type Substitute,
  withReferences,
} from '@anchor-knot/core';
import type { Store } from './store.js';

/** Where what references mean is looked up. */
export type ReferenceSource = Pick<
  Store,
  | 'tieHeads'
  | 'anchorsWithKeys'
  | 'tiesOf'
  | 'agreedTexts'
  | 'redirects'
  | 'keyRulesOf'
  | 'thingsAbove'
  | 'substitutesOf'
  | 'goneAmong'
>;

type Asking = { readonly anchor: Anchor; readonly readings?: ReadonlyMap<MemberId, Reading> | undefined };

/**
 * The knot with what the references of some anchors mean, looked up for all of them together: a few queries for each
 * knot that is referred to, and none where nothing is.
 * @param levels what a run has agreed of what stands under what, which nobody has stored yet
 */
export async function bindReferences(
  source: ReferenceSource,
  knot: CompiledKnot,
  anchors: readonly Asking[],
  levels = new Levels(),
): Promise<CompiledKnot> {
  if (!knot.fields.some(({ refersTo }) => refersTo !== undefined)) return knot;
  const archivedWith = knot.fields.flatMap((one) => (one.archivedWith && one.refersTo ? [one.refersTo] : []));
  const references = await lookUp(source, referenceQuestions(knot, anchors).asked, new Set(archivedWith));
  const field = knot.fields.find((one) => one.levels);
  if (!field) return withReferences(knot, references);
  levels.learn(await source.thingsAbove(field.id, references.thingsOf(knot.id)));
  return withReferences(knot, references, levels);
}

/**
 * Answers questions about the things of other knots.
 * @param mayBeGone knots of which is asked whether their things are there still
 */
export async function lookUp(
  source: ReferenceSource,
  asked: ReadonlyMap<string, KnotQuestions>,
  mayBeGone: ReadonlySet<string> = new Set(),
): Promise<LookUps> {
  const gone: AnchorId[] = [];
  const names: KnownName[] = [];
  const redirects = new Map<AnchorId, AnchorId>();
  const substitutes: Substitute[] = [];
  for (const [knot, questions] of asked) {
    const moved = await source.redirects([...questions.things]);
    for (const [from, to] of moved) redirects.set(from, to);
    const known = await knownIn(source, knot, questions, [...moved.values()]);
    names.push(...known.names);
    substitutes.push(...known.substitutes);
    if (mayBeGone.has(knot)) gone.push(...(await source.goneAmong([...questions.things, ...moved.values()])));
  }
  return new LookUps(names, redirects, substitutes, new Set(gone));
}

/** What things of one knot are known by, and what stands for those that are known by nothing. */
export interface KnownThings {
  readonly names: readonly KnownName[];
  readonly substitutes: readonly Substitute[];
}

/**
 * What things of one knot are known by: those that are asked about, and those that the values mean.
 * @param others things that are asked about besides
 */
export async function knownIn(
  source: ReferenceSource,
  knot: string,
  questions: KnotQuestions,
  others: readonly AnchorId[] = [],
): Promise<KnownThings> {
  const found = await findThings(source, knot, questions);
  const things = new Set([...found.map(({ anchor }) => anchor), ...questions.things, ...others]);
  const values = [...questions.keys.values(), ...questions.values.values()].flatMap((asked) => [...asked]);
  const substitutes = await source.substitutesOf(knot, { values: [...new Set(values)], things: [...things] });
  for (const { stands } of substitutes) if (stands !== null) things.add(stands);
  return { names: [...found, ...(await nameThings(source, knot, questions.ways, [...things]))], substitutes };
}

/** What the values mean that records refer by. They are no names yet: how a thing is told of is asked apart. */
async function findThings(
  source: ReferenceSource,
  knot: string,
  { keys, values }: KnotQuestions,
): Promise<KnownName[]> {
  const found: KnownName[] = [];
  for (const [member, asked] of keys) {
    const heads = await source.tieHeads(knot, member, [...asked].map(recordKey));
    for (const [value, { anchor }] of heads) found.push({ knot, by: { member }, value, anchor, isGone: true });
  }
  const rules = values.size > 0 ? await source.keyRulesOf(knot) : [];
  for (const [field, asked] of values) {
    const place = rules.findIndex((rule) => isAlone(rule, field));
    const rule = rules[place];
    if (!rule) continue;
    const valuesOf = new Map<string, string[]>();
    for (const value of asked) {
      const key = keyOf(rule, new Map([[field, value]]));
      if (key !== undefined) valuesOf.set(key, [...(valuesOf.get(key) ?? []), value]);
    }
    const anchors = await source.anchorsWithKeys(
      knot,
      [...valuesOf.keys()].map((key) => [place, key] as const),
    );
    for (const { key, anchor } of anchors)
      for (const value of valuesOf.get(key) ?? []) found.push({ knot, by: { field }, value, anchor, isGone: true });
  }
  return found;
}

/** A field is a way to refer to things where a key rule compares it alone. */
function isAlone(rule: KeyRule, field: string): boolean {
  return rule.fields.length === 1 && rule.fields[0]?.field === field;
}

async function nameThings(
  source: ReferenceSource,
  knot: string,
  ways: readonly ReferenceBy[],
  things: readonly AnchorId[],
): Promise<KnownName[]> {
  if (things.length === 0) return [];
  const names: KnownName[] = [];
  const members = new Set(ways.flatMap((by) => ('member' in by ? [by.member] : [])));
  if (members.size > 0)
    for (const { anchor, member, key, gone } of await source.tiesOf(knot, things))
      if (!gone && members.has(member)) names.push({ knot, by: { member }, value: key, anchor });
  for (const by of ways) {
    if (!('field' in by)) continue;
    for (const [anchor, value] of await source.agreedTexts(knot, by.field, things))
      names.push({ knot, by, value, anchor });
  }
  return names;
}
