import { readFileSync } from 'node:fs';
import { systemSchema } from '@anchor-knot/contracts';
import { draftOf, emptyDraft, lettersFor, objectExamples, readDraft } from './systemDraft';

const demo = JSON.parse(readFileSync('server/demo/systems.json', 'utf8')) as Record<string, object>;

test.each(Object.keys(demo))('the description of %s survives being shown in the form and read from it', (id) => {
  const description = systemSchema.parse({ ...demo[id], ...('address' in (demo[id] as object) ? { address: 'http://127.0.0.1:4311' } : {}) });
  expect(readDraft(draftOf(description))).toEqual({ ok: true, description });
});

test('what is missing or wrong is named by what the person sees, all of it at once', () => {
  const problems = (draft: Partial<typeof emptyDraft>) => {
    const result = readDraft({ ...emptyDraft, ...draft });
    return result.ok ? [] : result.problems.map(({ at }) => at);
  };
  expect(problems({})).toEqual(['name', 'address']);
  expect(problems({ kind: 'sql', name: 'ERP', host: '', port: 'x', database: ' ' })).toEqual(['host', 'port', 'database']);
  expect(problems({ name: 'A', address: 'ftp://x.example', seconds: 'soon' })).toEqual(['address', 'time limit']);
  expect(problems({ kind: 'files', name: 'F', folder: '/in', objects: '{"a":' })).toEqual(['objects']);
  expect(problems({ kind: 'files', name: 'F', folder: '/in', objects: '{"a":{"path":"a.csv","format":"pdf","key":"id"}}' })).toEqual(['objects.a.format']);
});

test('the examples that a person starts from are right', () => {
  for (const kind of ['http', 'sql', 'files'] as const) {
    expect(readDraft({ ...emptyDraft, kind, name: 'N', address: 'https://x.example/', host: 'h', database: 'd', folder: '/in', objects: objectExamples[kind] })).toMatchObject({
      ok: true,
    });
  }
});

test('letters for a pennant come from the name, whatever it is', () => {
  expect(['Coldharbour ERP', 'granary', '  ', 'Ökologie-Büro Süd', '🌱 Shop'].map(lettersFor)).toEqual(['CE', 'GR', '', 'ÖS', 'SH']);
});
