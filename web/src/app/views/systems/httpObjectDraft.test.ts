import { readFileSync } from 'node:fs';
import { type HttpObject, httpObjectSchema } from '@anchor-knot/contracts';
import { emptyHttpObject, httpObjectDraftOf, readHttpObject } from './httpObjectDraft';

const demo = JSON.parse(readFileSync('server/demo/systems.json', 'utf8')) as Record<
  string,
  { kind: string; objects: Record<string, HttpObject> }
>;
const objects = Object.values(demo).flatMap(({ kind, objects: all }) => (kind === 'http' ? Object.entries(all) : []));

test.each(objects)('what describes %s survives the form', (_, description) => {
  const object = httpObjectSchema.parse(description);
  expect(readHttpObject(httpObjectDraftOf(object), object)).toEqual({ object, problems: [] });
});

test('how fields are added, and pages that the form does not show, survive it', () => {
  const object = httpObjectSchema.parse({
    ...emptyHttpObject,
    recordPage: '/r/{key}',
    createField: {
      method: 'POST',
      path: '/fields',
      name: 'label',
      type: 'kind',
      types: { text: 'string', 'yes/no': 'flag' },
      answer: 'slug',
      fieldsUnder: 'custom',
    },
  });
  expect(readHttpObject(httpObjectDraftOf(object), object)).toEqual({ object, problems: [] });
  const { problems } = readHttpObject({ ...httpObjectDraftOf(object), fieldPath: 'fields', fieldName: '' }, object);
  expect(problems.map(({ at }) => at)).toEqual(['Fields, added at', 'Fields, name in']);
});

test('what is wrong is named as the form names it, all at once', () => {
  const draft = {
    ...httpObjectDraftOf(emptyHttpObject),
    key: ' ',
    listPath: 'records',
    sizeValue: 'many',
    createMethod: 'POST' as const,
  };
  expect(readHttpObject(draft, emptyHttpObject).problems.map(({ at }) => at)).toEqual([
    'Key',
    'Listed at',
    'Records a page',
    'Create at',
  ]);
  expect(readHttpObject({ ...draft, search: 'email' }, emptyHttpObject).problems).toEqual([
    { at: 'Found by', says: 'each line is a field, =, and a parameter' },
  ]);
});
