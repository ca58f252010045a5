import type { DataSource } from 'typeorm';
import {
  type Draft,
  knotDraftSchema,
  type KnotDefinition,
  type SaveDraft,
  turnedDownSchema,
} from '@anchor-knot/contracts';
import { z } from 'zod';
import {
  type DraftRow,
  dropDraft,
  dropUnused,
  findDraft,
  insertDraft,
  listKnots,
  makeKnot,
  tellOfDraft,
  updateDraft,
} from '../persistence/tables/drafts.js';

export interface ListedKnot {
  readonly id: string;
  readonly name: string;
  readonly version: number;
  readonly draft: { readonly changedBy: string; readonly changedAt: string } | null;
}

/** Definitions that are being worked on: one for each knot, shared by all who edit it, and saved with each edit. */
export class Drafts {
  readonly #data: DataSource;

  constructor(data: DataSource) {
    this.#data = data;
  }

  async list(): Promise<ListedKnot[]> {
    const rows = await listKnots(this.#data);
    return rows.map(({ id, name, version, changed_by, changed_at }) => ({
      id,
      name,
      version,
      draft: changed_by !== null && changed_at ? { changedBy: changed_by, changedAt: changed_at.toISOString() } : null,
    }));
  }

  async find(knot: string): Promise<Draft | undefined> {
    const row = await findDraft(this.#data, knot);
    return row && draftOf(row);
  }

  /** Begins a knot that is not in force yet. @returns whether the id was free */
  async begin(definition: KnotDefinition, person: string): Promise<boolean> {
    return this.#data.transaction(async (db) => {
      const { id: knot, name } = definition;
      if (!(await makeKnot(db, knot, name))) return false;
      await insertDraft(db, { knot, definition, turnedDown: [], person }, 0);
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
    const draft = { knot, definition, turnedDown, person };
    const kept =
      revision === 0 ? await insertDraft(this.#data, draft, basedOn) : await updateDraft(this.#data, draft, revision);
    if (kept === undefined) return (await this.find(knot)) ?? 'no draft';
    await tellOfDraft(this.#data, { knot, revision: kept, by: person });
    return kept;
  }

  /** Gives up the edits; a knot that was never in force goes with them. */
  async discard(knot: string, person: string): Promise<void> {
    await dropDraft(this.#data, knot);
    await dropUnused(this.#data, knot);
    await tellOfDraft(this.#data, { knot, revision: 0, by: person });
  }
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
