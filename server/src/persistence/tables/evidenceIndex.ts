import { createHash } from 'node:crypto';
import type { SqlConnection } from '../sql.js';
import { type AnchorId, anchorId, type EvidenceTexts, recordKey } from '@anchor-knot/core';
import type { EvidenceCandidates, IndexedRecord } from '../../orchestration/stored.js';
import { byAnchor } from '../rows.js';

/**
 * Blocks are below 2^45; a knot's own number in the bits above keeps knots apart, but for chance, which costs a
 * comparison in vain.
 */
export function blockNumber(knot: string): (block: number) => string {
  const high = BigInt(createHash('sha256').update(knot).digest().readUInt16BE()) << 45n;
  return (block) => String(high + BigInt(block));
}

interface IndexRow {
  readonly id: string;
  readonly anchor_id: string;
  readonly member: string;
  readonly record_key: string;
  readonly texts: string;
}

const rowName = (member: string, key: string, texts: string, blocks: readonly string[]): string =>
  JSON.stringify([member, key, texts, blocks]);

/** Replaces what the index has of these anchors; what is as it was stays. @returns those of which something changed */
export async function saveEvidence(
  db: SqlConnection,
  knot: string,
  anchors: readonly { readonly anchor: AnchorId; readonly evidence: readonly IndexedRecord[] }[],
): Promise<readonly AnchorId[]> {
  const rows = (await db.query(
    'select id, anchor_id, member, record_key, texts, blocks from evidence_record where anchor_id = any($1::uuid[])',
    [anchors.map(({ anchor }) => anchor)],
  )) as (IndexRow & { readonly blocks: string[] })[];
  const number = blockNumber(knot);
  const there = byAnchor(rows, (row) => row.anchor_id);
  const old: string[] = [];
  const changed: AnchorId[] = [];
  const fresh: (Omit<IndexedRecord, 'blocks'> & { readonly anchor: AnchorId; readonly blocks: readonly string[] })[] =
    [];
  for (const { anchor, evidence } of anchors) {
    const known = new Map(
      (there.get(anchor) ?? []).map((row) => [rowName(row.member, row.record_key, row.texts, row.blocks), row.id]),
    );
    for (const { blocks, ...record } of evidence) {
      const numbers = blocks.map(number);
      if (!known.delete(rowName(record.member, record.key, JSON.stringify(record.texts), numbers)))
        fresh.push({ ...record, anchor, blocks: numbers });
    }
    if (known.size > 0 || fresh.at(-1)?.anchor === anchor) changed.push(anchor);
    old.push(...known.values());
  }
  if (old.length > 0)
    await db.query(
      `with gone as (delete from evidence_record where id = any($1::bigint[]) returning id, blocks)
       delete from evidence_block b using (select id, unnest(blocks) as block from gone) g where b.block = g.block
         and b.record_id = g.id`,
      [old],
    );
  if (fresh.length === 0) return changed;
  await db.query(
    `with made as (
       insert into evidence_record (knot_id, anchor_id, member, record_key, texts, blocks)
       select $1, anchor, member, key, texts, blocks::bigint[] from unnest($2::uuid[], $3::text[], $4::text[],
         $5::text[], $6::text[]) as r(anchor, member, key, texts, blocks)
       returning id, blocks)
     insert into evidence_block (block, record_id) select unnest(blocks), id from made`,
    [
      knot,
      fresh.map(({ anchor }) => anchor),
      fresh.map(({ member }) => member),
      fresh.map(({ key }) => key),
      fresh.map(({ texts }) => JSON.stringify(texts)),
      fresh.map(({ blocks }) => `{${blocks.join(',')}}`),
    ],
  );
  return changed;
}

/** Looks each block up once, and no further than its limit; then takes all records of the anchors that were found. */
export async function evidenceCandidates(
  data: SqlConnection,
  knot: string,
  newcomers: readonly (readonly { readonly block: number; readonly limit: number }[])[],
): Promise<EvidenceCandidates> {
  const number = blockNumber(knot);
  const byLimit = new Map<number, Set<number>>();
  for (const blocks of newcomers)
    for (const { block, limit } of blocks) byLimit.set(limit, (byLimit.get(limit) ?? new Set<number>()).add(block));
  const idsOf = new Map<string, string[]>();
  for (const [limit, blocks] of byLimit) {
    const rows = (await data.query(
      `select w.block, array_agg(f.record_id) as ids from unnest($1::bigint[]) as w(block)
       cross join lateral (select record_id from evidence_block b
         where b.block = w.block limit ${Math.trunc(limit) + 1}) f
       group by w.block having count(*) <= $2`,
      [[...blocks].map(number), limit],
    )) as { block: string; ids: string[] }[];
    for (const { block, ids } of rows) idsOf.set(block, ids);
  }
  const wanted = new Set([...idsOf.values()].flat());
  if (wanted.size === 0) return { records: [], found: newcomers.map(() => []) };
  const rows = (await data.query(
    `select r.id, r.anchor_id, r.member, r.record_key, r.texts from evidence_record r
     where r.knot_id = $1 and r.anchor_id = any(array(
       select distinct anchor_id from evidence_record where id = any($2::bigint[]) and knot_id = $1)) order by r.id`,
    [knot, [...wanted]],
  )) as IndexRow[];
  const places = new Map(rows.map(({ id }, place) => [id, place]));
  return {
    records: rows.map((row) => ({
      anchor: anchorId(row.anchor_id),
      member: row.member,
      key: recordKey(row.record_key),
      texts: JSON.parse(row.texts) as EvidenceTexts,
    })),
    found: newcomers.map((blocks) => [
      ...new Set(blocks.flatMap(({ block }) => idsOf.get(number(block)) ?? []).flatMap((id) => places.get(id) ?? [])),
    ]),
  };
}

export async function indexedAs(data: SqlConnection, knot: string): Promise<string | undefined> {
  const [row] = (await data.query('select fingerprint from match_index where knot_id = $1', [knot])) as {
    fingerprint: string;
  }[];
  return row?.fingerprint;
}

export async function markIndexed(db: SqlConnection, knot: string, fingerprint: string): Promise<void> {
  await db.query(
    'insert into match_index (knot_id, fingerprint) values ($1, $2) on conflict (knot_id) do update set ' +
      'fingerprint = excluded.fingerprint',
    [knot, fingerprint],
  );
}
