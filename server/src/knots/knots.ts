import type { DataSource } from 'typeorm';
import { describeIssues, knotSchema } from '@anchor-knot/contracts';
import {
  type CompiledKnot,
  compileKnot,
  type Knot,
  knotOrder,
  type KnotProblem,
  type OrderedKnot,
} from '@anchor-knot/core';
import { dropDraft, lockDraft, tellOfDraft } from '../persistence/tables/drafts.js';
import { createKnot, findVersion, knotsInForce, versionInForce } from '../persistence/tables/knots.js';
import { applyVersion, awaitVersion, isRunning, keepVersion, lockKnot } from '../persistence/tables/versions.js';

export type CheckedDefinition =
  | { readonly ok: true; readonly definition: Knot; readonly compiled: CompiledKnot }
  | { readonly ok: false; readonly problems: readonly KnotProblem[] };

/** Checks a definition as JSON: its form first, then its meaning. */
export function checkDefinition(input: unknown): CheckedDefinition {
  const parsed = knotSchema.safeParse(input);
  if (!parsed.success) return { ok: false, problems: describeIssues(parsed.error) };
  const compiled = compileKnot(parsed.data);
  return compiled.ok ? { ok: true, definition: parsed.data, compiled: compiled.knot } : compiled;
}

export interface LoadedKnot {
  readonly id: string;
  readonly version: number;
  readonly definition: Knot;
  readonly compiled: CompiledKnot;
}

/** Definitions of knots and their versions. */
export class Knots {
  readonly #data: DataSource;
  readonly #compiled = new Map<string, LoadedKnot>();

  constructor(data: DataSource) {
    this.#data = data;
  }

  /** Of all knots that a version is in force of, by name. */
  async ids(): Promise<string[]> {
    return knotsInForce(this.#data);
  }

  /**
   * The version in force, ready to run; `undefined` when there is no such knot, or none of its versions was put in
   * force yet.
   */
  async inForce(id: string): Promise<LoadedKnot | undefined> {
    const number = await versionInForce(this.#data, id);
    if (number === undefined) return undefined;
    const known = this.#compiled.get(id);
    if (known?.version === number) return known;
    const version = await findVersion(this.#data, id, number);
    if (!version) throw new Error(`version ${number} of knot ${id}, which is in force, is not there`);
    const checked = checkDefinition(version.definition);
    if (!checked.ok)
      throw new Error(`version ${version.version} of knot ${id} cannot be read: ${JSON.stringify(checked.problems)}`);
    const loaded = { id, version: version.version, definition: checked.definition, compiled: checked.compiled };
    this.#compiled.set(id, loaded);
    return loaded;
  }

  /** All knots that are in force. */
  async all(): Promise<LoadedKnot[]> {
    const loaded = await Promise.all((await this.ids()).map((id) => this.inForce(id)));
    return loaded.filter((knot) => knot !== undefined);
  }

  /** Knots in force in the order in which they run together. */
  async inOrder(): Promise<readonly OrderedKnot[]> {
    return knotOrder((await this.all()).map(({ definition }) => definition));
  }

  /** The knots that a knot comes after, because it refers to them. */
  async comesAfter(id: string): Promise<readonly string[]> {
    const refers = (await this.inForce(id))?.definition.fields.some(({ refersTo }) => refersTo !== undefined);
    return refers ? ((await this.inOrder()).find((knot) => knot.id === id)?.after ?? []) : [];
  }

  async create(definition: Knot, person: string): Promise<void> {
    await createKnot(this.#data, definition, person);
  }

  /** One version's definition, as it was put in force. */
  async version(knot: string, version: number): Promise<Knot | undefined> {
    return (await findVersion(this.#data, knot, version))?.definition;
  }

  /**
   * Puts a new version in force; the draft that it was made in is done with. Refused when somebody else put one in
   * force
   * meanwhile, or has changed the draft.
   * @param basedOn the version that is thought to be in force; 0 for a knot that has none
   * @param draft the revision of the draft as it was seen; 0 when there was none
   */
  async change(
    { definition, basedOn, draft, note }: { definition: Knot; basedOn: number; draft: number; note: string },
    person: string,
  ): Promise<'in force' | 'when the run has ended' | 'somebody else changed it'> {
    const knot = definition.id;
    return this.#data.transaction(async (db) => {
      const standing = await lockKnot(db, knot);
      const draftRevision = await lockDraft(db, knot);
      const isChanged = draftRevision !== undefined && draftRevision !== draft;
      if (standing?.version !== basedOn || standing.coming !== undefined || isChanged)
        return 'somebody else changed it';
      const version = basedOn + 1;
      await keepVersion(db, { knot, version, definition, note, person });
      const waits = await isRunning(db, knot);
      if (waits) await awaitVersion(db, knot, version);
      else await applyVersion(db, knot, version);
      await dropDraft(db, knot);
      await tellOfDraft(db, { knot, revision: 0, by: person });
      return waits ? 'when the run has ended' : 'in force';
    });
  }
}
