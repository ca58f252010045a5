import type { Webhooks } from '@anchor-knot/contracts';

/** How a system is subscribed to, as a person types it; without a path there are no webhooks. */
export interface WebhooksDraft {
  readonly hookPath: string;
  readonly hookItems: string;
  readonly hookId: string;
  readonly hookAddress: string;
  readonly hookSecret: string;
  readonly hookEvents: string;
  readonly hookActiveField: string;
  readonly hookActiveValue: string;
  readonly hookRecord: string;
  readonly hookSignature: Webhooks['signature']['kind'];
  readonly hookHeader: string;
  readonly hookEncoding: 'hex' | 'base64';
  readonly hookTimeHeader: string;
  readonly hookIdHeader: string;
}

export const emptyWebhooks: WebhooksDraft = {
  hookPath: '',
  hookItems: '',
  hookId: 'id',
  hookAddress: 'url',
  hookSecret: 'secret',
  hookEvents: 'events',
  hookActiveField: '',
  hookActiveValue: '',
  hookRecord: '',
  hookSignature: 'standard webhooks',
  hookHeader: '',
  hookEncoding: 'hex',
  hookTimeHeader: '',
  hookIdHeader: '',
};

/** Where in a description what a person types stands, for telling what is wrong with it. */
export const webhookPlaces: Readonly<Record<string, string>> = {
  'webhooks.path': 'subscriptions, path',
  'webhooks.id': 'subscription, id in',
  'webhooks.address': 'subscription, address in',
  'webhooks.secret': 'subscription, secret in',
  'webhooks.events': 'subscription, events in',
  'webhooks.record': 'key of the record in',
  'webhooks.active.field': 'works when',
  'webhooks.signature.header': 'signature, header',
  'webhooks.signature.timeHeader': 'time, header',
  'webhooks.signature.idHeader': 'id, header',
};

/** The description's part; `undefined` where nothing is subscribed to. */
export function webhooksOf(draft: WebhooksDraft): object | undefined {
  const typed = Object.fromEntries(Object.entries(draft).map(([name, text]) => [name, String(text).trim()])) as {
    [Name in keyof WebhooksDraft]: string;
  };
  if (typed.hookPath === '') return undefined;
  return {
    path: typed.hookPath,
    items: typed.hookItems,
    id: typed.hookId,
    address: typed.hookAddress,
    secret: typed.hookSecret,
    events: typed.hookEvents,
    ...(typed.hookActiveField === '' && typed.hookActiveValue === ''
      ? {}
      : { active: { field: typed.hookActiveField, value: typed.hookActiveValue } }),
    ...(typed.hookRecord === '' ? {} : { record: typed.hookRecord }),
    signature:
      draft.hookSignature === 'standard webhooks'
        ? { kind: draft.hookSignature }
        : {
            kind: draft.hookSignature,
            header: typed.hookHeader,
            encoding: draft.hookEncoding,
            ...(typed.hookTimeHeader === '' ? {} : { timeHeader: typed.hookTimeHeader }),
            idHeader: typed.hookIdHeader,
          },
  };
}

/** The draft that a description came from. */
export function webhooksDraftOf(webhooks: Webhooks | undefined): WebhooksDraft {
  if (!webhooks) return emptyWebhooks;
  const { path, items, id, address, secret, events, active, record, signature } = webhooks;
  return {
    hookPath: path,
    hookItems: items,
    hookId: id,
    hookAddress: address,
    hookSecret: secret,
    hookEvents: events,
    hookActiveField: active?.field ?? '',
    hookActiveValue: active?.value ?? '',
    hookRecord: record ?? '',
    hookSignature: signature.kind,
    ...(signature.kind === 'standard webhooks'
      ? { hookHeader: '', hookEncoding: 'hex', hookTimeHeader: '', hookIdHeader: '' }
      : {
          hookHeader: signature.header,
          hookEncoding: signature.encoding,
          hookTimeHeader: signature.timeHeader ?? '',
          hookIdHeader: signature.idHeader,
        }),
  };
}
