import { createHash } from 'node:crypto';
import { isDeepStrictEqual } from 'node:util';
import {
  type Anchor,
  type AnchorId,
  blocksVersion,
  type CompiledKnot,
  type EvidenceTexts,
  evidenceTexts,
  expectedFields,
  isAlive,
  keyOf,
  type MemberId,
  prepareColumns,
  type Reading,
  referencesOf,
  storedBlocks,
} from '@anchor-knot/core';
import type { RunLease } from './lease.js';
import type { Store } from './store.js';
import type { AnchorIndex, IndexedRecord, StagedRecord } from './stored.js';

const indexedAtOnce = 1000;
/** Changes with how the index is made: mappings that only write are read for it, dead anchors are left out. */
const indexVersion = 2;

/**
 * By what newcomers find these anchors: keys of the agreed values and of the present values of ties, and what ties have
 * for the evidence.
 */
export function indexOfAnchors(knot: CompiledKnot, anchors: readonly Anchor[]): AnchorIndex[] {
  const evidence = knot.evidence?.fields ?? [];
  const texts: EvidenceTexts[] = [];
  const hasReferences = knot.fields.some(({ refersTo }) => refersTo !== undefined);
  const drafts = anchors.map((anchor) => {
    const keys = new Map<string, readonly [number, string]>();
    const records: {
      readonly member: string;
      readonly key: (typeof anchor.ties)[number]['key'];
      readonly place: number;
    }[] = [];
    // A dead anchor is found by nobody, and no other by a record that is gone.
    const references = hasReferences ? referencesOf(knot, anchor) : undefined;
    if (!isAlive(anchor)) return { keys: [], records, references };
    const sets = [new Map(Object.entries(anchor.agreed).map(([field, { value }]) => [field, value]))];
    for (const tie of anchor.ties) {
      if (tie.gone) continue;
      const values = knot.comparableValues(tie.member, expectedFields(tie), knot.keyFields);
      sets.push(values);
      if (evidence.length === 0) continue;
      records.push({ member: tie.member, key: tie.key, place: texts.length });
      texts.push(evidenceTexts(evidence, values));
    }
    for (const values of sets) {
      for (const [rule, of] of knot.keyRules.entries()) {
        const key = keyOf(of, values);
        if (key !== undefined) keys.set(`${rule}\u001f${key}`, [rule, key]);
      }
    }
    return { keys: [...keys.values()], records, references };
  });
  const columns = prepareColumns(evidence, texts);
  return drafts.map(({ keys, records, references }) => ({
    keys,
    ...(references ? { references } : {}),
    evidence: records.map(({ member, key, place }): IndexedRecord => ({
      member,
      key,
      texts: texts[place] as EvidenceTexts,
      blocks: storedBlocks(columns, place).map(({ block }) => block),
    })),
  }));
}

/**
 * By what newcomers find anchors that change; nothing for those that are found by the same as before. What is stored of
 * an anchor follows from the anchor, so that nobody need ask the database for it; but for one with a record that is
 * gone: that was noted at its tie alone.
 * @param changes `before` is left out for a new anchor
 */
export function changedIndexes(
  knot: CompiledKnot,
  changes: readonly { readonly before: Anchor | undefined; readonly after: Anchor }[],
): (AnchorIndex | undefined)[] {
  const indexes = indexOfAnchors(
    knot,
    changes.map(({ after }) => after),
  );
  const known = changes.flatMap(({ before }) => (before && !before.ties.some(({ gone }) => gone) ? [before] : []));
  const old = new Map(indexOfAnchors(knot, known).map((index, place) => [known[place]?.id, index]));
  return indexes.map((index, place) =>
    isDeepStrictEqual(old.get(changes[place]?.after.id), index) ? undefined : index,
  );
}

/** The keys of a record by the knot's key rules, and what it has for the evidence. */
export function identityOf(
  knot: CompiledKnot,
  member: MemberId,
  { fields }: Reading,
): Pick<StagedRecord, 'matchKeys' | 'texts'> {
  const values = knot.comparableValues(member, fields, knot.keyFields);
  return {
    matchKeys: knot.keyRules.map((rule) => keyOf(rule, values) ?? null),
    texts: evidenceTexts(knot.evidence?.fields ?? [], values),
  };
}

/** In which blocks records are, by what they have for the evidence, and how many of each are looked at at most. */
export function blocksOf(
  { evidence, members }: CompiledKnot,
  texts: readonly EvidenceTexts[],
): { readonly block: number; readonly limit: number }[][] {
  const columns = prepareColumns(evidence?.fields ?? [], texts);
  // A block holds records of all members.
  return texts.map((_, place) =>
    storedBlocks(columns, place).map(({ block, limit }) => ({ block, limit: limit * members.length })),
  );
}

/** Changes with everything that the index depends on. */
export function indexFingerprint({ keyRules, evidence, fields, crosswalks }: CompiledKnot): string {
  const named = new Set([
    ...keyRules.flatMap((rule) => rule.fields.map(({ field }) => field)),
    ...(evidence?.fields ?? []).flatMap((part) => part.fields),
  ]);
  const used = fields
    .filter(({ id }) => named.has(id))
    .map(({ id, type, mappings }) => [
      id,
      type,
      [...mappings].map(([member, { lens: _, comparing: __, ...mapping }]) => [member, mapping]),
    ]);
  return createHash('sha256')
    .update(JSON.stringify([indexVersion, blocksVersion, keyRules, evidence?.fields ?? [], used, crosswalks]))
    .digest('base64');
}

/**
 * Brings the index of all anchors up to a definition by which it was not made; a run's own anchors are kept up to it as
 * they are stored.
 */
export async function keepIndex(
  store: Store,
  knot: CompiledKnot,
  lease: RunLease,
  afterBatch: () => Promise<void>,
): Promise<void> {
  const fingerprint = indexFingerprint(knot);
  if ((await store.indexedAs(lease.knot)) === fingerprint) return;
  for (let after: AnchorId | undefined; ;) {
    const ids = await store.anchorIds(lease.knot, after, indexedAtOnce);
    const loaded = await store.loadAnchors(lease, ids);
    const indexes = indexOfAnchors(
      knot,
      ids.flatMap((id) => loaded.get(id)?.anchor ?? []),
    );
    if (ids.length > 0)
      await store.saveIndex(
        lease,
        ids.filter((id) => loaded.has(id)).map((anchor, place) => ({ anchor, index: indexes[place] as AnchorIndex })),
      );
    await afterBatch();
    if (ids.length < indexedAtOnce) break;
    after = ids.at(-1);
  }
  await store.markIndexed(lease, fingerprint);
}
