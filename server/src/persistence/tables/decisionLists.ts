import { type DecisionKind, decisionKindNames } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';

/** Decisions as people look through them. */

export interface DecisionViewRow {
  id: string;
  knot_id: string;
  kind: DecisionKind;
  anchor_id: string | null;
  title: string | null;
  member: string | null;
  record_key: string | null;
  field: string | null;
  says: string;
  detail: unknown;
  fingerprint: string;
  opened_at: Date;
  put_off_until: Date | null;
  given_to: string | null;
  given_name: string | null;
  given_note: string;
}

/** Which of those that are open are wanted; what is left out is any. */
export interface DecisionFilter {
  readonly knot?: string | undefined;
  readonly kind?: string | undefined;
  readonly field?: string | undefined;
  /** Why it failed, of what did. */
  readonly reason?: string | undefined;
  /** Of references that wait: for what, a value or the id of a thing. */
  readonly lacks?: string | undefined;
  /** Members of knots of which one is concerned. */
  readonly members?: readonly { readonly knot: string; readonly member: string }[] | undefined;
  readonly openedBefore?: Date | undefined;
  /** Only those that were put off until later than now; others stand in no list meanwhile. */
  readonly isPutOff: boolean;
  /** The email of the person that they were given to. */
  readonly givenTo?: string | undefined;
  readonly now: Date;
}

const columns =
  'd.id, d.knot_id, d.kind, d.anchor_id, a.title, d.member, d.record_key, d.field, d.says, d.detail, ' +
  'd.fingerprint, d.opened_at, d.put_off_until, d.given_to, u.name as given_name, d.given_note';
const tables = `decision d left join anchor a on a.id = d.anchor_id
  left join user_account u on lower(u.email) = lower(d.given_to)`;

const kindsInOrder = decisionKindNames.map((kind) => `'${kind}'`).join(', ');
const order = (row: string): string => `array_position(array[${kindsInOrder}], ${row}.kind)`;

/** What was put off comes after what was not, the longest first. */
const place = (row: string): string => `coalesce(${row}.put_off_at, '-infinity'), ${order(row)}, ${row}.id`;

/** What members have given to a held field. */
const givenBy = (member: string): string =>
  `jsonb_build_object('candidates', jsonb_build_array(jsonb_build_object('givers', jsonb_build_array(
     jsonb_build_object('kind', 'member', 'member', ${member})))))`;

/** Parameters 1 to 11 are those of {@link parametersOf}. */
const fits = `d.closed_at is null and ($1::text is null or d.knot_id = $1) and ($2::text is null or d.kind = $2)
  and ($3::text is null or d.field = $3) and ($4::timestamptz is null or d.opened_at < $4)
  and (coalesce(d.put_off_until, '-infinity') > $5::timestamptz) = $6::boolean
  and ($7::text is null or lower(d.given_to) = lower($7)) and ($10::text is null or d.reason = $10)
  and ($11::text is null or coalesce(d.detail ->> 'value', d.detail ->> 'thing') = $11)
  and ($8::text[] is null or exists (select from unnest($8::text[], $9::text[]) as m(knot, member)
    where m.knot = d.knot_id and (m.member = d.member or (d.kind = 'held' and d.detail @> ${givenBy('m.member')}))))`;

const parametersOf = (filter: DecisionFilter): unknown[] => [
  filter.knot ?? null,
  filter.kind ?? null,
  filter.field ?? null,
  filter.openedBefore ?? null,
  filter.now,
  filter.isPutOff,
  filter.givenTo ?? null,
  filter.members?.map(({ knot }) => knot) ?? null,
  filter.members?.map(({ member }) => member) ?? null,
  filter.reason ?? null,
  filter.lacks ?? null,
];

/**
 * A page of what waits.
 * @param after the decision that was last on the page before, wherever it is by now; from the first one when left out
 */
export async function waitingDecisions(
  db: SqlConnection,
  filter: DecisionFilter,
  after: number | undefined,
  limit: number,
): Promise<readonly DecisionViewRow[]> {
  return (await db.query(
    `select ${columns} from ${tables} where ${fits}
       and ($12::bigint is null or (${place('d')}) > (select ${place('last')} from decision last where last.id = $12))
     order by ${place('d')} limit $13`,
    [...parametersOf(filter), after ?? null, limit],
  )) as DecisionViewRow[];
}

/** How many decisions of each kind there are, whatever kind is wanted. */
export async function waitingKinds(
  db: SqlConnection,
  filter: DecisionFilter,
): Promise<{ kind: DecisionKind; count: number }[]> {
  return (await db.query(
    `select d.kind, count(*)::int as count from decision d where ${fits} group by d.kind order by min(${order('d')})`,
    parametersOf({ ...filter, kind: undefined }),
  )) as { kind: DecisionKind; count: number }[];
}

export interface LackedRow {
  readonly knot_id: string;
  readonly field: string;
  readonly of_knot: string;
  readonly value: string | null;
  readonly thing: string | null;
  readonly count: number;
  readonly since: Date;
  /** How many different ones there are, beside those that are given. */
  readonly total: number;
}

/** What references wait for, that for which most wait first. */
export async function lackedThings(
  db: SqlConnection,
  filter: Omit<DecisionFilter, 'kind'>,
  limit: number,
): Promise<readonly LackedRow[]> {
  return (await db.query(
    `select d.knot_id, d.field, d.detail ->> 'knot' as of_knot, d.detail ->> 'value' as value,
       d.detail ->> 'thing' as thing, count(*)::int as count, min(d.opened_at) as since,
       (count(*) over ())::int as total
     from decision d where ${fits} group by 1, 2, 3, 4, 5 order by count(*) desc, 4, 5 limit $12`,
    [...parametersOf({ ...filter, kind: 'waiting' }), limit],
  )) as LackedRow[];
}

/**
 * How many writes wait of those that a system refused in the same words, for each of these decisions that is on one.
 * They are counted together.
 */
export async function refusedAlike(
  db: SqlConnection,
  knot: string,
  rows: readonly DecisionViewRow[],
): Promise<ReadonlyMap<string, number>> {
  const refused = rows.filter(({ kind }) => kind === 'refused').map(({ id }) => id);
  if (refused.length === 0) return new Map();
  const found = (await db.query(
    `select asked.id, counted.alike from decision asked join (
       select member, fingerprint, count(*)::int as alike from decision
       where knot_id = $1 and kind = 'refused' and closed_at is null group by member, fingerprint
     ) counted on counted.member = asked.member and counted.fingerprint = asked.fingerprint
     where asked.id = any($2::bigint[])`,
    [knot, refused],
  )) as { id: string; alike: number }[];
  return new Map(found.map(({ id, alike }) => [id, alike]));
}

/** Writes that the same system refused in the same words, oldest first: this one and others that wait. */
export async function alikeWith(db: SqlConnection, knot: string, decision: string, most: number): Promise<string[]> {
  const rows = (await db.query(
    `select other.id from decision asked
     join decision other on other.knot_id = asked.knot_id and other.kind = asked.kind
       and other.member = asked.member and other.fingerprint = asked.fingerprint and other.closed_at is null
     where asked.id = $2 and asked.knot_id = $1 and asked.kind = 'refused' order by other.id limit $3`,
    [knot, decision, most],
  )) as { id: string }[];
  return rows.map(({ id }) => id);
}

/** One that is open, wherever it stands. */
export async function openDecision(db: SqlConnection, id: string): Promise<DecisionViewRow | undefined> {
  const [row] = (await db.query(`select ${columns} from ${tables} where d.id = $1 and d.closed_at is null`, [
    id,
  ])) as DecisionViewRow[];
  return row;
}

/** Open decisions on whether a record belongs to an anchor, of those `d`. */
export const namesAnchor = (anchor: string): string =>
  `d.kind = 'unsure match' and d.closed_at is null and d.detail @> jsonb_build_object('candidates', ` +
  `jsonb_build_array(jsonb_build_object('anchor', ${anchor}::text)))`;

/** Open decisions of an anchor, and on whether a record belongs to it. */
export async function decisionsAbout(db: SqlConnection, anchor: string): Promise<readonly DecisionViewRow[]> {
  return (await db.query(
    `select ${columns} from ${tables}
     where (d.anchor_id = $1 and d.closed_at is null) or (${namesAnchor('$1')}) order by d.id`,
    [anchor],
  )) as DecisionViewRow[];
}

/** Open decisions of some anchors. */
export async function decisionsOfAnchors(
  db: SqlConnection,
  anchors: readonly string[],
): Promise<readonly DecisionViewRow[]> {
  return (await db.query(
    `select ${columns} from ${tables} where d.anchor_id = any($1::uuid[]) and d.closed_at is null order by d.id`,
    [anchors],
  )) as DecisionViewRow[];
}

export interface DuplicateRow {
  id: string;
  member: string;
  says: string;
  anchor_id: string | null;
  title: string | null;
  detail: { keys: string[]; tiedKey: string | null };
  fingerprint: string;
  opened_at: Date;
}

/** A page of records of one system that seem to be one thing, after a decision. */
export async function waitingDuplicates(
  db: SqlConnection,
  knot: string,
  after: number,
  limit: number,
): Promise<readonly DuplicateRow[]> {
  return (await db.query(
    `select d.id, d.member, d.says, d.anchor_id, a.title, d.detail, d.fingerprint, d.opened_at from decision d
     left join anchor a on a.id = d.anchor_id
     where d.knot_id = $1 and d.kind = 'duplicate' and d.closed_at is null and d.id > $2 order by d.id limit $3`,
    [knot, after, limit],
  )) as DuplicateRow[];
}

/** How many groups of duplicates wait, and how many records are set aside. */
export async function countDuplicates(
  db: SqlConnection,
  knot: string,
): Promise<{ readonly total: number; readonly aside: number }> {
  const [row] = (await db.query(
    `select
       (select count(*)::int from decision where knot_id = $1 and kind = 'duplicate' and closed_at is null) as total,
       (select count(*)::int from outside_record where knot_id = $1 and verdict = 'aside') as aside`,
    [knot],
  )) as [{ total: number; aside: number }];
  return row;
}
