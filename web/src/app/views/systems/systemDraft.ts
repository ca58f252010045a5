import { type HttpSystem, type Pennant, type System, systemSchema } from '@anchor-knot/contracts';

/** What a person types to connect a system, as text; {@link readDraft} makes a description of it. */
export interface SystemDraft {
  readonly kind: System['kind'];
  readonly name: string;
  readonly address: string;
  readonly signIn: HttpSystem['signIn']['kind'];
  readonly header: string;
  readonly tokenPath: string;
  readonly scope: string;
  readonly host: string;
  readonly port: string;
  readonly database: string;
  readonly tls: 'off' | 'required' | 'verified';
  readonly folder: string;
  readonly seconds: string;
  readonly objects: string;
}

export const emptyDraft: SystemDraft = {
  kind: 'http',
  name: '',
  address: '',
  signIn: 'client credentials',
  tokenPath: '/oauth/token',
  scope: '',
  header: 'x-api-key',
  host: '',
  port: '5432',
  database: '',
  tls: 'verified',
  folder: '',
  seconds: '15',
  objects: '{}',
};

/** What each kind's objects look like, to start from. */
export const objectExamples: Readonly<Record<System['kind'], string>> = {
  http: JSON.stringify(
    {
      contacts: {
        key: 'id',
        modifiedAt: { field: 'updatedAt', format: 'iso' },
        list: {
          path: '/api/contacts',
          items: 'data',
          pageSize: { parameter: 'limit', value: 100 },
          paging: { kind: 'cursor', parameter: 'cursor', next: 'nextCursor' },
          changedSince: { parameter: 'updatedSince', format: 'iso' },
        },
        read: { path: '/api/contacts/{key}' },
        create: { method: 'POST', path: '/api/contacts' },
        update: { method: 'PATCH', path: '/api/contacts/{key}', ifMatch: false },
      },
    },
    null,
    2,
  ),
  sql: JSON.stringify({ customers: { source: { kind: 'table', schema: 'public', table: 'customer' }, key: 'id', modifiedAt: 'changed_at', mayWrite: false } }, null, 2),
  files: JSON.stringify({ partners: { path: 'partners.csv', format: 'csv', key: 'id' } }, null, 2),
};

export interface Found {
  readonly at: string;
  readonly says: string;
}
export type DraftReading = { readonly ok: true; readonly description: System } | { readonly ok: false; readonly problems: readonly Found[] };

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
};

/** @returns the description, or everything that keeps the draft from being one */
export function readDraft(draft: SystemDraft): DraftReading {
  let objects: unknown;
  try {
    objects = JSON.parse(draft.objects.trim() === '' ? '{}' : draft.objects);
  } catch (error) {
    return { ok: false, problems: [{ at: 'objects', says: `not JSON: ${error instanceof Error ? error.message : ''}` }] };
  }
  const result = systemSchema.safeParse(asDescription(draft, objects));
  if (result.success) return { ok: true, description: result.data };
  return {
    ok: false,
    problems: result.error.issues.map(({ path, message }) => {
      const at = path.map(String).join('.');
      return { at: places[at] ?? at, says: says[places[at] ?? ''] ?? message };
    }),
  };
}

function asDescription(draft: SystemDraft, objects: unknown): unknown {
  const name = draft.name.trim();
  switch (draft.kind) {
    case 'http':
      return {
        kind: 'http',
        name,
        address: draft.address.trim().replace(/\/+$/, ''),
        signIn:
          draft.signIn === 'client credentials'
            ? { kind: draft.signIn, tokenPath: draft.tokenPath.trim(), ...(draft.scope.trim() === '' ? {} : { scope: draft.scope.trim() }) }
            : draft.signIn === 'header key'
              ? { kind: draft.signIn, header: draft.header.trim() }
              : { kind: draft.signIn },
        timeoutMs: milliseconds(draft.seconds),
        objects,
      };
    case 'sql':
      return {
        kind: 'sql',
        name,
        host: draft.host.trim(),
        port: Number(draft.port),
        database: draft.database.trim(),
        tls: draft.tls,
        timeoutMs: milliseconds(draft.seconds),
        objects,
      };
    case 'files':
      return { kind: 'files', name, folder: draft.folder.trim(), objects };
    default:
      return draft.kind satisfies never;
  }
}

function milliseconds(seconds: string): number {
  return Math.round(Number(seconds.replace(',', '.')) * 1000);
}

/** The draft that a description came from. */
export function draftOf(description: System): SystemDraft {
  const common = { ...emptyDraft, kind: description.kind, name: description.name, objects: JSON.stringify(description.objects, null, 2) };
  switch (description.kind) {
    case 'http': {
      const { signIn } = description;
      return {
        ...common,
        address: description.address,
        signIn: signIn.kind,
        ...(signIn.kind === 'client credentials' ? { tokenPath: signIn.tokenPath, scope: signIn.scope ?? '' } : {}),
        ...(signIn.kind === 'header key' ? { header: signIn.header } : {}),
        seconds: String(description.timeoutMs / 1000),
      };
    }
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
    default:
      return description satisfies never;
  }
}

/** Two letters for a pennant, from a name: `Coldharbour ERP` gives `CE`. */
export function lettersFor(name: string): string {
  const words = name
    .trim()
    .split(/[^\p{L}\p{N}]+/u)
    .filter(Boolean);
  const letters = words.length > 1 ? `${[...(words[0] ?? '')][0] ?? ''}${[...(words.at(-1) ?? '')][0] ?? ''}` : [...(words[0] ?? '')].slice(0, 2).join('');
  return letters.toUpperCase();
}

export const patterns: readonly Pennant['pattern'][] = ['halves', 'quarters', 'bars', 'saltire', 'disc', 'border', 'chevron', 'chequer'];
export const colours: readonly Pennant['colour'][] = ['petrol', 'vermilion', 'brass', 'kelp', 'ink', 'plum'];
