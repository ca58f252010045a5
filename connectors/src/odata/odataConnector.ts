import type { ODataObject, ODataSystem } from '@anchor-knot/contracts';
import {
  type FieldPath,
  isExactNumber,
  type Raw,
  type RecordKey,
  recordKey,
  scalarText,
  type SourceRecord,
  type SourceSchema,
} from '@anchor-knot/core';
import {
  type Capabilities,
  type Connector,
  type Page,
  SystemTrouble,
  type WriteOutcome,
  type WriteRequest,
} from '../connector.js';
import { describedObject } from '../describedObject.js';
import { type Answer, Caller, type CallerDependencies, wordsOf } from '../http/caller.js';
import { stringifyExactJson } from '../json/exactJson.js';
import { readTextTime } from '../times.js';
import { type EntitySet, readMetadata, sourceField } from './metadata.js';

const mostPages = 1_000_000;
const json = { 'content-type': 'application/json', 'odata-version': '4.0' };
type SingleWrite = {
  readonly method: 'POST' | 'PATCH' | 'DELETE';
  readonly url: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly fields?: Record<string, Raw>;
};

/** Reads and writes an entity set of an OData v4 service (OASIS, OData Version 4.01 Part 1: Protocol). */
export class ODataConnector implements Connector {
  readonly capabilities: Capabilities;
  readonly #system: ODataSystem;
  readonly #object: ODataObject;
  readonly #caller: Caller;
  #set: EntitySet | undefined;

  constructor(system: ODataSystem, objectName: string, dependencies: CallerDependencies) {
    const object = describedObject(system, objectName);
    this.#system = system;
    this.#object = object;
    this.#caller = new Caller(system, dependencies);
    this.capabilities = {
      batchSize: system.batchSize,
      conditionalUpdate: true,
      idempotentCreate: false,
      changesSince: object.modifiedAt !== undefined,
      searchable: object.search,
      create: object.mayCreate,
      update: object.mayUpdate,
      archive: false,
      delete: object.mayDelete,
      tombstones: false,
      webhooks: false,
      createField: false,
    };
  }

  clockOffset(): number {
    return this.#caller.clockOffset;
  }

  async close(): Promise<void> {
    await this.#caller.close();
  }

  async describe(): Promise<SourceSchema> {
    const { properties } = await this.#metadata();
    return {
      origin: 'declared',
      fields: properties.map((property) =>
        this.#object.mayUpdate || this.#object.mayCreate
          ? sourceField(property)
          : { ...sourceField(property), readOnly: true },
      ),
    };
  }

  async rights(): Promise<{ create: boolean; update: boolean }> {
    const { insertable, updatable } = await this.#metadata();
    return { create: insertable, update: updatable };
  }

  /**
   * Pages are the service's (server-driven paging, section 11.2.6.7); the next one is on its way while this one is
   * worked on.
   */
  async *read({
    changedSince,
    signal,
  }: {
    changedSince?: number | undefined;
    signal?: AbortSignal | undefined;
  }): AsyncIterable<Page> {
    const { entitySet, key, modifiedAt } = this.#object;
    // By the key, so that what changes meanwhile moves no entity to another page.
    const query: string[] = [`$orderby=${encodeURIComponent(key)}`];
    if (changedSince !== undefined && modifiedAt) {
      const since = new Date(changedSince).toISOString();
      query.push(`$filter=${encodeURIComponent(`${modifiedAt} ge ${since}`)}`);
    }
    let path: string | undefined = `/${encodeURIComponent(entitySet)}?${query.join('&')}`;
    const seen = new Set<string>();
    let coming: Promise<Answer> | undefined = this.#fetch(path, signal);
    for (let count = 0; coming; count += 1) {
      const answer: Answer = await coming;
      seen.add(path as string);
      const { value, '@odata.nextLink': next } = (answer.body ?? {}) as {
        value?: unknown;
        '@odata.nextLink'?: unknown;
      };
      if (!Array.isArray(value)) throw this.#notUnderstood('without a list of entities');
      path = typeof next === 'string' ? new URL(next, `${this.#caller.url('/').href}`).href : undefined;
      if (path !== undefined && (seen.has(path) || count > mostPages))
        throw this.#notUnderstood(`with a next page that was read before: it leads in a circle`);
      coming = path === undefined ? undefined : this.#fetch(path, signal);
      coming?.catch(() => undefined);
      yield this.#page(value as Raw[]);
    }
  }

  async readOne(key: RecordKey): Promise<SourceRecord | undefined> {
    const address = await this.#entity(key);
    if (address === undefined) return undefined;
    const answer = await this.#caller.read({ method: 'GET', path: `/${address}` });
    if (answer.status === 404 || answer.status === 410) return undefined;
    if (answer.status >= 400) throw this.#notUnderstood(`${answer.status}: ${wordsOf(answer)}`);
    return this.#record(answer.body, answer.headers.etag);
  }

  async search(field: FieldPath, value: string): Promise<readonly SourceRecord[]> {
    const type = (await this.#metadata()).properties.find(({ name }) => name === field)?.type ?? 'Edm.String';
    const literal = literalOf(type, value);
    if (literal === undefined) return [];
    const answer = await this.#fetch(
      `/${encodeURIComponent(this.#object.entitySet)}?$filter=${encodeURIComponent(`${field} eq ${literal}`)}&$top=100`,
    );
    const { value: found } = (answer.body ?? {}) as { value?: unknown };
    return Array.isArray(found) ? this.#page(found as Raw[]).records : [];
  }

  async write(requests: readonly WriteRequest[]): Promise<readonly WriteOutcome[]> {
    const refused = requests.findIndex(
      ({ kind }) => kind === 'archive' || (kind === 'delete' && !this.#object.mayDelete),
    );
    if (refused !== -1) return requests.map(() => ({ kind: 'refused', words: 'this cannot be done there' }));
    const writes = await Promise.all(requests.map((request) => this.#single(request)));
    if (this.#system.batchSize > 1 && writes.filter((write) => write !== undefined).length > 1)
      return this.#batch(requests, writes);
    const outcomes: WriteOutcome[] = [];
    for (const [index, one] of writes.entries()) {
      if (!one) {
        outcomes.push({ kind: 'gone' });
        continue;
      }
      const answer = await this.#caller.write({
        method: one.method,
        path: `/${one.url}`,
        headers: one.headers,
        body: one.fields && stringifyExactJson(one.fields),
      });
      outcomes.push(
        'unknown' in answer
          ? { kind: 'unknown', words: answer.unknown }
          : this.#outcome(requests[index] as WriteRequest, answer),
      );
    }
    return outcomes;
  }

  /** Each request of a batch stands for itself, and has an answer of its own. */
  async #batch(
    requests: readonly WriteRequest[],
    writes: readonly (SingleWrite | undefined)[],
  ): Promise<WriteOutcome[]> {
    const body = writes.flatMap((write, index) =>
      write
        ? [
            {
              id: String(index),
              method: write.method,
              url: write.url,
              headers: write.headers,
              ...(write.fields ? { body: write.fields as Raw } : {}),
            },
          ]
        : [],
    );
    const answer = await this.#caller.write({
      method: 'POST',
      path: '/$batch',
      headers: { 'content-type': 'application/json', prefer: 'continue-on-error' },
      body: stringifyExactJson({ requests: body } as Raw),
    });
    if ('unknown' in answer)
      return writes.map((write) => (write ? { kind: 'unknown', words: answer.unknown } : { kind: 'gone' }));
    const { responses } = (answer.body ?? {}) as { responses?: unknown };
    if (answer.status >= 400 || !Array.isArray(responses))
      throw this.#notUnderstood(`to a batch with ${answer.status}: ${wordsOf(answer)}`);
    const byId = new Map(
      (responses as { id?: unknown; status?: unknown; headers?: Record<string, string>; body?: Raw }[]).map((one) => [
        String(one.id),
        one,
      ]),
    );
    return writes.map((write, index): WriteOutcome => {
      if (!write) return { kind: 'gone' };
      const part = byId.get(String(index));
      if (!part) return { kind: 'unknown', words: 'the batch was answered without this request' };
      const headers = Object.fromEntries(
        Object.entries(part.headers ?? {}).map(([name, value]) => [name.toLowerCase(), value]),
      );
      const status = Number(part.status);
      if (status === 429 || status === 503)
        return { kind: 'not done', words: wordsOf({ status, headers, body: part.body ?? null }) };
      if (status >= 500) return { kind: 'unknown', words: wordsOf({ status, headers, body: part.body ?? null }) };
      return this.#outcome(requests[index] as WriteRequest, { status, headers, body: part.body ?? null });
    });
  }

  async #single(request: WriteRequest): Promise<SingleWrite | undefined> {
    const representation = { ...json, prefer: 'return=representation' };
    const fields = 'fields' in request ? Object.fromEntries(request.fields) : undefined;
    if (request.kind === 'create')
      return {
        method: 'POST',
        url: encodeURIComponent(this.#object.entitySet),
        headers: representation,
        ...(fields ? { fields } : {}),
      };
    const url = await this.#entity(request.key);
    // Without an entity tag it must at least be there: a PATCH alone may create (section 11.4.4).
    const condition = { 'if-match': request.version ?? '*' };
    if (url === undefined) return undefined;
    return fields
      ? { method: 'PATCH', url, headers: { ...representation, ...condition }, fields }
      : { method: 'DELETE', url, headers: condition };
  }

  #outcome(request: WriteRequest, answer: Answer): WriteOutcome {
    if (answer.status < 300) {
      const record = answer.body === null ? undefined : this.#record(answer.body, answer.headers.etag);
      const key = record?.key ?? (request.kind === 'create' ? undefined : request.key);
      return key === undefined
        ? { kind: 'unknown', words: 'the answer does not say which entity was created' }
        : { kind: 'written', key, record };
    }
    // An entity tag of `*` is not met where there is no entity (RFC 9110 section 13.1.1).
    if (answer.status === 412)
      return request.kind !== 'create' && request.version === undefined ? { kind: 'gone' } : { kind: 'raced' };
    if (request.kind !== 'create' && (answer.status === 404 || answer.status === 410)) return { kind: 'gone' };
    return { kind: 'refused', words: wordsOf(answer) };
  }

  async #fetch(path: string, signal?: AbortSignal): Promise<Answer> {
    const answer = await this.#caller.read({
      method: 'GET',
      path,
      signal,
      headers: { prefer: `odata.maxpagesize=${this.#system.pageSize}` },
    });
    if (answer.status === 404)
      throw new SystemTrouble(
        'object is gone',
        `${this.#system.name} has no entity set “${this.#object.entitySet}”`,
        'It was renamed or removed there, or the address is not that of the service root.',
      );
    if (answer.status >= 400) throw this.#notUnderstood(`${answer.status}: ${wordsOf(answer)}`);
    return answer;
  }

  /** The address of an entity by its key; `undefined` when its key's type cannot hold such a value. */
  async #entity(key: RecordKey): Promise<string | undefined> {
    const type = (await this.#metadata()).properties.find(({ name }) => name === this.#object.key)?.type;
    const literal = literalOf(type ?? 'Edm.String', key);
    return literal === undefined
      ? undefined
      : `${encodeURIComponent(this.#object.entitySet)}(${encodeURIComponent(literal)})`;
  }

  async #metadata(): Promise<EntitySet> {
    if (this.#set) return this.#set;
    const set = (await fetchMetadata(this.#system, this.#caller)).get(this.#object.entitySet);
    if (!set)
      throw new SystemTrouble(
        'object is gone',
        `${this.#system.name} has no entity set “${this.#object.entitySet}”`,
        'It was renamed or removed there: choose another one.',
      );
    this.#set = set;
    return set;
  }

  #page(items: readonly Raw[]): Page {
    const records = items.map((item) => this.#record(item, undefined));
    const found = records.filter((record) => record !== undefined);
    return {
      records: found,
      unusable:
        records.length === found.length
          ? []
          : [{ reason: `${this.#system.name}: an entity has no value in its key “${this.#object.key}”` }],
    };
  }

  #record(item: Raw | undefined, etag: string | undefined): SourceRecord | undefined {
    if (typeof item !== 'object' || item === null || Array.isArray(item) || isExactNumber(item)) return undefined;
    const entity = item as Record<string, Raw>;
    const key = scalarText(entity[this.#object.key]);
    if (!key) return undefined;
    const version = etag ?? entity['@odata.etag'];
    const { modifiedAt } = this.#object;
    const time =
      modifiedAt === undefined
        ? undefined
        : readTextTime(scalarText(entity[modifiedAt]) ?? '', this.#system.times?.zone);
    // What the protocol says of an entity is none of its fields.
    const fields = Object.fromEntries(Object.entries(entity).filter(([name]) => !name.includes('@')));
    return {
      key: recordKey(key),
      fields,
      ...(typeof version === 'string' ? { version } : {}),
      ...(time === undefined ? {} : { modifiedAt: time - this.#caller.clockOffset }),
    };
  }

  #notUnderstood(words: string): SystemTrouble {
    return new SystemTrouble(
      'answer not understood',
      `${this.#system.name} answered ${words}`,
      'Is the address that of the root of an OData v4 service?',
    );
  }
}

/** An entity set as it can be chosen. */
export interface EntitySetFound {
  readonly name: string;
  /** The one property that is its key; `null` where it has none or several. */
  readonly key: string | null;
  readonly properties: readonly string[];
  /** Properties that may say when an entity changed. */
  readonly times: readonly string[];
  readonly insertable: boolean;
  readonly updatable: boolean;
}

/** The entity sets that a service declares. @throws {SystemTrouble} */
export async function listEntitySets(system: ODataSystem, dependencies: CallerDependencies): Promise<EntitySetFound[]> {
  const caller = new Caller(system, dependencies);
  try {
    return [...(await fetchMetadata(system, caller)).values()].map(
      ({ name, key, properties, insertable, updatable }) => ({
        name,
        key: key.length === 1 ? (key[0] as string) : null,
        properties: properties.map((property) => property.name),
        times: properties.filter(({ type }) => type === 'Edm.DateTimeOffset').map((property) => property.name),
        insertable,
        updatable,
      }),
    );
  } finally {
    await caller.close();
  }
}

async function fetchMetadata(system: ODataSystem, caller: Caller): Promise<ReadonlyMap<string, EntitySet>> {
  const answer = await caller.read({
    method: 'GET',
    path: '/$metadata',
    headers: { accept: 'application/xml' },
    isText: true,
  });
  const trouble = (words: string, cause?: unknown) =>
    new SystemTrouble(
      'answer not understood',
      `${system.name} gave no metadata: ${words}`,
      'Is the address that of the root of an OData v4 service?',
      { cause },
    );
  if (answer.status >= 400) throw trouble(`status ${answer.status}`);
  try {
    return readMetadata(String(answer.body));
  } catch (error) {
    throw trouble((error as Error).message, error);
  }
}

/**
 * A value as a literal of the URL conventions (OData 4.01 Part 2, section 5.1.1.14.1); `undefined` when the type cannot
 * hold it.
 */
function literalOf(type: string, value: string): string | undefined {
  switch (type) {
    case 'Edm.Byte':
    case 'Edm.SByte':
    case 'Edm.Int16':
    case 'Edm.Int32':
    case 'Edm.Int64':
      return /^-?\d{1,19}$/.test(value) ? value : undefined;
    case 'Edm.Decimal':
    case 'Edm.Double':
    case 'Edm.Single':
      return /^-?\d+(\.\d+)?$/.test(value) ? value : undefined;
    case 'Edm.Boolean':
      return /^(true|false)$/.test(value) ? value : undefined;
    case 'Edm.Guid':
      return /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i.test(value) ? value : undefined;
    case 'Edm.Date':
      return /^\d{4}-\d\d-\d\d$/.test(value) ? value : undefined;
    case 'Edm.DateTimeOffset':
      return Number.isNaN(Date.parse(value)) ? undefined : new Date(value).toISOString();
    default:
      return `'${value.replaceAll("'", "''")}'`;
  }
}
