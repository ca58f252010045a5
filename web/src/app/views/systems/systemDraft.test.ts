import { readFileSync } from 'node:fs';
import { systemSchema } from '@anchor-knot/contracts';
import { objectExamples } from './objectExamples';
import { lettersFor } from './pennantChoices';
import { draftOf, emptyDraft, readDraft, readObjects } from './systemDraft';

const demo = JSON.parse(readFileSync('server/demo/systems.json', 'utf8')) as Record<string, object>;

test.each(Object.keys(demo))('the description of %s survives being shown in the form and read from it', (id) => {
  const description = systemSchema.parse({
    ...demo[id],
    ...('address' in (demo[id] as object) ? { address: 'http://127.0.0.1:4311' } : {}),
  });
  expect(readDraft(draftOf(description))).toEqual({ ok: true, description });
});

test('what is missing or wrong is named by what the person sees, all of it at once', () => {
  const problems = (draft: Partial<typeof emptyDraft>) => {
    const result = readDraft({ ...emptyDraft, ...draft });
    return result.ok ? [] : result.problems.map(({ at }) => at);
  };
  expect(problems({})).toEqual(['name', 'address']);
  expect(problems({ kind: 'sql', name: 'ERP', host: '', port: 'x', database: ' ' })).toEqual([
    'host',
    'port',
    'database',
  ]);
  expect(problems({ name: 'A', address: 'ftp://x.example', seconds: 'soon' })).toEqual(['address', 'time limit']);
  expect(problems({ kind: 'files', name: 'F', folder: '/in', objects: '{"a":' })).toEqual(['objects']);
  expect(
    problems({ kind: 'files', name: 'F', folder: '/in', objects: '{"a":{"path":"a.csv","format":"pdf","key":"id"}}' }),
  ).toEqual(['objects.a.format']);
});

test('the examples that a person starts from are right', () => {
  for (const kind of ['http', 'odata', 'sql', 'files'] as const) {
    expect(
      readDraft({
        ...emptyDraft,
        kind,
        name: 'N',
        address: 'https://x.example/',
        host: 'h',
        database: 'd',
        folder: '/in',
        objects: objectExamples[kind],
      }),
    ).toMatchObject({
      ok: true,
    });
  }
});

test('a sign-in by consent, with all that it may have, survives the form; what is wrong with it is named', () => {
  const signIn = {
    kind: 'authorization code',
    authorizationUrl: 'https://id.example/authorize',
    tokenUrl: 'https://id.example/token',
    revocationUrl: 'https://id.example/revoke',
    issuer: 'https://id.example',
    scope: 'a b offline_access',
  };
  const budget = { perSecond: 0.5, perDay: 1000, atOnce: 2 };
  const description = systemSchema.parse({
    kind: 'odata',
    name: 'O',
    address: 'https://x.example/odata',
    signIn,
    budget,
    objects: {},
  });
  expect(readDraft(draftOf(description))).toEqual({ ok: true, description });
  const wrong = readDraft({ ...draftOf(description), tokenUrl: 'soon', perDay: '1.5', atOnce: 'many' });
  expect(wrong.ok ? [] : wrong.problems.map(({ at }) => at)).toEqual(['token address', 'calls a day', 'calls at once']);
});

test('its times, its pages and its webhooks survive the form; what is wrong with them is named', () => {
  const object = JSON.parse(objectExamples.http) as { contacts: object };
  const description = systemSchema.parse({
    kind: 'http',
    name: 'H',
    address: 'https://x.example',
    signIn: { kind: 'none' },
    times: { zone: 'America/St_Johns', aheadMs: -1500 },
    page: 'https://x.example/app',
    webhooks: {
      path: '/hooks',
      id: 'id',
      address: 'target',
      secret: 'key',
      events: 'topics',
      active: { field: 'state', value: 'on' },
      signature: {
        kind: 'hmac sha256',
        header: 'x-signature',
        encoding: 'base64',
        timeHeader: 'x-time',
        idHeader: 'x-id',
      },
    },
    objects: { contacts: { ...object.contacts, recordPage: '/c/{key}', listPage: 'https://y.example/all' } },
  });
  expect(readDraft(draftOf(description))).toEqual({ ok: true, description });
  const wrong = readDraft({
    ...draftOf(description),
    zone: 'Middle/Earth',
    ahead: 'much',
    page: 'javascript:alert(1)',
    hookPath: 'hooks',
    hookIdHeader: 'not a header',
  });
  expect(wrong.ok ? [] : wrong.problems.map(({ at }) => at).sort()).toEqual([
    'id, header',
    'its page',
    'its times run ahead by',
    'subscriptions, path',
    'zone of its times',
  ]);
});

test('objects can be worked on before the rest is right, and what is wrong among them is not lost', () => {
  const good = JSON.parse(objectExamples.http) as Record<string, object>;
  const { objects, others } = readObjects({ kind: 'http', objects: JSON.stringify({ ...good, bad: { key: 'id' } }) });
  expect([Object.keys(objects), others]).toEqual([['contacts'], { bad: { key: 'id' } }]);
  expect(readObjects({ kind: 'sql', objects: '{"a":' })).toEqual({ objects: {}, others: {} });
});

test('letters for a pennant come from the name, whatever it is', () => {
  expect(['Coldharbour ERP', 'granary', '  ', 'Ökologie-Büro Süd', '🌱 Shop'].map(lettersFor)).toEqual([
    'CE',
    'GR',
    '',
    'ÖS',
    'SH',
  ]);
});
