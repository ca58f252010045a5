import {
  hasObject,
  type KnotDefinition,
  type NewField,
  type Reading,
  type SaveDraft,
  type System,
} from '@anchor-knot/contracts';
import {
  type FieldSketch,
  fieldsToLookUp,
  type ObjectSketch,
  ObjectSketcher,
  type ProposalMember,
  type ProposedField,
  proposeFields,
  proposeReferences,
  type Raw,
  readPath,
  reasonWords,
  recordKeyPath,
  type SourceField,
  TiedRecords,
} from '@anchor-knot/core';
import { SystemTrouble } from '@anchor-knot/connectors';
import type { SqlConnection } from '../persistence/sql.js';
import { mayOf, type SystemObjects } from '../systems/objects.js';
import type { Systems } from '../systems/systems.js';
import type { Knots } from './knots.js';
import { foundValues } from './findReferences.js';
import { systemClock } from '../worker/systemClock.js';
import { ruledTogether, type SampledThing, tiedTogether } from './sampleTogether.js';

/** For how long what was read of an object is taken as it was. */
const keptMs = 5 * 60_000;
const mostKept = 24;
/** A first look reads so many records of an object; a person can ask for all of them. */
const firstLook = 5000;
const shownExamples = 4;
const sampleRecords = 150;
const mostTogether = 60;

interface ReadObject {
  readonly at: number;
  /** Whether all records were read. */
  readonly complete: boolean;
  readonly sketch: ObjectSketch;
  readonly fields: readonly SourceField[];
}

/** Reads the objects of a knot's members, and says which fields correspond and which records are the same thing. */
export class Readings {
  readonly #data: SqlConnection;
  readonly #knots: Knots;
  readonly #systems: Systems;
  readonly #objects: SystemObjects;
  readonly #kept = new Map<string, ReadObject>();
  readonly #underWay = new Map<string, Promise<ReadObject>>();

  constructor(data: SqlConnection, systems: Systems, objects: SystemObjects, knots: Knots) {
    this.#knots = knots;
    this.#data = data;
    this.#systems = systems;
    this.#objects = objects;
  }

  /** @param whole reads all records, also of what was read a short while ago; otherwise the first ones do */
  async read(definition: KnotDefinition, turnedDown: SaveDraft['turnedDown'], whole: boolean): Promise<Reading> {
    const systems = new Map((await this.#systems.all()).map((system) => [system.id, system.description]));
    const members = await Promise.all(
      definition.members.map(async (member) => {
        const { system, object } = member;
        if (!hasObject(systems.get(system), object))
          return {
            member,
            object: undefined,
            trouble: `There is no object “${object}” in a system “${system}” here. Choose another one.`,
          };
        try {
          return { member, object: await this.#object(member.system, member.object, whole), trouble: null };
        } catch (error) {
          if (!(error instanceof SystemTrouble)) throw error;
          return { member, object: undefined, trouble: `${error.message}. ${error.advice}` };
        }
      }),
    );
    const keyOf = (id: string): string => {
      const member = definition.members.find((member) => member.id === id);
      const object = member && systems.get(member.system)?.objects[member.object];
      return object && 'key' in object ? object.key : '';
    };
    const readable = members.flatMap(({ member, object }) => (object ? [{ member, object }] : []));
    const proposing = readable.map(({ member, object }): ProposalMember => ({
      id: member.id,
      object: withoutOwn(object.sketch, systems.get(member.system), member.object),
      fields: object.fields,
      mayUpdate: member.may.update,
    }));
    return {
      members: members.map(({ member, object, trouble }) => ({
        id: member.id,
        trouble,
        records: object?.sketch.records ?? 0,
        complete: object?.complete ?? true,
        key: keyOf(member.id),
        may: rightsOf(systems.get(member.system), member.object),
        fields: object ? fieldsOf(object, requiredOf(systems.get(member.system), member.object)) : [],
        newFieldTypes: newFieldTypesOf(systems.get(member.system), member.object),
        sample: (object?.sketch.rows.slice(0, sampleRecords) ?? []).map((row) =>
          withKey(row, keyOf(member.id)),
        ) as Reading['members'][number]['sample'],
      })),
      proposals: (await this.#proposals(definition, proposing, turnedDown, keyOf)).map((field) => ({
        ...field,
        crosswalk: (field.crosswalk ?? null) as Reading['proposals'][number]['crosswalk'],
        cells: field.cells.map((cell) => ({
          ...cell,
          steps: cell.steps as never,
          reasons: cell.reasons.toSorted((a, b) => b.adds - a.adds).flatMap((reason) => reasonWords(reason) ?? []),
        })),
      })),
      together: named(proposing, definition, await this.#together(proposing, definition, keyOf)).map(
        ({ title, records }) => ({
          title,
          records: Object.fromEntries(
            Object.entries(records).map(([member, row]) => [
              member,
              withKey(row as Record<string, Raw>, keyOf(member)),
            ]),
          ) as typeof records,
        }),
      ),
    };
  }

  /** What refers to things of other knots comes first: a key there is no value that two systems share. */
  async #proposals(
    definition: KnotDefinition,
    members: readonly ProposalMember[],
    turnedDown: SaveDraft['turnedDown'],
    keyOf: (member: string) => string,
  ): Promise<readonly ProposedField[]> {
    const mapped = new Set(
      definition.fields.flatMap(({ mappings }) =>
        Object.entries(mappings).map(([member, { field }]) => `${member} ${field}`),
      ),
    );
    const isTaken = (member: string, path: string): boolean =>
      mapped.has(`${member} ${path}`) || path === keyOf(member);
    const systems = new Map((await this.#systems.all()).map(({ id, name }) => [id, name]));
    const others = (await this.#knots.all()).map((knot) => knot.definition);
    const values = fieldsToLookUp(members, isTaken);
    const found = await foundValues(this.#data, definition, others, values, (id) => systems.get(id) ?? id);
    const references = proposeReferences(found, members, definition.fields);
    const referring = new Set(
      references.flatMap(({ cells }) => cells.map(({ member, field }) => `${member} ${field}`)),
    );
    const withoutReferring = members.map((member) => ({
      ...member,
      object: {
        ...member.object,
        fields: member.object.fields.filter(({ path }) => !referring.has(`${member.id} ${path}`)),
      },
    }));
    const ids = new Set(references.map(({ id }) => id));
    return [
      ...references,
      ...proposeFields(withoutReferring, definition.fields, turnedDown).filter(({ id }) => !ids.has(id)),
    ];
  }

  /**
   * Records of several members that are one thing: as they are tied, as the rules would have it, or by the best key.
   */
  async #together(
    members: readonly ProposalMember[],
    definition: KnotDefinition,
    keyOf: (member: string) => string,
  ): Promise<readonly SampledThing[]> {
    const sampled = members.map(({ id, object }) => ({ id, key: keyOf(id), rows: object.rows as readonly Row[] }));
    const tied = await tiedTogether(this.#data, definition.id, sampled);
    if (tied.length > 0) return tied;
    const ruled = ruledTogether(definition, sampled);
    return ruled.length > 0 ? ruled : bestKeyTogether(members);
  }

  async #object(system: string, object: string, whole: boolean): Promise<ReadObject> {
    const name = JSON.stringify([system, object]);
    const asked = JSON.stringify([name, whole]);
    const kept = this.#kept.get(name);
    if (kept && !whole && Date.now() - kept.at < keptMs) return kept;
    let reading = this.#underWay.get(asked);
    if (!reading) {
      reading = this.#read(system, object, whole).finally(() => this.#underWay.delete(asked));
      this.#underWay.set(asked, reading);
    }
    const read = await reading;
    this.#kept.delete(name);
    this.#kept.set(name, read);
    const [oldest] = this.#kept.keys();
    if (this.#kept.size > mostKept && oldest !== undefined) this.#kept.delete(oldest);
    return read;
  }

  async #read(system: string, object: string, whole: boolean): Promise<ReadObject> {
    const connector = await this.#systems.connect({ system, object }, systemClock);
    try {
      const declared = await connector.describe();
      const known = declared ?? (await this.#objects.details(system, object)).schema ?? undefined;
      const sketcher = new ObjectSketcher();
      let records = 0;
      for await (const page of connector.read({})) {
        for (const { fields } of page.records) sketcher.add(fields);
        records += page.records.length;
        if (!whole && records >= firstLook) break;
      }
      const complete = whole || records < firstLook;
      return { at: Date.now(), complete, sketch: sketcher.sketch(), fields: known?.fields ?? [] };
    } finally {
      await connector.close().catch(() => undefined);
    }
  }
}

/** The record with its own key, as mappings can read it. */
function withKey(row: Readonly<Record<string, Raw>>, key: string): Record<string, Raw> {
  const value = key === '' ? undefined : readPath(row, key);
  return value === undefined ? { ...row } : { ...row, [recordKeyPath]: value };
}

/** Without what the system keeps for itself, and nobody edits: the version of a record, and when it was changed. */
function withoutOwn(sketch: ObjectSketch, description: System | undefined, object: string): ObjectSketch {
  const { modifiedAt, version } = (description?.objects[object] ?? {}) as {
    readonly modifiedAt?: string | { readonly field: string };
    readonly version?: unknown;
  };
  const own = new Set([
    typeof modifiedAt === 'string' ? modifiedAt : modifiedAt?.field,
    typeof version === 'string' ? version : undefined,
  ]);
  return { ...sketch, fields: sketch.fields.filter(({ path }) => !own.has(path)) };
}

function rightsOf(description: System | undefined, object: string): string[] {
  return description && hasObject(description, object) ? mayOf(description, object) : [];
}

/** The types of field that can be added there; none where that system cannot. */
function newFieldTypesOf(description: System | undefined, object: string): NewField['type'][] {
  const types = description?.kind === 'http' ? description.objects[object]?.createField?.types : undefined;
  return Object.keys(types ?? {}) as NewField['type'][];
}

/** What a creation needs, as somebody said where the object is described. */
function requiredOf(description: System | undefined, object: string): readonly string[] {
  return (description?.kind === 'http' ? description.objects[object]?.create?.requires : undefined) ?? [];
}

function fieldsOf({ sketch, fields }: ReadObject, required: readonly string[]): Reading['members'][number]['fields'] {
  const seen = new Map(sketch.fields.map((field) => [field.path, field]));
  const paths = [...new Set([...fields.map(({ path }) => path), ...required, ...seen.keys()])];
  return paths.map((path) => {
    const declared = fields.find((field) => field.path === path);
    const found = seen.get(path);
    return {
      path,
      type: declared?.type ?? mainTypeOf(found),
      declared: declared !== undefined,
      filled: found?.filled ?? 0,
      distinct: found?.distinct ?? 0,
      examples: examplesOf(sketch, path),
      required: declared?.required === true || required.includes(path),
      readOnly: declared?.readOnly === true,
      choices: declared?.choices ? [...declared.choices] : null,
      longest: declared?.longest ?? null,
    };
  });
}

function mainTypeOf(field: FieldSketch | undefined): string {
  const [kind] = [...(field?.kinds ?? [])].toSorted(([, a], [, b]) => b - a)[0] ?? ['unknown'];
  return kind;
}

function examplesOf({ rows }: ObjectSketch, path: string): string[] {
  const examples = new Set<string>();
  for (const row of rows) {
    const raw = readPath(row, path);
    if (raw === undefined || raw === null || raw === '') continue;
    examples.add((typeof raw === 'string' ? raw : JSON.stringify(raw)).slice(0, 60));
    if (examples.size === shownExamples) break;
  }
  return [...examples];
}

type Row = Readonly<Record<string, Raw>>;

/** Records of the first member with those of the others that the best key ties to them. */
function bestKeyTogether(members: readonly ProposalMember[]): readonly SampledThing[] {
  const [first, ...others] = members;
  if (!first) return [];
  const byFirst = new Map<ObjectSketch['rows'][number], Record<string, Record<string, Raw>>>();
  for (const other of others) {
    for (const [left, right] of new TiedRecords(first.object, other.object).rows) {
      const records = byFirst.get(left) ?? { [first.id]: left as Record<string, Raw> };
      records[other.id] = right as Record<string, Raw>;
      byFirst.set(left, records);
    }
  }
  if (byFirst.size > 0) return [...byFirst.values()];
  return first.object.rows.map((row) => ({ [first.id]: row as Record<string, Raw> }));
}

/** Things by their names, those with most records first. */
function named(
  members: readonly ProposalMember[],
  { fields, titleField }: KnotDefinition,
  things: readonly SampledThing[],
): Reading['together'] {
  const mappings = fields.find(({ id }) => id === titleField)?.mappings;
  const shown = things.toSorted((a, b) => Object.keys(b).length - Object.keys(a).length);
  return shown.slice(0, mostTogether).map((records) => {
    const giver = members.find(({ id }) => records[id] && (mappings?.[id] || !mappings))?.id ?? Object.keys(records)[0];
    const row = records[giver ?? ''] ?? {};
    const titlePath = mappings?.[giver ?? '']?.field;
    const title =
      titlePath === undefined
        ? Object.values(row).find((value) => typeof value === 'string' && /\p{L}{3}/u.test(value))
        : readPath(row, titlePath);
    return {
      title: typeof title === 'string' ? title : JSON.stringify(title ?? ''),
      records: records as Reading['together'][number]['records'],
    };
  });
}
