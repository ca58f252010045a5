import { readFileSync } from 'node:fs';
import { parse } from 'csv-parse/sync';
import { knotDraftSchema, knotFileSchema, type KnotDefinition } from '@anchor-knot/contracts';
import { crosswalkCsv, csvCrosswalk } from './crosswalkCsv';
import { csvFieldTable, fieldTableCsv } from './fieldTableCsv';
import { missingValues } from './missingValues';

const demo: KnotDefinition = knotDraftSchema.parse(
  knotFileSchema.parse(JSON.parse(readFileSync('server/demo/customers.knot.json', 'utf8'))).knot,
);
const table = {
  name: 'Groups',
  rows: [
    { shared: 'Growers, all', values: { crm: ['Grower | x', '=1+1'], shop: [7, 8] } },
    { shared: '@risk', values: { crm: [], shop: ['-3'] } },
    { shared: 'Zeile\n"zwei"', values: { crm: ['é'], shop: [] } },
  ],
};

describe('a crosswalk', () => {
  test('goes out and comes back; a spreadsheet takes none of its values for a formula', () => {
    const csv = crosswalkCsv(table, ['crm', 'shop']);
    for (const line of parse(csv) as string[][]) for (const cell of line) expect(cell).not.toMatch(/^[=+\-@]/);
    const back = csvCrosswalk(csv, ['crm', 'shop']);
    expect(back.ok && back.rows).toEqual([
      { shared: 'Growers, all', values: { crm: ['Grower', 'x', '=1+1'], shop: ['7', '8'] } },
      { shared: '@risk', values: { crm: [], shop: ['-3'] } },
      { shared: 'Zeile\n"zwei"', values: { crm: ['é'], shop: [] } },
    ]);
  });
  test.each([
    ['a value twice', 'shared,crm\nA,1\nB,2\nA,3\n', '“A” stands in rows 2 and 4'],
    ['a member that is none', 'shared,crm,erp\nA,1,2\n', 'no member “erp”'],
    ['no first column', 'crm\n1\n', 'called “shared”'],
    ['a row without a shared value', 'shared,crm\nA,1\n,2\n', 'Row 3'],
    ['quotes that are not closed', 'shared,crm\n"A,1\n', 'no CSV'],
    ['nothing', '', 'called “shared”'],
  ])('with %s is refused at its place', (_, text, words) => {
    const read = csvCrosswalk(text, ['crm', 'shop']);
    expect(read.ok ? '' : read.says).toContain(words);
  });
  test('values that are met and not in it are listed with their counts, the commonest first', () => {
    const sample = ['Grower, retail', 'New one', 'Rare', 'New one', '', null].map((segment) => ({ segment }));
    const reading = { members: [{ id: 'crm', sample }] } as never;
    expect(missingValues(demo, 'customerGroups', reading)).toEqual([
      { member: 'crm', value: 'New one', count: 2 },
      { member: 'crm', value: 'Rare', count: 1 },
    ]);
  });
});

describe('the table of fields', () => {
  const known = { crm: new Set(['name', 'notes', 'contact.email']) };
  const lines = (csv: string): Record<string, string>[] => parse(csv, { columns: true });

  test('goes out and comes back as it was', () => {
    const read = csvFieldTable(fieldTableCsv(demo), demo, {});
    expect(read).toMatchObject({ ok: true, changed: 0, added: 0 });
    expect(read.ok && read.fields).toEqual(demo.fields);
    expect(lines(fieldTableCsv(demo)).find(({ field }) => field === 'phone')).toMatchObject({
      'crm field': 'contact.phone',
      'erp direction': 'to',
    });
  });
  test('changes what it names and leaves the rest: steps and rules that it does not hold stay', () => {
    const read = csvFieldTable(
      'field,name,crm field,crm direction\nemail,E-mail,notes,from\nremark,Remark,name,\n',
      demo,
      known,
    );
    expect(read).toMatchObject({ ok: true, changed: 1, added: 1 });
    const fields = read.ok ? read.fields : [];
    expect(fields).toHaveLength(demo.fields.length + 1);
    const [email, before] = [fields.find(({ id }) => id === 'email'), demo.fields.find(({ id }) => id === 'email')];
    expect(email).toEqual({
      ...before,
      name: 'E-mail',
      mappings: { ...before?.mappings, crm: { ...before?.mappings.crm, field: 'notes', direction: 'from' } },
    });
    expect(fields.at(-1)).toMatchObject({
      id: 'remark',
      type: 'text',
      mappings: { crm: { field: 'name', direction: 'from', steps: [] } },
    });
    expect(csvFieldTable('field,crm field\nemail,\n', demo, known)).toMatchObject({ ok: true, changed: 1 });
  });
  test.each([
    ['a field that the system has not', 'field,crm field\nemail,nowhere\n', 'Row 2: crm has no field “nowhere”.'],
    ['a type that is none', 'field,type\nemail,colour\n', 'Row 2: “colour” is no type'],
    ['a direction that is none', 'field,crm field,crm direction\nemail,notes,back\n', '“back” is no direction'],
    [
      'steps that are none',
      'field,crm field,crm steps\nemail,notes,"[{""kind"":""magic""}]"\n',
      'the steps of crm are none',
    ],
    ['steps that are no JSON', 'field,crm field,crm steps\nemail,notes,trim\n', 'the steps of crm are no JSON'],
    ['an id twice', 'field\nemail\nemail\n', 'Row 3: “email” has a row already'],
    ['an id that is none', 'field\nE mail\n', '“E mail” is no id'],
    ['a column of no member', 'field,sap field\nemail,x\n', 'no column “sap field”'],
    ['no ids', 'name\nEmail\n', 'The column “field” is missing'],
    ['something else than CSV', 'field\n"a\n', 'no CSV'],
  ])('with %s nothing is taken, and the row is told', (_, text, words) => {
    const read = csvFieldTable(text, demo, known);
    expect(read.ok ? '' : read.problems.join('\n')).toContain(words);
  });
});
