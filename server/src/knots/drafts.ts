import type { DataSource } from 'typeorm';
import type { SqlConnection } from '../persistence/sql.js';
import {
  type Draft,
  type DraftEvent,
  knotDraftSchema,
  type KnotDefinition,
  type SaveDraft,
  turnedDownSchema,
} from '@anchor-knot/contracts';
import { z } from 'zod';

interface DraftRow {
  readonly definition: unknown;
  readonly turned_down: unknown;
  readonly revision: number;
  readonly based_on: number;
  readonly changed_by: string;
  readonly changed_at: Date;
}

export interface ListedKnot {
  readonly id: string;
  readonly name: string;
  readonly version: number;
  readonly draft: { readonly changedBy: string; readonly changedAt: string } | null;
}

export const draftChannel = 'anchor_knot_draft';

/** Definitions that are being worked on: one for each knot, shared by all who edit it, and saved with each edit. */
export class Drafts {
  readonly #data: DataSource;

  constructor(data: DataSource) {
    this.#data = data;
  }

  async list(): Promise<ListedKnot[]> {
    const rows = (await this.#data.query(
      `select knot.id, coalesce(draft.definition->>'name', knot.name) as name, version_in_force as version, changed_by,
        changed_at
       from knot left join knot_draft draft on draft.knot_id = knot.id order by 2, 1`,
    )) as { id: string; name: string; version: number; changed_by: string | null; changed_at: Date | null }[];
    return rows.map(({ id, name, version, changed_by, changed_at }) => ({
      id,
      name,
      version,
      draft: changed_by !== null && changed_at ? { changedBy: changed_by, changedAt: changed_at.toISOString() } : null,
    }));
  }

  async find(knot: string): Promise<Draft | undefined> {
    const [row] = (await this.#data.query(
      'select definition, turned_down, revision, based_on, changed_by, changed_at from knot_draft where knot_id = $1',
      [knot],
    )) as DraftRow[];
    return row && draftOf(row);
  }

  /** Begins a knot that is not in force yet. @returns whether the id was free */
  async begin(definition: KnotDefinition, person: string): Promise<boolean> {
    return this.#data.transaction(async (db) => {
      const [made] = (await db.query(
        'insert into knot (id, name, version_in_force) values ($1, $2, 0) on conflict do nothing returning id',
        [definition.id, definition.name],
      )) as {
        id: string;
      }[];
      if (!made) return false;
      await db.query(
        `insert into knot_draft (knot_id, definition, turned_down, revision, based_on, changed_by) values ($1, $2,
          '[]', 1, 0, $3)`,
        [definition.id, JSON.stringify(definition), person],
      );
      return true;
    });
  }

  /**
   * Keeps an edit. @returns the revision that it made; or the draft that somebody else has made meanwhile, and nothing
   * is kept
   */
  async save(
    knot: string,
    { definition, turnedDown, revision, basedOn }: SaveDraft,
    person: string,
  ): Promise<number | Draft | 'no draft'> {
    const saved =
      revision === 0
        ? ((await this.#data.query(
            `insert into knot_draft (knot_id, definition, turned_down, revision, based_on, changed_by) values ($1, $2,
              $3, 1, $4, $5) on conflict (knot_id) do nothing returning revision`,
            [knot, JSON.stringify(definition), JSON.stringify(turnedDown), basedOn, person],
          )) as { revision: number }[])
        : (
            (await this.#data.query(
              `update knot_draft set definition = $2, turned_down = $3, revision = revision + 1, changed_by = $4,
                changed_at = now() where knot_id = $1 and revision = $5 returning revision`,
              [knot, JSON.stringify(definition), JSON.stringify(turnedDown), person, revision],
            )) as [{ revision: number }[], number]
          )[0];
    const kept = saved[0]?.revision;
    if (kept === undefined) return (await this.find(knot)) ?? 'no draft';
    await tellOfDraft(this.#data, { knot, revision: kept, by: person });
    return kept;
  }

  /** Gives up the edits; a knot that was never in force goes with them. */
  async discard(knot: string, person: string): Promise<void> {
    await this.#data.query('delete from knot_draft where knot_id = $1', [knot]);
    await this.#data.query('delete from knot where id = $1 and version_in_force = 0', [knot]);
    await tellOfDraft(this.#data, { knot, revision: 0, by: person });
  }
}

/** The revision of a knot's draft, where it has one; it is locked until the end of the transaction. */
export async function lockDraft(db: SqlConnection, knot: string): Promise<number | undefined> {
  const [draft] = (await db.query('select revision from knot_draft where knot_id = $1 for update', [knot])) as {
    revision: number;
  }[];
  return draft?.revision;
}

export async function dropDraft(db: SqlConnection, knot: string): Promise<void> {
  await db.query('delete from knot_draft where knot_id = $1', [knot]);
}

/** Tells everybody who looks at a knot how its draft stands now; within a transaction when that is done. */
export async function tellOfDraft(db: SqlConnection, event: Omit<DraftEvent, 'kind'>): Promise<void> {
  await db.query('select pg_notify($1, $2)', [draftChannel, JSON.stringify({ kind: 'draft', ...event })]);
}

function draftOf({ definition, turned_down, revision, based_on, changed_by, changed_at }: DraftRow): Draft {
  return {
    definition: knotDraftSchema.parse(definition),
    turnedDown: z.array(turnedDownSchema).parse(turned_down),
    revision,
    basedOn: based_on,
    changedBy: changed_by,
    changedAt: changed_at.toISOString(),
  };
}
