import type { AnchorView, Decision, JournalEntry, Thing } from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import type { SqlConnection } from '../persistence/sql.js';
import { namesOfKnots } from '../persistence/tables/knots.js';
import { waitingWords } from '../orchestration/decisions.js';
import { listsOfRecords, namesOfThings } from '../persistence/tables/references.js';

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

/** The fields and the history of anchors of a knot, with the things that they refer to by name. */
export async function withThings(
  db: SqlConnection,
  knot: Pick<Knot, 'fields'>,
  views: readonly AnchorView[],
): Promise<readonly AnchorView[]> {
  const references = referenceFields(knot);
  if (references.size === 0) return views;
  const fields = views.flatMap((view) => view.fields.filter(({ id }) => references.has(id)));
  const meanings = [
    ...fields.flatMap(({ agreed, cells }) => [agreed?.value, ...Object.values(cells).map(({ meaning }) => meaning)]),
    ...views.flatMap(({ journal }) => journal.map(meaningOf)),
  ];
  const name = await namer(db, meanings);
  return views.map((view) => namedIn(view, references, name));
}

function namedIn(view: AnchorView, references: ReadonlySet<string>, name: Name): AnchorView {
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

/** Decisions about references, with the things that they are about by name. */
export async function decisionsWithThings(
  db: SqlConnection,
  knot: Pick<Knot, 'fields'>,
  decisions: readonly Decision[],
  systemName: (member: string | null) => string,
): Promise<readonly Decision[]> {
  const references = referenceFields(knot);
  const isAbout = (decision: Decision): boolean =>
    decision.kind === 'waiting' || (decision.kind === 'held' && references.has(decision.field ?? ''));
  const about = decisions.filter(isAbout);
  if (about.length === 0) return decisions;
  const name = await namer(db, about.flatMap(valuesOf));
  const knotNames = await namesOfKnots(
    db,
    about.flatMap((decision) => (decision.kind === 'waiting' ? [decision.detail.knot] : [])),
  );
  const lists = await listsOfRecords(db, about.flatMap(wantedRecord));
  return decisions.map((decision) => {
    if (!isAbout(decision)) return decision;
    if (decision.kind === 'held') return heldAmong(decision, name);
    if (decision.kind !== 'waiting') return decision;
    const thing = name(decision.detail.thing);
    const title = typeof thing === 'object' && thing !== null && '$thing' in thing ? String(thing.title) : null;
    const [wanted] = wantedRecord(decision);
    const detail = {
      ...decision.detail,
      knotName: knotNames.get(decision.detail.knot) ?? decision.detail.knot,
      title,
      list: (wanted && lists.get(JSON.stringify([wanted.knot, wanted.member, wanted.key]))) ?? null,
    };
    const says = waitingWords(decision.fieldName ?? '', systemName(decision.member), detail);
    return { ...decision, detail, says };
  });
}

/** The record that a waiting reference names by its key. */
function wantedRecord(decision: Decision): { knot: string; member: string; key: string }[] {
  if (decision.kind !== 'waiting') return [];
  const { knot, by, value } = decision.detail;
  return 'member' in by && value !== null ? [{ knot, member: by.member, key: value }] : [];
}

const valuesOf = (decision: Decision): readonly unknown[] => {
  if (decision.kind === 'waiting') return [decision.detail.thing];
  if (decision.kind !== 'held') return [];
  return [decision.detail.base?.value, ...decision.detail.candidates.map(({ value }) => value)];
};

function heldAmong(decision: Extract<Decision, { kind: 'held' }>, name: Name): Decision {
  const { base, candidates } = decision.detail;
  return {
    ...decision,
    detail: {
      ...decision.detail,
      base: base && { ...base, value: name(base.value) },
      candidates: candidates.map((candidate) => ({ ...candidate, value: name(candidate.value) })),
    },
  };
}
