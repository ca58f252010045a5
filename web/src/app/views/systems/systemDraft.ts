import { type Rows, rowsIn, type System, systemSchema, type SystemTimes } from '@anchor-knot/contracts';
import { calledDraft, type CalledDraft, calledSystem } from './calledDraft';
import { given, milliseconds, number } from './typedValues';
import { emptyWebhooks, webhookPlaces, type WebhooksDraft, webhooksDraftOf, webhooksOf } from './webhooksDraft';

/** What a person types to connect a system, as text; {@link readDraft} makes a description of it. */
export interface SystemDraft extends CalledDraft, WebhooksDraft {
  readonly kind: System['kind'];
  readonly name: string;
  readonly unitPath: string;
  readonly unitItems: string;
  readonly unitId: string;
  readonly unitName: string;
  readonly unitHeader: string;
  readonly unitChosen: string;
  /** Of its times. */
  readonly zone: string;
  /** In seconds. */
  readonly ahead: string;
  /** For people. */
  readonly page: string;
  readonly pageSize: string;
  readonly batchSize: string;
  readonly host: string;
  readonly port: string;
  readonly database: string;
  readonly tls: 'off' | 'required' | 'verified';
  readonly folder: string;
  readonly objects: string;
  /** Lists in records, as JSON like the objects. */
  readonly rows: string;
}

export const emptyDraft: SystemDraft = {
  kind: 'http',
  name: '',
  address: '',
  signIn: 'client credentials',
  tokenPath: '/oauth/token',
  scope: '',
  authorizationUrl: '',
  tokenUrl: '',
  revocationUrl: '',
  issuer: '',
  perSecond: '',
  perDay: '',
  atOnce: '',
  unitPath: '',
  unitItems: '',
  unitId: 'id',
  unitName: 'name',
  unitHeader: '',
  unitChosen: '',
  ...emptyWebhooks,
  zone: '',
  ahead: '',
  page: '',
  pageSize: '500',
  batchSize: '1',
  header: 'x-api-key',
  host: '',
  port: '5432',
  database: '',
  tls: 'verified',
  folder: '',
  seconds: '15',
  objects: '{}',
  rows: '{}',
};

export interface Found {
  readonly at: string;
  readonly says: string;
}
export type DraftReading =
  { readonly ok: true; readonly description: System } | { readonly ok: false; readonly problems: readonly Found[] };

const places: Readonly<Record<string, string>> = {
  name: 'name',
  address: 'address',
  host: 'host',
  port: 'port',
  database: 'database',
  folder: 'folder',
  timeoutMs: 'time limit',
  'signIn.tokenPath': 'token path',
  'signIn.header': 'header',
  'signIn.authorizationUrl': 'consent address',
  'signIn.tokenUrl': 'token address',
  'signIn.revocationUrl': 'revocation address',
  'signIn.issuer': 'issuer',
  'budget.perSecond': 'calls a second',
  'budget.perDay': 'calls a day',
  'budget.atOnce': 'calls at once',
  pageSize: 'page size',
  batchSize: 'writes in a batch',
  'unit.list.path': 'units, path',
  'unit.header': 'units, header',
  'times.zone': 'zone of its times',
  'times.aheadMs': 'its times run ahead by',
  page: 'its page',
  ...webhookPlaces,
};

const says: Readonly<Record<string, string>> = {
  name: 'is missing',
  address: 'is not an address such as https://crm.example.com',
  host: 'is missing',
  port: 'is no number from 1 to 65535',
  database: 'is missing',
  folder: 'is missing',
  'time limit': 'is no number of seconds from 0.1 to 300',
  'token path': 'does not begin with /',
  header: 'is not the name of a header',
  'consent address': 'is not an address such as https://crm.example.com/authorize',
  'token address': 'is not an address such as https://crm.example.com/token',
  'revocation address': 'is not an address',
  issuer: 'is not an address',
  'calls a second': 'is no number from 0.01 to 10,000',
  'calls a day': 'is no whole number from 1',
  'calls at once': 'is no whole number from 1 to 100',
  'page size': 'is no whole number from 1 to 10,000',
  'writes in a batch': 'is no whole number from 1 to 1,000',
  'units, path': 'does not begin with /',
  'units, header': 'is not the name of a header',
  'zone of its times': 'is not the name of a time zone, such as Europe/Amsterdam',
  'its times run ahead by': 'is no number of seconds, at most a day',
  'its page': 'is not an address such as https://crm.example.com',
  'subscriptions, path': 'does not begin with /',
};

const stubs: Readonly<Record<System['kind'], object>> = {
  http: { name: '-', address: 'https://x.example', signIn: { kind: 'none' } },
  odata: { name: '-', address: 'https://x.example', signIn: { kind: 'none' } },
  sql: { name: '-', host: '-', database: '-' },
  files: { name: '-' },
  groups: { name: '-' },
};

/** The objects of a draft that are right already, whatever the rest of it is; `others` are left as they were typed. */
export function readObjects({ kind, objects: text }: Pick<SystemDraft, 'kind' | 'objects'>): {
  objects: System['objects'];
  others: Readonly<Record<string, unknown>>;
} {
  let typed: unknown;
  try {
    typed = JSON.parse(text.trim() === '' ? '{}' : text);
  } catch {
    return { objects: {}, others: {} };
  }
  const objects: Record<string, unknown> = {};
  const others: Record<string, unknown> = {};
  for (const [name, object] of Object.entries(
    typeof typed === 'object' && typed !== null && !Array.isArray(typed) ? typed : {},
  )) {
    const result = systemSchema.safeParse({ kind, ...stubs[kind], objects: { [name]: object } });
    if (result.success) objects[name] = result.data.objects[name];
    else others[name] = object;
  }
  return { objects: objects as System['objects'], others };
}

/** @returns the description, or everything that keeps the draft from being one */
export function readDraft(draft: SystemDraft): DraftReading {
  const read = (at: string, text: string): { value?: unknown; problem?: Found } => {
    try {
      return { value: text.trim() === '' ? undefined : (JSON.parse(text) as unknown) };
    } catch (error) {
      return { problem: { at, says: `not JSON: ${error instanceof Error ? error.message : ''}` } };
    }
  };
  const objects = read('objects', draft.objects);
  if (objects.problem) return { ok: false, problems: [objects.problem] };
  const result = systemSchema.safeParse(asDescription(draft, { objects: objects.value ?? {}, ...rowsOf(draft) }));
  if (result.success) return { ok: true, description: result.data };
  return {
    ok: false,
    problems: result.error.issues.map(({ path, message }) => {
      const at = path.map(String).join('.');
      return { at: places[at] ?? at, says: says[places[at] ?? ''] ?? message };
    }),
  };
}

/** Kinds of system whose records can hold lists. */
export function mayHaveRows(kind: System['kind']): boolean {
  return kind === 'http' || kind === 'files';
}

function rowsOf({ kind, rows: text }: Pick<SystemDraft, 'kind' | 'rows'>): { readonly rows?: Record<string, Rows> } {
  const rows = JSON.parse(text) as Record<string, Rows>;
  return mayHaveRows(kind) && Object.keys(rows).length > 0 ? { rows } : {};
}

function asDescription(draft: SystemDraft, has: object): unknown {
  if (draft.kind === 'groups') return { kind: 'groups', name: draft.name.trim(), ...has };
  const common = { name: draft.name.trim(), ...timesOf(draft), ...given('page', draft.page), ...has };
  const webhooks = webhooksOf(draft);
  switch (draft.kind) {
    case 'http':
      return {
        kind: 'http',
        ...common,
        ...calledSystem(draft),
        ...(draft.unitPath.trim() === '' && draft.unitHeader.trim() === ''
          ? {}
          : {
              unit: {
                list: {
                  path: draft.unitPath.trim(),
                  items: draft.unitItems.trim(),
                  id: draft.unitId.trim(),
                  name: draft.unitName.trim(),
                },
                header: draft.unitHeader.trim(),
                ...given('chosen', draft.unitChosen),
              },
            }),
        ...(webhooks === undefined ? {} : { webhooks }),
      };
    case 'odata':
      return {
        kind: 'odata',
        ...common,
        ...calledSystem(draft),
        pageSize: number(draft.pageSize),
        batchSize: number(draft.batchSize),
      };
    case 'sql':
      return {
        kind: 'sql',
        ...common,
        host: draft.host.trim(),
        port: Number(draft.port),
        database: draft.database.trim(),
        tls: draft.tls,
        timeoutMs: milliseconds(draft.seconds),
      };
    case 'files':
      return { kind: 'files', ...common, folder: draft.folder.trim() };
    default:
      return draft.kind satisfies never;
  }
}

function timesOf({ zone, ahead }: SystemDraft): object {
  const times = { ...given('zone', zone), ...(ahead.trim() === '' ? {} : { aheadMs: milliseconds(ahead) }) };
  return Object.keys(times).length > 0 ? { times } : {};
}

function timesIn(times: SystemTimes | undefined): Pick<SystemDraft, 'zone' | 'ahead'> {
  return { zone: times?.zone ?? '', ahead: times?.aheadMs === undefined ? '' : String(times.aheadMs / 1000) };
}

/** The draft that a description came from. */
export function draftOf(description: System): SystemDraft {
  const common = {
    ...emptyDraft,
    kind: description.kind,
    name: description.name,
    ...timesIn('times' in description ? description.times : undefined),
    page: description.page ?? '',
    objects: JSON.stringify(description.objects, null, 2),
    rows: JSON.stringify(rowsIn(description)),
  };
  switch (description.kind) {
    case 'http': {
      const { unit, webhooks } = description;
      return {
        ...common,
        ...calledDraft(description),
        ...(unit
          ? {
              unitPath: unit.list.path,
              unitItems: unit.list.items,
              unitId: unit.list.id,
              unitName: unit.list.name,
              unitHeader: unit.header,
              unitChosen: unit.chosen ?? '',
            }
          : {}),
        ...webhooksDraftOf(webhooks),
      };
    }
    case 'odata':
      return {
        ...common,
        ...calledDraft(description),
        pageSize: String(description.pageSize),
        batchSize: String(description.batchSize),
      };
    case 'sql':
      return {
        ...common,
        host: description.host,
        port: String(description.port),
        database: description.database,
        tls: description.tls,
        seconds: String(description.timeoutMs / 1000),
      };
    case 'files':
      return { ...common, folder: description.folder };
    case 'groups':
      return common;
    default:
      return description satisfies never;
  }
}
