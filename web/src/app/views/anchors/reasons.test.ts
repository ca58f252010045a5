import type { AnchorView, JournalEntry } from '@anchor-knot/contracts';
import { reasonsOf } from './reasons';

const at = '2026-11-23T10:00:00Z';
const view = (journal: JournalEntry[]): AnchorView =>
  ({
    journal,
    fields: [
      { id: 'town', name: 'Town' },
      { id: 'phone', name: 'Phone' },
    ],
    members: [
      { id: 'crm', systemName: 'Fernhill CRM' },
      { id: 'shop', systemName: 'Market Row' },
    ],
  }) as unknown as AnchorView;
const lines = (journal: JournalEntry[]) => reasonsOf(view(journal)).map(({ title, text }) => `${title} | ${text}`);
const record = { id: '1', run: 'r1', at, key: 'A-1' };
const edit = { kind: 'edit' as const, members: ['crm'] };
const person = { kind: 'person' as const, name: 'Vera Lindqvist', over: [] };
const written = {
  ...record,
  kind: 'update' as const,
  before: null,
  after: 'Thornquay',
  meaning: 'Thornquay',
  cause: edit,
};

test('what one run wrote of a field into several systems is one line, another value another', () => {
  const update = { ...written, field: 'town' };
  expect(
    lines([
      { ...update, member: 'crm' },
      { ...update, id: '2', member: 'shop' },
      { ...update, id: '3', member: 'shop', after: 'Ashcombe', meaning: 'Ashcombe' },
      { ...update, id: '4', member: 'shop', run: 'r2' },
    ]),
  ).toEqual([
    'Town: blank → Thornquay | edited in Fernhill CRM · written to Fernhill CRM and Market Row',
    'Town: blank → Ashcombe | edited in Fernhill CRM · written to Market Row',
    'Town: blank → Thornquay | edited in Fernhill CRM · written to Market Row',
  ]);
});

test('a created record is one line with its number of fields; what is tied, lost, chosen or gone says so', () => {
  const created = { ...written, kind: 'create' as const, member: 'shop', key: '77001' };
  expect(
    lines([
      { ...created, field: 'town' },
      { ...created, id: '2', field: 'phone' },
      { ...record, id: '3', run: null, kind: 'untied', member: 'crm', cause: person },
      { ...record, id: '4', kind: 'tied', member: 'crm', cause: { kind: 'verdict' } },
      { id: '5', run: 'r1', at, kind: 'lost', member: null, field: 'phone', meaning: '+441632960001', cause: person },
      { id: '6', run: null, at, kind: 'chosen', field: 'phone', meaning: '+441632960002', cause: person },
      { ...record, id: '7', kind: 'gone', member: 'shop' },
      { ...record, id: '8', kind: 'archive', member: 'crm', cause: { kind: 'deleted', member: 'shop' } },
    ]),
  ).toEqual([
    'Created in Market Row | record 77001, 2 fields',
    'Untied by hand in Fernhill CRM | record A-1 · chosen by Vera Lindqvist',
    'Tied in Fernhill CRM | record A-1 · somebody said that it is the same',
    'Phone: “+441632960001” lost | what was agreed · chosen by Vera Lindqvist',
    'Phone: “+441632960002” chosen | chosen by Vera Lindqvist',
    'Gone in Market Row | record A-1',
    'Archived in Fernhill CRM | record A-1 · deleted in Market Row',
  ]);
});
