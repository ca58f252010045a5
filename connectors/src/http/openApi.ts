import { type HttpObject, httpObjectSchema, type HttpSystem } from '@anchor-knot/contracts';
import { parse } from 'yaml';

/** An object that an OpenAPI document describes, as far as it can be told; a person corrects what was guessed. */
export interface ProposedObject {
  readonly name: string;
  readonly object: HttpObject;
  /** What was guessed, or could not be told. */
  readonly doubts: readonly string[];
}

export interface OpenApiReading {
  readonly title: string;
  /** Absolute, where the document says it. */
  readonly address: string | undefined;
  readonly signIn: HttpSystem['signIn'];
  readonly objects: readonly ProposedObject[];
}

type Json = null | boolean | number | string | Json[] | { [name: string]: Json };
type Members = Readonly<Record<string, Json>>;

const largestDocument = 8 * 1024 * 1024;
/** Schemas may refer to each other in a circle: below this nothing is looked at. */
const deepest = 8;
const methods = { create: ['post', 'put'], update: ['patch', 'put', 'post'] } as const;

/** A text that is no OpenAPI document of version 3. */
export class NotOpenApi extends Error {}

/**
 * Reads an OpenAPI 3 document (OpenAPI Specification 3.0 and 3.1), JSON or YAML, and proposes an object for each
 * collection that can be listed and whose records can be read one by one.
 * @throws {NotOpenApi} with what is wrong
 */
export function readOpenApi(text: string): OpenApiReading {
  if (text.length > largestDocument) throw new NotOpenApi(`it is larger than ${largestDocument / 1024 / 1024} MB`);
  const document = new Document(parseText(text));
  const paths = membersOf(document.root.paths);
  const objects: ProposedObject[] = [];
  const taken = new Set<string>();
  for (const [path, item] of Object.entries(paths)) {
    const single = Object.keys(paths).find(
      (other) => other.startsWith(`${path}/{`) && /^\/\{[^/{}]+\}$/.test(other.slice(path.length)),
    );
    if (single === undefined || path.includes('{')) continue;
    const proposed = proposeObject(document, path, membersOf(item), single, membersOf(paths[single]));
    if (!proposed || taken.has(proposed.name)) continue;
    taken.add(proposed.name);
    objects.push(proposed);
  }
  const address = addressOf(document.root);
  return {
    title: textOf(membersOf(document.root.info).title) ?? '',
    address,
    signIn: signInOf(document, address),
    objects,
  };
}

function parseText(text: string): Members {
  let root: unknown;
  try {
    // JSON is YAML; aliases are limited, so that a small text cannot become a huge document.
    root = parse(text, { maxAliasCount: 100 });
  } catch (error) {
    throw new NotOpenApi(
      `it is neither JSON nor YAML: ${error instanceof Error ? (error.message.split('\n')[0] ?? '') : ''}`,
    );
  }
  const members = membersOf(root as Json);
  const isThird = /^3\.\d/.test(textOf(members.openapi) ?? '');
  if (!isThird) throw new NotOpenApi('it does not say “openapi: 3.…” at its top');
  if (Object.keys(membersOf(members.paths)).length === 0) throw new NotOpenApi('it has no paths');
  return members;
}

/** A document whose references (`$ref`, within the document) are followed. */
class Document {
  readonly root: Members;
  constructor(root: Members) {
    this.root = root;
  }

  /** What stands there, references followed; a circle of references is nothing. */
  at(value: Json | undefined, followed = 0): Members {
    const members = membersOf(value);
    const target = textOf(members.$ref);
    if (target === undefined) return members;
    if (!target.startsWith('#/') || followed > deepest) return {};
    let here: Json | undefined = this.root as Json;
    for (const name of target.slice(2).split('/'))
      here = membersOf(here)[decodeURIComponent(name.replaceAll('~1', '/').replaceAll('~0', '~'))];
    return this.at(here, followed + 1);
  }

  /** The properties of a schema, those of its `allOf` included. */
  properties(schema: Json | undefined, depth = 0): Members {
    const here = this.at(schema);
    if (depth > deepest) return {};
    const parts = Array.isArray(here.allOf) ? here.allOf.map((part) => this.properties(part, depth + 1)) : [];
    return Object.assign({}, ...parts, membersOf(here.properties)) as Members;
  }

  /** The schema of the JSON body of an operation's success. */
  answer(operation: Members): Members {
    const responses = membersOf(operation.responses);
    const code = Object.keys(responses).find((status) => /^2\d\d$|^2XX$/i.test(status)) ?? 'default';
    return this.#jsonOf(this.at(responses[code]));
  }

  request(operation: Members): Members {
    return this.#jsonOf(this.at(operation.requestBody));
  }

  #jsonOf(body: Members): Members {
    const content = membersOf(body.content);
    const type = Object.keys(content).find((mediaType) => /^application\/([\w.+-]+\+)?json/.test(mediaType));
    return type === undefined ? {} : this.at(membersOf(content[type]).schema);
  }

  parameters(...holders: readonly Members[]): Members[] {
    return holders.flatMap(({ parameters }) =>
      Array.isArray(parameters) ? parameters.map((parameter) => this.at(parameter)) : [],
    );
  }
}

function proposeObject(
  document: Document,
  path: string,
  collection: Members,
  singlePath: string,
  single: Members,
): ProposedObject | undefined {
  const list = document.at(collection.get);
  const read = document.at(single.get);
  if (Object.keys(list).length === 0 || Object.keys(read).length === 0) return undefined;
  const doubts: string[] = [];
  const found = itemsOf(document, document.answer(list));
  if (!found) return undefined;
  const fields = document.properties(found.item);
  const query = document.parameters(collection, list).filter((parameter) => parameter.in === 'query');
  const name = path.split('/').findLast((part) => part !== '') ?? path;
  const parameter = /\{([^}]+)\}$/.exec(singlePath)?.[1] ?? 'id';
  const key = [parameter, 'id', 'key', 'uuid', 'number', `${name.replace(/s$/, '')}_id`].find((one) => one in fields);
  if (key === undefined) doubts.push('which field is the key could not be told');
  const modifiedAt = modifiedOf(document, fields);
  if (!modifiedAt) doubts.push('no field tells when a record was last changed');
  const readAnswer = document.answer(read);
  const wrapped =
    key !== undefined && !(key in document.properties(readAnswer))
      ? Object.entries(document.properties(readAnswer)).find(([, value]) => key in document.properties(value))?.[0]
      : undefined;
  const size = query.find((parameter) =>
    /^(limit|per_?page|page_?size|size|count|top|max_?results)$/i.test(textOf(parameter.name) ?? ''),
  );
  if (!size) doubts.push('how large pages are asked for could not be told');
  const most = Number(document.at(size?.schema).maximum ?? 100);
  const paging = pagingOf(document, list, query, document.answer(list));
  if (paging.guessed) doubts.push('how the next page is asked for was guessed');
  const since = query.find((parameter) =>
    /(updated|modified|changed|touched).*(since|after|from|gte?)$|^(since|if_?modified_?since)$/i.test(
      textOf(parameter.name) ?? '',
    ),
  );
  const description = {
    key: key ?? 'id',
    ...(modifiedAt ? { modifiedAt } : {}),
    list: {
      path,
      items: found.at,
      pageSize: {
        parameter: textOf(size?.name) ?? 'limit',
        value: Math.min(Math.max(Number.isFinite(most) ? most : 100, 1), 1000),
      },
      paging: paging.paging,
      ...(since
        ? {
            changedSince: {
              parameter: textOf(since.name),
              format: isNumber(document.at(since.schema)) ? 'unix seconds' : 'iso',
            },
          }
        : {}),
    },
    read: { path: singlePath.replace(/\{[^}]+\}$/, '{key}'), ...(wrapped === undefined ? {} : { item: wrapped }) },
    search: searchesOf(query, fields, key),
    ...writesOf(document, path, collection, singlePath, single),
  };
  const object = httpObjectSchema.safeParse(description);
  return object.success ? { name, object: object.data, doubts } : undefined;
}

/** Fields that have a query parameter of their name. */
function searchesOf(query: readonly Members[], fields: Members, key: string | undefined): Record<string, string> {
  const searches: Record<string, string> = {};
  for (const { name } of query) if (typeof name === 'string' && name in fields && name !== key) searches[name] = name;
  return searches;
}

/** Where the records are in the answer of a listing: the answer itself, or a list in it, at most two levels down. */
function itemsOf(
  document: Document,
  answer: Members,
): { readonly at: string; readonly item: Json | undefined } | undefined {
  if (answer.type === 'array') return { at: '', item: answer.items };
  for (const [name, value] of Object.entries(document.properties(answer))) {
    const schema = document.at(value);
    if (schema.type === 'array' && Object.keys(document.properties(schema.items)).length > 0)
      return { at: name, item: schema.items };
  }
  for (const [name, value] of Object.entries(document.properties(answer))) {
    for (const [inner, below] of Object.entries(document.properties(value))) {
      const schema = document.at(below);
      if (schema.type === 'array' && Object.keys(document.properties(schema.items)).length > 0)
        return { at: `${name}.${inner}`, item: schema.items };
    }
  }
  return undefined;
}

function modifiedOf(document: Document, fields: Members): HttpObject['modifiedAt'] {
  const name = Object.keys(fields).find((field) =>
    /^(last_?)?(updated|modified|changed|touched)(_?(at|on|date|time))?$|^last_?(modified|update|change)$/i.test(field),
  );
  if (name === undefined) return undefined;
  return { field: name, format: isNumber(document.at(fields[name])) ? 'unix seconds' : 'iso' };
}

function pagingOf(
  document: Document,
  list: Members,
  query: readonly Members[],
  answer: Members,
): { paging: HttpObject['list']['paging']; guessed: boolean } {
  const named = (pattern: RegExp): string | undefined =>
    query.map(({ name }) => textOf(name) ?? '').find((name) => pattern.test(name));
  const cursor = named(/cursor|page_?token|continuation|^after$/i);
  if (cursor !== undefined) {
    const next = nextOf(document, answer);
    return { paging: { kind: 'cursor', parameter: cursor, next: next ?? 'nextCursor' }, guessed: next === undefined };
  }
  const response = membersOf(list.responses);
  const hasLink = Object.values(response).some((answer) =>
    Object.keys(membersOf(document.at(answer).headers)).some((header) => header.toLowerCase() === 'link'),
  );
  if (hasLink) return { paging: { kind: 'link header' }, guessed: false };
  const offset = named(/^(offset|skip|start|start_?at|from)$/i);
  if (offset !== undefined) return { paging: { kind: 'offset', parameter: offset }, guessed: false };
  const page = named(/^(page|page_?(no|number|index))$/i);
  if (page !== undefined) {
    const first = membersOf(query.find(({ name }) => name === page)?.schema).minimum === 0 ? 0 : 1;
    return { paging: { kind: 'page number', parameter: page, first }, guessed: false };
  }
  return { paging: { kind: 'offset', parameter: 'offset' }, guessed: true };
}

function nextOf(document: Document, answer: Members): string | undefined {
  for (const [name, value] of Object.entries(document.properties(answer))) {
    if (/next|cursor|token/i.test(name) && document.at(value).type !== 'object') return name;
    const inner = Object.keys(document.properties(value)).find((field) => /next|cursor|token/i.test(field));
    if (inner !== undefined) return `${name}.${inner}`;
  }
  return undefined;
}

/** What a body must have, but for what only the system itself sets (JSON Schema 2020-12, required and readOnly). */
function requiredIn(document: Document, body: Members): string[] {
  const parts = Array.isArray(body.allOf) ? body.allOf.flatMap((part) => requiredIn(document, document.at(part))) : [];
  const properties = document.properties(body);
  const named = Array.isArray(body.required) ? body.required.filter((name) => typeof name === 'string') : [];
  return [...new Set([...parts, ...named])].filter((name) => document.at(properties[name]).readOnly !== true);
}

function writesOf(
  document: Document,
  path: string,
  collection: Members,
  singlePath: string,
  single: Members,
): Pick<HttpObject, 'create' | 'update'> {
  const create = methods.create.find((method) => method in collection);
  const update = methods.update.find((method) => method in single);
  const keyed = singlePath.replace(/\{[^}]+\}$/, '{key}');
  const wrapperOf = (operation: Members): readonly [name: string, body: Json] | undefined => {
    const properties = Object.entries(document.properties(document.request(operation)));
    const [only] = properties;
    return properties.length === 1 && only && Object.keys(document.properties(only[1])).length > 0 ? only : undefined;
  };
  const of = (operation: Members): { wrap?: string } => {
    const wrapper = wrapperOf(operation);
    return wrapper ? { wrap: wrapper[0] } : {};
  };
  const bodyOf = (operation: Members): Members => {
    const wrapper = wrapperOf(operation);
    return wrapper ? document.at(wrapper[1]) : document.request(operation);
  };
  const headers = (operation: Members): string[] =>
    document
      .parameters(operation)
      .flatMap((parameter) => (parameter.in === 'header' ? [textOf(parameter.name) ?? ''] : []));
  const upper = (method: string) => method.toUpperCase() as 'POST';
  const creating = create === undefined ? {} : document.at(collection[create]);
  const updating = update === undefined ? {} : document.at(single[update]);
  const idempotency = headers(creating).find((header) => /idempotency/i.test(header));
  return {
    ...(create === undefined
      ? {}
      : {
          create: {
            method: upper(create),
            path,
            ...of(creating),
            ...(idempotency === undefined ? {} : { idempotencyHeader: idempotency.toLowerCase() }),
            requires: requiredIn(document, bodyOf(creating)),
          },
        }),
    ...(update === undefined
      ? {}
      : {
          update: {
            method: upper(update),
            path: keyed,
            ...of(updating),
            ifMatch: headers(updating).some((header) => header.toLowerCase() === 'if-match'),
          },
        }),
  };
}

function addressOf(root: Members): string | undefined {
  const [first] = Array.isArray(root.servers) ? root.servers : [];
  const url = textOf(membersOf(first).url);
  return url !== undefined && /^https?:\/\//.test(url) ? url.replace(/\/+$/, '') : undefined;
}

function signInOf(document: Document, address: string | undefined): HttpSystem['signIn'] {
  for (const given of Object.values(membersOf(membersOf(document.root.components).securitySchemes))) {
    const scheme = document.at(given);
    const url = textOf(membersOf(membersOf(scheme.flows).clientCredentials).tokenUrl);
    if (scheme.type === 'oauth2' && url !== undefined) {
      const base = address ?? 'http://localhost';
      if (URL.canParse(url, base)) return { kind: 'client credentials', tokenPath: new URL(url, base).pathname };
    }
    if (scheme.type === 'http' && textOf(scheme.scheme)?.toLowerCase() === 'basic') return { kind: 'key and secret' };
    if (scheme.type === 'http' && textOf(scheme.scheme)?.toLowerCase() === 'bearer') return { kind: 'bearer token' };
    const header = scheme.in === 'header' ? textOf(scheme.name) : undefined;
    if (scheme.type === 'apiKey' && header !== undefined) return { kind: 'header key', header };
  }
  return { kind: 'none' };
}

function isNumber(schema: Members): boolean {
  return schema.type === 'integer' || schema.type === 'number';
}

function membersOf(value: Json | undefined): Members {
  return typeof value === 'object' && value !== null && !Array.isArray(value) ? value : {};
}

function textOf(value: Json | undefined): string | undefined {
  return typeof value === 'string' ? value : undefined;
}
