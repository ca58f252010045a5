import type { DataSource } from 'typeorm';
import type { FieldId } from '@anchor-knot/core';
import type { SqlConnection } from '../sql.js';

const rowsAtOnce = 500;

/** What things have in common, and what is counted and added up of them. */
export interface Grouping {
  readonly knot: string;
  readonly by: FieldId;
  /** Of a reference: the knot of which each thing is a group, and its fields of which the values are told. */
  readonly of?: { readonly knot: string; readonly told: readonly FieldId[] } | undefined;
  readonly figures: readonly {
    readonly field: FieldId;
    readonly how: 'total' | 'least' | 'greatest';
    readonly isNumber: boolean;
  }[];
  /** One group alone. */
  readonly key?: string | undefined;
}

/** One group as it is read. Numbers are decimal texts, as many as figures were asked for, in their order. */
export interface GroupRow {
  readonly key: string;
  readonly value: string;
  readonly count: number;
  readonly figures: readonly (string | null)[];
  readonly told: Readonly<Record<FieldId, unknown>> | null;
}

const isThere = (thing: string): string =>
  `exists (select from tie where tie.anchor_id = ${thing}.id and not tie.gone)`;

/** What a thing agrees on in some fields, by field; the names of the fields are a parameter. */
const agreedIn = (thing: string, fields: string): string =>
  `(select jsonb_object_agg(one.key, one.value) from jsonb_array_elements(${thing}.agreed) giving,
     jsonb_each(giving -> 'values') one where one.key = any(${fields}::text[]))`;

/** Fields whose type was changed hold texts that are no numbers still: those count for nothing. */
const numeric = String.raw`'^-?\d+(\.\d+)?$'`;

/**
 * The statement that finds all groups, with its parameters. The groups come in no order; one that a reference makes is
 * there without anything in it.
 */
function groupsStatement({ knot, by, of, figures, key }: Grouping): { sql: string; parameters: unknown[] } {
  const fields = [by, ...figures.map(({ field }) => field)];
  const parameters: unknown[] = [knot, by, fields];
  const parameter = (value: unknown): string => `$${parameters.push(value)}`;
  const figureColumns = figures.map(({ field, how, isNumber }) => {
    const text = `agreed.of ->> ${parameter(field)}`;
    const value = isNumber ? `case when ${text} ~ ${numeric} then (${text})::numeric end` : `(${text}) collate "C"`;
    return `${{ total: 'sum', least: 'min', greatest: 'max' }[how]}(${value})::text`;
  });
  const figureColumn = `array[${figureColumns.join(', ')}]::text[] as figures`;
  if (!of) {
    const only = key === undefined ? '' : `and item.value = ${parameter(key)}`;
    return {
      sql: `select item.value as key, item.value, count(*)::int as count, ${figureColumn}, null::jsonb as told
        from anchor a cross join lateral (select ${agreedIn('a', '$3')} as of) agreed
          cross join lateral jsonb_array_elements_text(case jsonb_typeof(agreed.of -> $2) when 'array'
            then agreed.of -> $2 else jsonb_build_array(agreed.of -> $2) end) item (value)
        where a.knot_id = $1 and item.value <> '' ${only} and ${isThere('a')} group by item.value`,
      parameters,
    };
  }
  const only = key === undefined ? '' : `and t.id::text = ${parameter(key)}`;
  const [target, told] = [parameter(of.knot), parameter(of.told)];
  return {
    sql: `select t.id::text as key, t.title as value, count(a.id)::int as count, ${figureColumn},
        ${agreedIn('t', told)} as told
      from anchor t
        left join anchor_reference r on r.to_anchor = t.id and r.field = $2 and r.knot_id = $1
        left join anchor a on a.id = r.anchor_id and ${isThere('a')}
        left join lateral (select ${agreedIn('a', '$3')} as of) agreed on a.id is not null
      where t.knot_id = ${target} ${only} and ${isThere('t')} group by t.id`,
    parameters,
  };
}

/** All groups, in parts, as they are at one moment, however long they are read. */
export async function* groupsOf(data: DataSource, grouping: Grouping): AsyncIterable<readonly GroupRow[]> {
  const { sql, parameters } = groupsStatement(grouping);
  const runner = data.createQueryRunner();
  try {
    await runner.startTransaction('REPEATABLE READ');
    await runner.query(`declare groups no scroll cursor for ${sql}`, parameters);
    for (;;) {
      const rows = (await runner.query(`fetch ${rowsAtOnce} from groups`)) as GroupRow[];
      if (rows.length > 0) yield rows;
      if (rows.length < rowsAtOnce) return;
    }
  } finally {
    if (runner.isTransactionActive) await runner.rollbackTransaction();
    await runner.release();
  }
}

/** A member that takes part with what is counted of a knot's things. */
export interface CountingMember {
  readonly knot: string;
  readonly member: string;
}

/** The members of knots in force whose records are counted of the things of a knot, or are a group for each of them. */
export async function membersCounting(db: SqlConnection, knot: string): Promise<readonly CountingMember[]> {
  return (await db.query(
    `select k.id as knot, m ->> 'id' as member
     from system s cross join lateral json_each(s.description -> 'objects') object (name, said)
       join knot k on true join knot_version v on v.knot_id = k.id and v.version = k.version_in_force
       cross join lateral jsonb_array_elements(v.definition -> 'members') m
     where s.description ->> 'kind' = 'groups' and object.said ->> 'of' = $1 and m ->> 'system' = s.id
       and m ->> 'object' = object.name
     order by 1, 2`,
    [knot],
  )) as readonly CountingMember[];
}
