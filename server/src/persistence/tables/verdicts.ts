import type { SqlConnection } from '../sql.js';
import { countAct, wake } from './restingRecords.js';
import { recordId, recordKey, type RecordName, type Verdict } from '@anchor-knot/core';

export async function verdictsOf(data: SqlConnection, knot: string): Promise<readonly Verdict[]> {
  const rows = (await data.query(
    'select member_a, key_a, member_b, key_b, same from verdict where knot_id = $1 order by id',
    [knot],
  )) as {
    member_a: string;
    key_a: string;
    member_b: string;
    key_b: string;
    same: boolean;
  }[];
  return rows.map((row) => ({
    a: { member: row.member_a, key: recordKey(row.key_a) },
    b: { member: row.member_b, key: recordKey(row.key_b) },
    same: row.same,
  }));
}

/** Keeps what a person says of pairs; what was said of a pair before is replaced. */
export async function saveVerdicts(
  db: SqlConnection,
  knot: string,
  verdicts: readonly Verdict[],
  { person, at, decision }: { readonly person: string; readonly at: Date; readonly decision?: string | undefined },
): Promise<void> {
  const pairs = new Map(
    verdicts.map(({ a, b, same }) => {
      const [first, second] = recordId(a) < recordId(b) ? [a, b] : [b, a];
      return [`${recordId(first)}\u001e${recordId(second)}`, { first, second, same }] as const;
    }),
  );
  const rows = [...pairs.values()];
  const column = (value: (row: (typeof rows)[number]) => string): string[] => rows.map(value);
  await countAct(db, knot);
  await db.query(
    `insert into verdict (knot_id, member_a, key_a, member_b, key_b, same, person, at, decision_id)
     select $1, member_a, key_a, member_b, key_b, same, $7, $8, $9 from unnest($2::text[], $3::text[], $4::text[],
       $5::text[], $6::boolean[]) as r(member_a, key_a, member_b, key_b, same)
     on conflict (knot_id, member_a, key_a, member_b, key_b) do update set same = excluded.same,
       person = excluded.person, at = excluded.at, decision_id = excluded.decision_id`,
    [
      knot,
      column(({ first }) => first.member),
      column(({ first }) => first.key),
      column(({ second }) => second.member),
      column(({ second }) => second.key),
      rows.map(({ same }) => same),
      person,
      at,
      decision ?? null,
    ],
  );
  await wake(
    db,
    knot,
    rows.flatMap(({ first, second }) => [first, second]),
  );
}

/** Pairs of each record of one list with each of another. */
export function verdictsBetween(some: readonly RecordName[], others: readonly RecordName[], same: boolean): Verdict[] {
  return some.flatMap((a) => others.filter((b) => recordId(a) !== recordId(b)).map((b) => ({ a, b, same })));
}

/** What was said with a decision is taken back with it. */
export async function dropVerdictsOf(db: SqlConnection, decision: string): Promise<void> {
  const [rows] = (await db.query(
    'delete from verdict where decision_id = $1 returning knot_id, member_a, key_a, member_b, key_b',
    [decision],
  )) as [(Pick<VerdictRow, 'member_a' | 'key_a' | 'member_b' | 'key_b'> & { readonly knot_id: string })[], number];
  const [first] = rows;
  if (first) await wakePairs(db, first.knot_id, rows);
}

/** What is said of a pair no longer may be what kept its records apart. */
async function wakePairs(
  db: SqlConnection,
  knot: string,
  pairs: readonly Pick<VerdictRow, 'member_a' | 'key_a' | 'member_b' | 'key_b'>[],
): Promise<void> {
  await countAct(db, knot);
  const records = pairs.flatMap((row) => [
    { member: row.member_a, key: recordKey(row.key_a) },
    { member: row.member_b, key: recordKey(row.key_b) },
  ]);
  await wake(db, knot, records);
}

export interface VerdictRow {
  readonly id: string;
  readonly member_a: string;
  readonly key_a: string;
  readonly member_b: string;
  readonly key_b: string;
  readonly same: boolean;
  readonly person: string;
  readonly at: Date;
}

/** A page of what people said, the last first, before one. */
export async function verdictsBefore(
  db: SqlConnection,
  knot: string,
  before: number | undefined,
  limit: number,
): Promise<readonly VerdictRow[]> {
  return (await db.query(
    `select id, member_a, key_a, member_b, key_b, same, person, at from verdict
     where knot_id = $1 and ($2::bigint is null or id < $2) order by id desc limit $3`,
    [knot, before ?? null, limit],
  )) as VerdictRow[];
}

export async function countVerdicts(db: SqlConnection, knot: string): Promise<number> {
  const [{ total }] = (await db.query('select count(*)::int as total from verdict where knot_id = $1', [knot])) as [
    { total: number },
  ];
  return total;
}

/** @returns what was said; `undefined` where there is no such verdict */
export async function dropVerdict(
  db: SqlConnection,
  knot: string,
  id: number,
): Promise<Omit<VerdictRow, 'id' | 'person' | 'at'> | undefined> {
  const [[row]] = (await db.query(
    'delete from verdict where id = $1 and knot_id = $2 returning member_a, key_a, member_b, key_b, same',
    [id, knot],
  )) as [Omit<VerdictRow, 'id' | 'person' | 'at'>[], number];
  if (row) await wakePairs(db, knot, [row]);
  return row;
}
