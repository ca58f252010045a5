import type { AnchorView, Decision, JournalEntry, Thing } from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import type { SqlConnection } from '../persistence/sql.js';
import { namesOfThings } from '../persistence/tables/references.js';

type Value = NonNullable<AnchorView['fields'][number]['agreed']>['value'];
type Name = (value: Value) => Value | Thing;

const uuid = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/;

/** The fields of a knot that hold things of other knots. */
const referenceFields = ({ fields }: Pick<Knot, 'fields'>): ReadonlySet<string> =>
  new Set(fields.flatMap(({ id, refersTo }) => (refersTo === undefined ? [] : [id])));

/** Gives the things among some values their names, all with one question. Values that are none stay as they are. */
async function namer(db: SqlConnection, values: readonly unknown[]): Promise<Name> {
  const ids = values.filter((value): value is string => typeof value === 'string' && uuid.test(value));
  const names = await namesOfThings(db, ids);
  return (value) => {
    const known = typeof value === 'string' ? names.get(value) : undefined;
    return known ? { $thing: known.anchor, knot: known.knot, title: known.title } : value;
  };
}

/** An anchor's fields and history, with the things that it refers to by name. */
export async function withThings(db: SqlConnection, knot: Pick<Knot, 'fields'>, view: AnchorView): Promise<AnchorView> {
  const references = referenceFields(knot);
  if (references.size === 0) return view;
  const fields = view.fields.filter(({ id }) => references.has(id));
  const meanings = [
    ...fields.flatMap(({ agreed, cells }) => [agreed?.value, ...Object.values(cells).map(({ meaning }) => meaning)]),
    ...view.journal.map(meaningOf),
  ];
  const name = await namer(db, meanings);
  return {
    ...view,
    fields: view.fields.map((field) =>
      references.has(field.id)
        ? {
            ...field,
            agreed: field.agreed && { ...field.agreed, value: name(field.agreed.value) },
            cells: Object.fromEntries(
              Object.entries(field.cells).map(([member, cell]) => [member, { ...cell, meaning: name(cell.meaning) }]),
            ),
          }
        : field,
    ),
    journal: view.journal.map((entry) =>
      'field' in entry && references.has(entry.field) && 'meaning' in entry
        ? { ...entry, meaning: name(entry.meaning) }
        : entry,
    ),
  };
}

const meaningOf = (entry: JournalEntry): unknown => ('meaning' in entry ? entry.meaning : undefined);

/** Decisions about fields that refer to something, with the things to choose from by name. */
export async function decisionsWithThings(
  db: SqlConnection,
  knot: Pick<Knot, 'fields'>,
  decisions: readonly Decision[],
): Promise<readonly Decision[]> {
  const references = referenceFields(knot);
  const isAbout = (decision: Decision): decision is Extract<Decision, { kind: 'held' }> =>
    decision.kind === 'held' && references.has(decision.field ?? '');
  const held = decisions.filter(isAbout);
  if (held.length === 0) return decisions;
  const name = await namer(
    db,
    held.flatMap(({ detail }) => [detail.base?.value, ...detail.candidates.map(({ value }) => value)]),
  );
  return decisions.map((decision) => {
    if (!isAbout(decision)) return decision;
    const { base, candidates } = decision.detail;
    return {
      ...decision,
      detail: {
        base: base && { ...base, value: name(base.value) },
        candidates: candidates.map((candidate) => ({ ...candidate, value: name(candidate.value) })),
      },
    };
  });
}
