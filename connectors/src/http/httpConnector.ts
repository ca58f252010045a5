import type { HttpObject, HttpSystem, NewFieldType } from '@anchor-knot/contracts';
import {
  type FieldPath,
  isExactNumber,
  type Raw,
  readPath,
  type RecordKey,
  recordKey,
  scalarText,
  type SourceRecord,
  writePath,
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
import { stringifyExactJson } from '../json/exactJson.js';
import { type Answer, Caller, type CallerDependencies, wordsOf } from './caller.js';
import { readTime, writeTime } from '../times.js';

/** A listing that is longer than this never ends. */
const mostPages = 1_000_000;

/** Reads and writes one object of a system that speaks JSON over HTTP, as its description says. */
export class HttpConnector implements Connector {
  readonly capabilities: Capabilities;
  readonly #system: HttpSystem;
  readonly #object: HttpObject;
  readonly #caller: Caller;

  constructor(system: HttpSystem, objectName: string, dependencies: CallerDependencies) {
    const object = describedObject(system, objectName);
    this.#system = system;
    this.#object = object;
    this.#caller = new Caller(system, dependencies);
    this.capabilities = {
      batchSize: 1,
      conditionalUpdate: object.update?.ifMatch ?? false,
      idempotentCreate: object.create?.idempotencyHeader !== undefined,
      changesSince: object.list.changedSince !== undefined,
      searchable: Object.keys(object.search),
      create: object.create !== undefined,
      update: object.update !== undefined,
      archive: object.archive !== undefined && object.update !== undefined,
      delete: object.remove !== undefined,
      tombstones: object.list.deleted !== undefined,
      webhooks: system.webhooks !== undefined && object.events.length > 0,
      createField: object.createField !== undefined,
    };
  }

  /** JSON over HTTP has no common way to say it: what is known is what the records show. */
  async describe(): Promise<undefined> {
    return undefined;
  }

  clockOffset(): number {
    return this.#caller.clockOffset;
  }

  async close(): Promise<void> {
    await this.#caller.close();
  }

  async *read({
    changedSince,
    signal,
  }: {
    changedSince?: number | undefined;
    signal?: AbortSignal | undefined;
  }): AsyncIterable<Page> {
    const { list } = this.#object;
    const query = new URLSearchParams({ [list.pageSize.parameter]: String(list.pageSize.value) });
    if (changedSince !== undefined && list.changedSince)
      query.set(
        list.changedSince.parameter,
        writeTime(list.changedSince.format, changedSince, this.#system.times?.zone),
      );
    if (list.paging.kind === 'cursor' && list.paging.first !== undefined)
      query.set(list.paging.parameter, list.paging.first);
    const seen = new Set<string>();
    if (list.paging.kind === 'page number') query.set(list.paging.parameter, String(list.paging.first));
    let path: string | undefined = withQuery(list.path, query);
    let coming: Promise<Answer> | undefined = this.#fetchPage(path, signal);
    let records = 0;
    for (let count = 0; coming; count += 1) {
      const answer: Answer = await coming;
      seen.add(path as string);
      const items = this.#items(answer);
      records += items.length;
      path = this.#nextPage(answer, query, path as string, {
        pages: count + 1,
        records,
        isFull: items.length >= list.pageSize.value,
      });
      if (path !== undefined && (seen.has(path) || count > mostPages)) {
        throw new SystemTrouble(
          'answer not understood',
          `${this.#system.name} leads in a circle: page ${count + 2} of ${list.path} was read before`,
          'Its paging is broken, or described wrongly.',
        );
      }
      // The next page is on its way while this one is worked on.
      coming = path === undefined ? undefined : this.#fetchPage(path, signal);
      coming?.catch(() => undefined);
      yield this.#page(items);
    }
  }

  async readOne(key: RecordKey): Promise<SourceRecord | undefined> {
    const answer = await this.#caller.read({ method: 'GET', path: withKey(this.#object.read.path, key) });
    if (answer.status === 404 || answer.status === 410) return undefined;
    if (answer.status >= 400) throw this.#notUnderstood(answer);
    return this.#single(answer);
  }

  async search(field: FieldPath, value: string): Promise<readonly SourceRecord[]> {
    const parameter = this.#object.search[field];
    if (parameter === undefined) throw new Error(`${field} cannot be searched`);
    const { list } = this.#object;
    const query = new URLSearchParams({ [list.pageSize.parameter]: String(list.pageSize.value), [parameter]: value });
    const answer = await this.#caller.read({ method: 'GET', path: withQuery(list.path, query) });
    if (answer.status >= 400) throw this.#notUnderstood(answer);
    return this.#page(this.#items(answer)).records;
  }

  async write(requests: readonly WriteRequest[]): Promise<readonly WriteOutcome[]> {
    const outcomes: WriteOutcome[] = [];
    for (const request of requests) outcomes.push(await this.#writeOne(request));
    return outcomes;
  }

  async createField(name: string, type: NewFieldType): Promise<FieldPath> {
    const { createField } = this.#object;
    const theirs = createField?.types[type];
    if (!createField || theirs === undefined) throw new Error(`a field of type ${type} cannot be created`);
    const fields = new Map<FieldPath, Raw>([
      [createField.name, name],
      [createField.type, theirs],
    ]);
    const answer = await this.#caller.write({
      method: createField.method,
      path: createField.path,
      headers: { 'content-type': 'application/json' },
      body: body(fields, undefined),
    });
    const refusal = (words: string) =>
      new SystemTrouble(
        'answer not understood',
        `${this.#system.name} did not add the field: ${words}`,
        'Choose another name, or add it there by hand.',
      );
    if ('unknown' in answer) throw refusal(`${answer.unknown}; look there whether it was made`);
    if (answer.status >= 300) throw refusal(wordsOf(answer));
    const made =
      (createField.answer === '' ? undefined : scalarText(readPath(answer.body, createField.answer))) ?? name;
    return createField.fieldsUnder === '' ? made : `${createField.fieldsUnder}.${made}`;
  }

  async #writeOne(request: WriteRequest): Promise<WriteOutcome> {
    const { archive } = this.#object;
    switch (request.kind) {
      case 'create':
        return this.#create(request);
      case 'update':
        return this.#update(request);
      case 'archive':
        return archive
          ? this.#update({ ...request, kind: 'update', fields: new Map([[archive.field, archive.value]]) })
          : { kind: 'refused', words: 'records cannot be archived there' };
      case 'delete':
        return this.#delete(request);
      default:
        throw new Error(`unknown request ${JSON.stringify(request satisfies never)}`);
    }
  }

  async #delete({ key, version }: Extract<WriteRequest, { kind: 'archive' | 'delete' }>): Promise<WriteOutcome> {
    const { remove } = this.#object;
    if (!remove) return { kind: 'refused', words: 'records cannot be deleted there' };
    const headers: Record<string, string> = remove.ifMatch && version !== undefined ? { 'if-match': version } : {};
    const answer = await this.#caller.write({ method: 'DELETE', path: withKey(remove.path, key), headers });
    if ('unknown' in answer) return { kind: 'unknown', words: answer.unknown };
    if (answer.status < 300) return { kind: 'written', key, record: undefined };
    if (answer.status === 412) return { kind: 'raced' };
    return answer.status === 404 || answer.status === 410
      ? { kind: 'gone' }
      : { kind: 'refused', words: wordsOf(answer) };
  }

  async #create(request: Extract<WriteRequest, { kind: 'create' }>): Promise<WriteOutcome> {
    const { create } = this.#object;
    if (!create) return { kind: 'refused', words: 'records cannot be created there' };
    const headers = {
      'content-type': 'application/json',
      ...(create.idempotencyHeader ? { [create.idempotencyHeader]: request.idempotencyKey } : {}),
    };
    return this.#send({ method: create.method, path: create.path, headers, body: body(request.fields, create.wrap) });
  }

  async #update(request: Extract<WriteRequest, { kind: 'update' }>): Promise<WriteOutcome> {
    const { update } = this.#object;
    if (!update) return { kind: 'refused', words: 'records cannot be updated there' };
    const conditional = update.ifMatch && request.version !== undefined ? { 'if-match': request.version } : {};
    return this.#send(
      {
        method: update.method,
        path: withKey(update.path, request.key),
        headers: { 'content-type': 'application/json', ...conditional },
        body: body(request.fields, update.wrap),
      },
      request.key,
    );
  }

  async #send(
    call: { method: 'POST' | 'PUT' | 'PATCH'; path: string; headers: Record<string, string>; body: string },
    key?: RecordKey,
  ): Promise<WriteOutcome> {
    const answer = await this.#caller.write(call);
    if ('unknown' in answer) return { kind: 'unknown', words: answer.unknown };
    if (answer.status < 300) {
      const record = answer.body === null ? undefined : this.#single(answer);
      const writtenKey = record?.key ?? key;
      // Created, but nobody said as what: it has to be looked for.
      return writtenKey === undefined
        ? { kind: 'unknown', words: 'the answer does not say which record was created' }
        : { kind: 'written', key: writtenKey, record };
    }
    if (answer.status === 412) return { kind: 'raced' };
    if (key !== undefined && (answer.status === 404 || answer.status === 410)) return { kind: 'gone' };
    return { kind: 'refused', words: wordsOf(answer) };
  }

  async #fetchPage(path: string, signal: AbortSignal | undefined): Promise<Answer> {
    const answer = await this.#caller.read({ method: 'GET', path, signal });
    if (answer.status === 404)
      throw new SystemTrouble(
        'object is gone',
        `${this.#system.name} has nothing at ${this.#object.list.path}`,
        'The object was renamed or removed there, or is described wrongly.',
      );
    if (answer.status >= 400) throw this.#notUnderstood(answer);
    return answer;
  }

  #nextPage(
    answer: Answer,
    query: URLSearchParams,
    here: string,
    read: { pages: number; records: number; isFull: boolean },
  ): string | undefined {
    const { list } = this.#object;
    const { paging } = list;
    const at = (parameter: string, value: string): string => {
      const next = new URLSearchParams(query);
      next.set(parameter, value);
      return withQuery(list.path, next);
    };
    switch (paging.kind) {
      case 'link header':
        return nextLink(answer.headers.link, this.#caller.url(here));
      case 'cursor': {
        const cursor = scalarText(readPath(answer.body, paging.next));
        return cursor === undefined || cursor === '' ? undefined : at(paging.parameter, cursor);
      }
      case 'page number':
        return read.isFull ? at(paging.parameter, String(paging.first + read.pages)) : undefined;
      case 'offset':
        return read.isFull ? at(paging.parameter, String(read.records)) : undefined;
      default:
        throw new Error(`unknown paging ${JSON.stringify(paging satisfies never)}`);
    }
  }

  #items(answer: Answer): readonly Raw[] {
    const { list } = this.#object;
    const items = list.items === '' ? answer.body : readPath(answer.body, list.items);
    if (!Array.isArray(items))
      throw new SystemTrouble(
        'answer not understood',
        `${this.#system.name} answered without a list${list.items ? ` at “${list.items}”` : ''}`,
        'Its answers have another form than is described.',
      );
    return items as readonly Raw[];
  }

  #page(items: readonly Raw[]): Page {
    const records: SourceRecord[] = [];
    const unusable: { reason: string }[] = [];
    const gone: RecordKey[] = [];
    for (const item of items) {
      const record = this.#record(item, undefined);
      if (record && this.#isDeleted(record)) gone.push(record.key);
      else if (record) records.push(record);
      else
        unusable.push({
          reason: `a record without a key in “${this.#object.key}”: ${stringifyExactJson(item).slice(0, 120)}`,
        });
    }
    return { records, unusable, ...(gone.length > 0 ? { gone } : {}) };
  }

  #isDeleted({ fields }: SourceRecord): boolean {
    const { deleted } = this.#object.list;
    if (!deleted) return false;
    const value = readPath(fields, deleted.field);
    const said = typeof value === 'boolean' ? String(value) : scalarText(value);
    return deleted.value === undefined ? Boolean(said) && said !== 'false' : said === deleted.value;
  }

  #single(answer: Answer): SourceRecord {
    const { read } = this.#object;
    const item = read.item === '' ? answer.body : readPath(answer.body, read.item);
    const record = item === undefined ? undefined : this.#record(item, answer.headers.etag);
    if (!record)
      throw new SystemTrouble(
        'answer not understood',
        `${this.#system.name} answered with something that is no record`,
        'Its answers have another form than is described.',
      );
    return record;
  }

  #record(item: Raw, etag: string | undefined): SourceRecord | undefined {
    const { key: keyField, modifiedAt, etag: etagField } = this.#object;
    if (typeof item !== 'object' || item === null || Array.isArray(item) || isExactNumber(item)) return undefined;
    const key = scalarText(readPath(item, keyField));
    if (key === undefined || key === '') return undefined;
    const version = etag ?? (etagField === undefined ? undefined : scalarText(readPath(item, etagField)));
    const time = modifiedAt
      ? readTime(modifiedAt.format, readPath(item, modifiedAt.field), this.#system.times?.zone)
      : undefined;
    return {
      key: recordKey(key),
      fields: item as Record<string, Raw>,
      ...(version === undefined ? {} : { version }),
      ...(time === undefined ? {} : { modifiedAt: time - this.#caller.clockOffset }),
    };
  }

  #notUnderstood(answer: Answer): SystemTrouble {
    return new SystemTrouble(
      'answer not understood',
      `${this.#system.name} answered ${answer.status}: ${wordsOf(answer)}`,
      'The request that is described is not one that this system takes.',
    );
  }
}

function body(fields: ReadonlyMap<FieldPath, Raw>, wrap: string | undefined): string {
  let record: Record<string, Raw> = {};
  for (const [path, value] of fields) record = writePath(record, path, value);
  return stringifyExactJson(wrap === undefined ? record : { [wrap]: record });
}

/** A described path may have a query of its own. */
function withQuery(path: string, query: URLSearchParams): string {
  return `${path}${path.includes('?') ? '&' : '?'}${query.toString()}`;
}

function withKey(path: string, key: RecordKey): string {
  return path.replace('{key}', encodeURIComponent(key));
}

/** The target of the Link header's `next` relation (RFC 8288), resolved against the page that sent it. */
function nextLink(header: string | undefined, here: URL): string | undefined {
  for (const link of header?.matchAll(/<([^>]*)>([^<]*)/g) ?? []) {
    if (/;\s*rel\s*=\s*"?[^";]*\bnext\b/i.test(link[2] ?? '')) {
      return new URL(link[1] as string, here).href;
    }
  }
  return undefined;
}
