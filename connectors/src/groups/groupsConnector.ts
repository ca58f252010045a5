import { type GroupObject, groupFields, type GroupsSystem } from '@anchor-knot/contracts';
import {
  type FieldPath,
  type Raw,
  recordKey,
  type RecordKey,
  type SourceField,
  type SourceRecord,
  type SourceSchema,
} from '@anchor-knot/core';
import { describedObject } from '../describedObject.js';
import {
  type Capabilities,
  type Connector,
  type Page,
  SystemTrouble,
  type WriteOutcome,
  type WriteRequest,
} from '../connector.js';

/** Things of a knot that have something in common, as they are now. */
export interface Group {
  /** The value that they have in common; of a reference, the id of the thing. */
  readonly key: string;
  /** That value as text; of a reference, what the thing is called. */
  readonly value: string;
  readonly count: number;
  /** By their names; null where no thing of the group has such a value. */
  readonly figures: Readonly<Record<string, Raw>>;
  /** Of a reference: what the thing agrees on in the fields that it can be matched by. */
  readonly thing?: Readonly<Record<string, Raw>> | undefined;
}

/** Where groups come from: the installation, which alone knows its things. */
export interface GroupSource {
  /**
   * All groups, or the one with a key, in parts.
   * @throws {SystemTrouble} where the knot or one of the fields is there no more
   */
  groups(object: GroupObject, options?: { readonly key?: string }): AsyncIterable<readonly Group[]>;
  /** The fields that the groups have. @throws {SystemTrouble} */
  fields(object: GroupObject): Promise<readonly SourceField[]>;
  /** Another text whenever something has become of the knot's things. @throws {SystemTrouble} */
  stamp(object: GroupObject): Promise<string>;
}

/** What the things of a knot have in common, as records that can only be read. */
export class GroupsConnector implements Connector {
  readonly capabilities: Capabilities = {
    batchSize: 1,
    conditionalUpdate: false,
    idempotentCreate: false,
    changesSince: false,
    searchable: [],
    create: false,
    update: false,
    archive: false,
    delete: false,
    tombstones: false,
    webhooks: false,
    createField: false,
  };
  readonly #object: GroupObject;
  readonly #source: GroupSource;

  constructor(system: GroupsSystem, object: string, source: GroupSource | undefined) {
    this.#object = describedObject(system, object);
    if (!source)
      throw new SystemTrouble(
        'object is gone',
        `${system.name} is counted by a server from its own things`,
        'Run the knot on the server whose things are meant.',
      );
    this.#source = source;
  }

  async *read({ signal }: { readonly signal?: AbortSignal | undefined }): AsyncIterable<Page> {
    for await (const groups of this.#source.groups(this.#object)) {
      signal?.throwIfAborted();
      yield { records: groups.map(recordOf), unusable: [] };
    }
  }

  async readOne(key: RecordKey): Promise<SourceRecord | undefined> {
    for await (const [group] of this.#source.groups(this.#object, { key })) if (group) return recordOf(group);
    return undefined;
  }

  async search(field: FieldPath): Promise<readonly SourceRecord[]> {
    throw new Error(`groups cannot be searched by ${field}`);
  }

  async write(requests: readonly WriteRequest[]): Promise<readonly WriteOutcome[]> {
    return requests.map(() => ({ kind: 'refused', words: 'what is counted here cannot be written' }));
  }

  async describe(): Promise<SourceSchema> {
    return { origin: 'declared', fields: await this.#source.fields(this.#object) };
  }

  async look(): Promise<string> {
    return this.#source.stamp(this.#object);
  }

  clockOffset(): number {
    return 0;
  }

  async close(): Promise<void> {
    // Nothing is held open.
  }
}

function recordOf({ key, value, count, figures, thing }: Group): SourceRecord {
  return {
    key: recordKey(key),
    fields: {
      [groupFields.value]: value,
      [groupFields.count]: count,
      ...figures,
      ...(thing ? { [groupFields.thing]: thing } : {}),
    },
  };
}
