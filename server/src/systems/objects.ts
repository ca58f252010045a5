import type { DataSource } from 'typeorm';
import {
  changeWords,
  type DeepReadonly,
  type ObjectSummary,
  type ObjectView,
  pagesOf,
  type ProfileState,
  type SchemaChange,
  type System,
  objectNames,
  rowsAs,
  calledObject,
} from '@anchor-knot/contracts';
import { compareSchemas, schemaFrom, Profiler, type SourceSchema } from '@anchor-knot/core';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import {
  addSchema,
  awaitProfile,
  declaredFields,
  dropSchema,
  failProfile,
  findProfile,
  keepDeclared,
  keepNature,
  keepProfile,
  latestSchemas,
  naturesOf,
  noteProfiling,
  type ProfileRow,
  profilesOf,
  schemaVersions,
  takeUnasked,
} from '../persistence/tables/objects.js';
import { openDecisions } from '../persistence/tables/decisions.js';
import { membersOfObject } from '../persistence/tables/knots.js';
import { systemClock } from '../worker/systemClock.js';
import type { Systems } from './systems.js';

const progressMs = 400;
const versionsShown = 100;

/** What is in the objects of systems: their schemas as they were seen over time, and profiles of their records. */
export class SystemObjects {
  readonly #data: DataSource;
  readonly #systems: Systems;

  constructor(data: DataSource, systems: Systems) {
    this.#data = data;
    this.#systems = systems;
  }

  async summaries(systemId: string, description: System): Promise<ObjectSummary[]> {
    const profiles = new Map((await profilesOf(this.#data, systemId)).map((row) => [row.object, row]));
    const schemas = await latestSchemas(this.#data, systemId);
    const natures = await naturesOf(this.#data, systemId);
    return objectNames(description).map((name): ObjectSummary => {
      const schema = schemas.find(({ object }) => object === name);
      const profile = profiles.get(name);
      const said = natures.get(name);
      return {
        name,
        may: mayOf(description, name),
        listPage: pagesOf(description, name).listPage,
        tellsChanges: tellsChanges(description, name),
        holds: said ?? guessNature(description, name, schema?.timed ?? false),
        holdsIsGuessed: said === undefined,
        fields: schema?.fields ?? null,
        records: profile?.state === 'done' ? Number(profile.records) : null,
        schemaVersion: schema?.version ?? null,
        changedAt: schema && schema.version > 1 ? schema.seen_at.toISOString() : null,
        profile: profile ? profileState(profile) : null,
      };
    });
  }

  async details(systemId: string, object: string): Promise<Pick<ObjectView, 'schema' | 'profile' | 'history'>> {
    const versions = await schemaVersions(this.#data, systemId, object, versionsShown);
    const profile = await findProfile(this.#data, systemId, object);
    return {
      schema: versions[0]?.schema ?? null,
      profile: profile ?? null,
      history: versions.map(({ version, seen_at, schema, changes }) => ({
        version,
        seenAt: seen_at.toISOString(),
        fields: schema.fields.length,
        changes,
      })),
    };
  }

  async sayNature(systemId: string, object: string, holds: ObjectSummary['holds']): Promise<void> {
    await keepNature(this.#data, systemId, object, holds);
  }

  /** Marks an object as about to be profiled. */
  async waitForProfile(systemId: string, object: string): Promise<void> {
    await awaitProfile(this.#data, systemId, object);
  }

  /**
   * Reads the records of an object once: takes its schema, and what each field holds. The profile before stays until
   * the new one is there.
   * @param most so many records from the first on; all of them when left out
   */
  async profile(systemId: string, object: string, most = Infinity, signal?: AbortSignal): Promise<void> {
    let connector: Connector | undefined;
    try {
      connector = await this.#systems.connect({ system: systemId, object }, systemClock);
      const declared = await connector.describe();
      const profiler = new Profiler();
      let records = 0;
      let told = 0;
      let isPart = false;
      for await (const page of connector.read({ signal })) {
        for (const { fields } of page.records) profiler.add(fields);
        records += page.records.length;
        isPart = records >= most;
        if (isPart) break;
        if (Date.now() - told < progressMs) continue;
        told = Date.now();
        await noteProfiling(this.#data, systemId, object, records);
      }
      const profile = profiler.profile();
      const wasPart = (await findProfile(this.#data, systemId, object))?.isPart ?? false;
      await this.#saveSchema(systemId, object, schemaFrom(declared, profile), wasPart);
      await keepDeclared(this.#data, systemId, object, declared);
      await keepProfile(this.#data, systemId, object, { ...profile, isPart });
    } catch (error) {
      const words =
        error instanceof SystemTrouble
          ? `${error.message}. ${error.advice}`
          : signal?.aborted
            ? 'It was stopped.'
            : 'Something failed inside; the log says what.';
      await failProfile(this.#data, systemId, object, words);
      if (!(error instanceof SystemTrouble) && !signal?.aborted) throw error;
    } finally {
      await connector?.close().catch(() => undefined);
    }
  }

  /**
   * Asks systems that say themselves what fields an object has, where a knot in force uses it. Reads no record: what
   * only records show is noticed by a profile.
   * @param silentMinutes objects that were asked since are left alone
   */
  async lookForChanges(silentMinutes: number): Promise<void> {
    for (const { system, object } of await takeUnasked(this.#data, silentMinutes))
      try {
        await this.#compareDeclared(system, object);
      } catch (error) {
        // A system that does not answer is told of by who looks after systems.
        if (!(error instanceof SystemTrouble)) throw error;
      }
  }

  async #compareDeclared(systemId: string, object: string): Promise<void> {
    const connector = await this.#systems.connect({ system: systemId, object }, systemClock);
    const declared = await connector.describe().finally(() => connector.close().catch(() => undefined));
    if (!declared) return;
    const before = await declaredFields(this.#data, systemId, object);
    const changes = before ? compareSchemas(before, declared) : [];
    const [known] = await schemaVersions(this.#data, systemId, object, 1);
    if (before && known && changes.length > 0) {
      const said = new Set([...before.fields, ...declared.fields].map(({ path }) => path));
      const seenOnly = known.schema.fields.filter(({ path }) => !said.has(path));
      const schema: SourceSchema = { origin: 'declared', fields: [...declared.fields, ...seenOnly] };
      const version = known.version + 1;
      await addSchema(this.#data, systemId, object, { version, schema, changes });
      await this.#tellOfChanges(systemId, object, version, changes);
    }
    await keepDeclared(this.#data, systemId, object, declared);
  }

  async #saveSchema(systemId: string, object: string, schema: SourceSchema, wasPart: boolean): Promise<void> {
    const [known] = await schemaVersions(this.#data, systemId, object, 1);
    if (known && wasPart) await dropSchema(this.#data, systemId, object, known.version);
    const last = wasPart ? undefined : known;
    const changes = last ? compareSchemas(last.schema, schema) : [];
    if (last && changes.length === 0) return;
    const version = last ? last.version + 1 : (known?.version ?? 1);
    await addSchema(this.#data, systemId, object, { version, schema, changes });
    if (changes.length > 0) await this.#tellOfChanges(systemId, object, version, changes);
  }

  /** Whoever looks after a knot that uses the object is asked to look at what changed. */
  async #tellOfChanges(
    systemId: string,
    object: string,
    version: number,
    changes: readonly DeepReadonly<SchemaChange>[],
  ): Promise<void> {
    const system = await this.#systems.find(systemId);
    const says =
      `The fields of ${object} in ${system?.name ?? systemId} changed: ${changes.map(changeWords).join('; ')}. ` +
      'See whether what is mapped still fits.';
    for (const { knot, member } of await membersOfObject(this.#data, systemId, object))
      await openDecisions(
        this.#data,
        knot,
        [{ kind: 'fields changed', member, fingerprint: String(version), says, detail: { changes } }],
        Date.now(),
      );
  }
}

function profileState({ state, records, started_at, ended_at, words }: ProfileRow): ProfileState {
  return {
    state,
    records: Number(records),
    startedAt: started_at.toISOString(),
    endedAt: ended_at?.toISOString() ?? null,
    words,
  };
}

/** What its description lets us do with an object. */
export function mayOf(description: System, object: string): ObjectSummary['may'] {
  const rows = rowsAs(description, object);
  if (rows) return mayOf(description, rows.of).includes('update') ? ['read', 'create', 'update', 'delete'] : ['read'];
  switch (description.kind) {
    case 'http': {
      const { create, update, archive, remove, createField } = description.objects[object] ?? {};
      return [
        'read',
        ...(create ? (['create'] as const) : []),
        ...(update ? (['update'] as const) : []),
        ...(update && archive ? (['archive'] as const) : []),
        ...(remove ? (['delete'] as const) : []),
        ...(createField ? (['add fields'] as const) : []),
      ];
    }
    case 'odata': {
      const { mayCreate, mayUpdate, mayDelete } = description.objects[object] ?? {};
      return [
        'read',
        ...(mayCreate ? (['create'] as const) : []),
        ...(mayUpdate ? (['update'] as const) : []),
        ...(mayDelete ? (['delete'] as const) : []),
      ];
    }
    case 'sql': {
      const { source, mayWrite, mayDelete } = description.objects[object] ?? {};
      if (source?.kind !== 'table') return ['read'];
      return [
        'read',
        ...(mayWrite ? (['create', 'update'] as const) : []),
        ...(mayDelete ? (['delete'] as const) : []),
      ];
    }
    case 'files': {
      const { holds, path, format } = description.objects[object] ?? {};
      if (holds === 'deliveries' || path?.includes('*')) return ['read'];
      return ['read', 'create', 'update', ...(format === 'xlsx' ? [] : (['delete'] as const))];
    }
    case 'groups':
      return ['read'];
    default:
      throw new Error(`unknown kind of system ${JSON.stringify(description satisfies never)}`);
  }
}

/** Whether it can be asked for what changed; where not, all of it is listed. */
export function tellsChanges(description: System, called: string): boolean {
  const object = calledObject(description, called);
  if (description.kind === 'http') return description.objects[object]?.list.changedSince !== undefined;
  if (description.kind === 'files') return description.objects[object]?.holds === 'deliveries';
  if (description.kind === 'groups') return false;
  return description.objects[object]?.modifiedAt !== undefined;
}

/** What is never changed there and has a moment, but none of its last change, is a list of what happened. */
function guessNature(description: System, object: string, hasTimes: boolean): ObjectSummary['holds'] {
  if (description.kind === 'groups') return 'things that change';
  const isTimed = description.objects[calledObject(description, object)]?.modifiedAt !== undefined;
  const isQuery = description.kind === 'sql' && description.objects[object]?.source.kind === 'query';
  return hasTimes && !isTimed && !isQuery && !mayOf(description, object).includes('update')
    ? 'events'
    : 'things that change';
}
