import { type HttpObject, httpObjectSchema, type ObjectPages } from '@anchor-knot/contracts';
import type { Found } from './systemDraft';
import { given, namesIn } from './typedValues';

/** How an object of a JSON interface is listed, read and written, as a person types it. */
export interface HttpObjectDraft {
  readonly key: string;
  readonly modifiedField: string;
  readonly modifiedFormat: NonNullable<HttpObject['modifiedAt']>['format'];
  readonly etag: string;
  readonly listPath: string;
  readonly listItems: string;
  readonly sizeParameter: string;
  readonly sizeValue: string;
  readonly paging: HttpObject['list']['paging']['kind'];
  readonly pagingParameter: string;
  readonly pagingFirst: string;
  readonly pagingNext: string;
  readonly sinceParameter: string;
  readonly sinceFormat: NonNullable<HttpObject['modifiedAt']>['format'];
  readonly deletedField: string;
  readonly deletedValue: string;
  readonly readPath: string;
  readonly readItem: string;
  /** A line per field: `field = parameter`. */
  readonly search: string;
  readonly createMethod: '' | NonNullable<HttpObject['create']>['method'];
  readonly createPath: string;
  readonly createWrap: string;
  readonly idempotencyHeader: string;
  /** Separated by commas. */
  readonly createRequires: string;
  readonly updateMethod: '' | NonNullable<HttpObject['update']>['method'];
  readonly updatePath: string;
  readonly updateWrap: string;
  readonly ifMatch: 'yes' | 'no';
  readonly removePath: string;
  readonly removeIfMatch: 'yes' | 'no';
  readonly archiveField: string;
  /** As JSON, or as it is. */
  readonly archiveValue: string;
  /** Separated by commas. */
  readonly events: string;
  /** How a field is added there. */
  readonly fieldMethod: '' | NonNullable<HttpObject['createField']>['method'];
  readonly fieldPath: string;
  readonly fieldName: string;
  readonly fieldType: string;
  readonly fieldTypeText: string;
  readonly fieldTypeNumber: string;
  readonly fieldTypeDate: string;
  readonly fieldTypeYesNo: string;
  readonly fieldAnswer: string;
  readonly fieldsUnder: string;
}

export const emptyHttpObject: HttpObject = httpObjectSchema.parse({
  key: 'id',
  list: {
    path: '/records',
    pageSize: { parameter: 'limit', value: 100 },
    paging: { kind: 'cursor', parameter: 'cursor', next: 'next' },
  },
  read: { path: '/records/{key}' },
});

export function httpObjectDraftOf({
  key,
  modifiedAt,
  etag,
  list,
  read,
  search,
  create,
  update,
  remove,
  archive,
  events,
  createField,
}: HttpObject): HttpObjectDraft {
  const { paging } = list;
  return {
    key,
    modifiedField: modifiedAt?.field ?? '',
    modifiedFormat: modifiedAt?.format ?? 'iso',
    etag: etag ?? '',
    listPath: list.path,
    listItems: list.items,
    sizeParameter: list.pageSize.parameter,
    sizeValue: String(list.pageSize.value),
    paging: paging.kind,
    pagingParameter: 'parameter' in paging ? paging.parameter : '',
    pagingFirst: 'first' in paging && paging.first !== undefined ? String(paging.first) : '',
    pagingNext: 'next' in paging ? paging.next : '',
    sinceParameter: list.changedSince?.parameter ?? '',
    sinceFormat: list.changedSince?.format ?? 'iso',
    deletedField: list.deleted?.field ?? '',
    deletedValue: list.deleted?.value ?? '',
    readPath: read.path,
    readItem: read.item,
    search: Object.entries(search)
      .map(([field, parameter]) => `${field} = ${parameter}`)
      .join('\n'),
    createMethod: create?.method ?? '',
    createPath: create?.path ?? '',
    createWrap: create?.wrap ?? '',
    idempotencyHeader: create?.idempotencyHeader ?? '',
    createRequires: create?.requires.join(', ') ?? '',
    updateMethod: update?.method ?? '',
    updatePath: update?.path ?? '',
    updateWrap: update?.wrap ?? '',
    ifMatch: update?.ifMatch ? 'yes' : 'no',
    removePath: remove?.path ?? '',
    removeIfMatch: remove?.ifMatch ? 'yes' : 'no',
    archiveField: archive?.field ?? '',
    archiveValue: archive ? (typeof archive.value === 'string' ? archive.value : JSON.stringify(archive.value)) : '',
    events: events.join(', '),
    fieldMethod: createField?.method ?? '',
    fieldPath: createField?.path ?? '',
    fieldName: createField?.name ?? '',
    fieldType: createField?.type ?? '',
    fieldTypeText: createField?.types.text ?? '',
    fieldTypeNumber: createField?.types.number ?? '',
    fieldTypeDate: createField?.types.date ?? '',
    fieldTypeYesNo: createField?.types['yes/no'] ?? '',
    fieldAnswer: createField?.answer ?? '',
    fieldsUnder: createField?.fieldsUnder ?? '',
  };
}

/** `true`, `false` and numbers are what they look like; anything else is text. */
function plainValue(text: string): string | number | boolean {
  if (text === 'true' || text === 'false') return text === 'true';
  return text !== '' && String(Number(text)) === text ? Number(text) : text;
}

const places: Readonly<Record<string, string>> = {
  key: 'Key',
  'list.path': 'Listed at',
  'list.pageSize.parameter': 'Page size, parameter',
  'list.pageSize.value': 'Records a page',
  'list.paging.parameter': 'Page, parameter',
  'list.paging.next': 'Next page in',
  'list.paging.first': 'First page',
  'read.path': 'One record at',
  'create.path': 'Create at',
  'update.path': 'Update at',
  'remove.path': 'Delete at',
  search: 'Found by',
  'createField.path': 'Fields, added at',
  'createField.name': 'Fields, name in',
  'createField.type': 'Fields, type in',
};

/**
 * @param before what the form does not show is taken from it. @returns the object, or everything that keeps the draft
 * from being one
 */
export function readHttpObject(
  draft: HttpObjectDraft,
  before: HttpObject,
): { readonly object?: HttpObject; readonly problems: readonly Found[] } {
  const lines = draft.search.split('\n').filter((line) => line.trim() !== '');
  const pairs = lines.map((line) => line.split('=').map((part) => part.trim()));
  if (pairs.some((pair) => pair.length !== 2 || pair.includes('')))
    return { problems: [{ at: 'Found by', says: 'each line is a field, =, and a parameter' }] };
  const paging = {
    kind: draft.paging,
    ...(draft.paging === 'link header' ? {} : { parameter: draft.pagingParameter.trim() }),
    ...(draft.paging === 'cursor' ? { next: draft.pagingNext.trim(), ...given('first', draft.pagingFirst) } : {}),
    ...(draft.paging === 'page number' && draft.pagingFirst.trim() !== '' ? { first: Number(draft.pagingFirst) } : {}),
  };
  const result = httpObjectSchema.safeParse({
    ...pagesIn(before),
    key: draft.key.trim(),
    ...(draft.modifiedField.trim() === ''
      ? {}
      : { modifiedAt: { field: draft.modifiedField.trim(), format: draft.modifiedFormat } }),
    ...given('etag', draft.etag),
    list: {
      path: draft.listPath.trim(),
      items: draft.listItems.trim(),
      pageSize: { parameter: draft.sizeParameter.trim(), value: Number(draft.sizeValue) },
      paging,
      ...(draft.sinceParameter.trim() === ''
        ? {}
        : { changedSince: { parameter: draft.sinceParameter.trim(), format: draft.sinceFormat } }),
      ...(draft.deletedField.trim() === ''
        ? {}
        : { deleted: { field: draft.deletedField.trim(), ...given('value', draft.deletedValue) } }),
    },
    read: { path: draft.readPath.trim(), item: draft.readItem.trim() },
    search: Object.fromEntries(pairs as [string, string][]),
    ...(draft.createMethod === ''
      ? {}
      : {
          create: {
            method: draft.createMethod,
            path: draft.createPath.trim(),
            ...given('wrap', draft.createWrap),
            ...given('idempotencyHeader', draft.idempotencyHeader),
            requires: namesIn(draft.createRequires),
          },
        }),
    ...(draft.updateMethod === ''
      ? {}
      : {
          update: {
            method: draft.updateMethod,
            path: draft.updatePath.trim(),
            ...given('wrap', draft.updateWrap),
            ifMatch: draft.ifMatch === 'yes',
          },
        }),
    ...(draft.removePath.trim() === ''
      ? {}
      : { remove: { path: draft.removePath.trim(), ifMatch: draft.removeIfMatch === 'yes' } }),
    ...(draft.archiveField.trim() === ''
      ? {}
      : { archive: { field: draft.archiveField.trim(), value: plainValue(draft.archiveValue.trim()) } }),
    events: namesIn(draft.events),
    ...(draft.fieldMethod === '' ? {} : { createField: createFieldOf(draft) }),
  });
  if (result.success) return { object: result.data, problems: [] };
  return {
    problems: result.error.issues.map(({ path, message }) => {
      const at = path.map(String).join('.');
      return { at: places[at] ?? at, says: /path$/.test(at) ? 'does not begin with /' : message };
    }),
  };
}

/** Pages for people are set for all objects together. */
function pagesIn({ recordPage, listPage }: HttpObject): ObjectPages {
  return { ...(recordPage === undefined ? {} : { recordPage }), ...(listPage === undefined ? {} : { listPage }) };
}

/** A type that the system has no word for cannot be added there. */
function createFieldOf(draft: HttpObjectDraft): object {
  const types = {
    text: draft.fieldTypeText.trim(),
    number: draft.fieldTypeNumber.trim(),
    date: draft.fieldTypeDate.trim(),
    'yes/no': draft.fieldTypeYesNo.trim(),
  };
  return {
    method: draft.fieldMethod,
    path: draft.fieldPath.trim(),
    name: draft.fieldName.trim(),
    type: draft.fieldType.trim(),
    types: Object.fromEntries(Object.entries(types).filter(([, word]) => word !== '')),
    answer: draft.fieldAnswer.trim(),
    fieldsUnder: draft.fieldsUnder.trim(),
  };
}
