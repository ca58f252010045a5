import type { DataSource } from 'typeorm';
import { type Group, type GroupSource, SystemTrouble } from '@anchor-knot/connectors';
import { groupFields, type GroupObject } from '@anchor-knot/contracts';
import type { FieldType, Knot, Raw, SharedField, SourceField, SourceType } from '@anchor-knot/core';
import { type Grouping, type GroupRow, groupsOf } from '../persistence/tables/groups.js';
import { findVersion, versionInForce } from '../persistence/tables/knots.js';
import { latestThingChange } from '../persistence/tables/thingChanges.js';

/** What the things of knots have in common, counted by the database from what they agree on. */
export class KnotGroups implements GroupSource {
  readonly #data: DataSource;

  constructor(data: DataSource) {
    this.#data = data;
  }

  async *groups(object: GroupObject, { key }: { readonly key?: string } = {}): AsyncIterable<readonly Group[]> {
    const names = Object.keys(object.figures);
    const grouping = groupingOf(object, await this.#fields(object), key);
    for await (const rows of groupsOf(this.#data, grouping)) yield rows.map((row) => groupOf(row, names, grouping));
  }

  async fields(object: GroupObject): Promise<readonly SourceField[]> {
    const { by, fieldOf, target } = await this.#fields(object);
    const fields: SourceField[] = [
      { path: groupFields.value, type: by.type === 'reference' ? 'text' : sourceType(by.type), readOnly: true },
      { path: groupFields.count, type: 'number', readOnly: true },
    ];
    for (const [name, { field }] of Object.entries(object.figures))
      fields.push({ path: name, type: sourceType(fieldOf(field).type), readOnly: true });
    for (const { id, type } of target ? matchFields(target) : [])
      fields.push({ path: `${groupFields.thing}.${id}`, type: sourceType(type), readOnly: true });
    return fields;
  }

  async stamp(object: GroupObject): Promise<string> {
    const { target } = await this.#fields(object);
    return latestThingChange(this.#data, [object.of, ...(target ? [target.id] : [])]);
  }

  /** The fields that an object names, as the knot is now. @throws {SystemTrouble} where one of them is not there */
  async #fields(object: GroupObject) {
    const knot = await this.#knot(object.of);
    const fieldOf = (id: string): SharedField => {
      const field = knot.fields.find((one) => one.id === id);
      if (field) return field;
      throw gone(`the knot “${knot.name}” has no shared field “${id}”`);
    };
    const by = fieldOf(object.by);
    for (const { field, how } of Object.values(object.figures))
      if (how === 'total' && fieldOf(field).type !== 'number')
        throw gone(`${fieldOf(field).name} of the knot “${knot.name}” holds no numbers that could be added up`);
    const target = by.refersTo === undefined ? undefined : await this.#knot(by.refersTo);
    return { by, fieldOf, target };
  }

  async #knot(id: string): Promise<Knot> {
    const version = await versionInForce(this.#data, id);
    const found = version === undefined ? undefined : await findVersion(this.#data, id, version);
    if (!found) throw gone(`there is no knot “${id}” in force whose things could be counted`);
    return found.definition;
  }
}

function gone(words: string): SystemTrouble {
  return new SystemTrouble('object is gone', words, 'Correct what is counted, or take this member out.');
}

function groupingOf(
  object: GroupObject,
  { fieldOf, target }: { readonly fieldOf: (id: string) => SharedField; readonly target: Knot | undefined },
  key: string | undefined,
): Grouping {
  return {
    knot: object.of,
    by: object.by,
    of: target && { knot: target.id, told: matchFields(target).map(({ id }) => id) },
    figures: Object.values(object.figures).map(({ field, how }) => ({
      field,
      how,
      isNumber: fieldOf(field).type === 'number',
    })),
    key,
  };
}

/** What a thing can be found by is enough to match its group with it; the rest is nobody's business. */
function matchFields({ keyRules, fields }: Knot): readonly SharedField[] {
  const matched = new Set(keyRules.flatMap((rule) => rule.fields.map(({ field }) => field)));
  return fields.filter(({ id, sensitive }) => matched.has(id) && !sensitive);
}

function groupOf({ key, value, count, figures, told }: GroupRow, names: readonly string[], grouping: Grouping): Group {
  const numbers = grouping.figures.map(({ isNumber }) => isNumber);
  const figureOf = (place: number): Raw => {
    const text = figures[place] ?? null;
    return text !== null && numbers[place] ? exactly(text) : text;
  };
  return {
    key,
    value,
    count,
    figures: Object.fromEntries(names.map((name, place) => [name, figureOf(place)])),
    ...(grouping.of ? { thing: (told ?? {}) as Readonly<Record<string, Raw>> } : {}),
  };
}

/** A decimal text as a number that loses nothing. */
function exactly(text: string): Raw {
  return String(Number(text)) === text ? Number(text) : { $number: text };
}

function sourceType(type: FieldType): SourceType {
  switch (type) {
    case 'number':
    case 'yes/no':
    case 'date':
    case 'instant':
    case 'list':
      return type;
    default:
      return 'text';
  }
}
