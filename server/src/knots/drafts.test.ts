/**
 * Knots that are made and changed over the API: drafts, readings, versions, knot files; with real systems and a real
 * database.
 */
import { type Draft, knotFileSchema, type MemberSurvey, type Reading, surveyLineSchema } from '@anchor-knot/contracts';
import { generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;

beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(
    database,
    generateCustomers({ seed: 5, inBoth: 30, onlyCrm: 6, onlyShop: 4, mess: false }),
  );
  await installation.startWorker();
  api = await ApiClient.start(installation);
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});

const draftOf = async (knot: string): Promise<Draft> =>
  (await api.as('editor', 'GET', `/api/knots/${knot}/draft`)).json() as Draft;
const save = (knot: string, draft: Draft, change: object = {}) =>
  api.as('editor', 'PUT', `/api/knots/${knot}/draft`, {
    definition: { ...draft.definition, ...change },
    turnedDown: draft.turnedDown,
    revision: draft.revision,
    basedOn: draft.basedOn,
  });
const begin = async (name: string): Promise<string> => {
  const members = [
    { system: 'fernhill', object: 'accounts' },
    { system: 'marketRow', object: 'shoppers' },
  ];
  const answer = await api.as('editor', 'POST', '/api/knots', { name, thing: 'client', members });
  expect(answer.statusCode).toBe(201);
  return (answer.json() as { knot: string }).knot;
};
const read = async (knot: string, whole = false): Promise<Reading> =>
  (await api.as('viewer', 'POST', `/api/knots/${knot}/reading`, { whole })).json() as Reading;

test('records that are something else as well: a second knot, whose things refer to the same records', async () => {
  const [accounts, shoppers, people] = [
    { system: 'fernhill', object: 'accounts' },
    { system: 'marketRow', object: 'shoppers' },
    { system: 'fernhill', object: 'people' },
  ];
  const also = { name: 'Their people', thing: 'person', of: shoppers, members: [people] };
  const ask = (more: object) =>
    api.as('editor', 'POST', '/api/knots', { name: 'Firms', thing: 'firm', members: [accounts, shoppers], also: more });
  const count = async () => ((await api.as('viewer', 'GET', '/api/knots')).json() as { knots: unknown[] }).knots.length;
  const before = await count();
  const refused = await ask({ ...also, of: people });
  expect([refused.statusCode, refused.json()]).toMatchObject([
    422,
    { says: expect.stringContaining('“people” is no object') },
  ]);
  expect((await ask({ ...also, members: [{ system: 'fernhill', object: 'nothing' }] })).statusCode).toBe(422);
  expect(await count()).toBe(before);
  expect((await ask(also)).json()).toEqual({ knot: 'firms' });
  const { definition } = await draftOf('theirPeople');
  expect(definition.members.map(({ system, object }) => [system, object])).toEqual([
    ['marketRow', 'shoppers'],
    ['fernhill', 'people'],
  ]);
  const [here, there] = [definition.members[0]?.id, (await draftOf('firms')).definition.members[1]?.id];
  expect(definition.fields).toMatchObject([
    {
      ...{ name: 'Firm', type: 'reference', refersTo: 'firms' },
      mappings: {
        [here ?? '']: { field: '@key', direction: 'from', steps: [{ kind: 'reference', by: { member: there } }] },
      },
    },
  ]);
});

test('what stands instead of what is not known is kept in a draft, and given again', async () => {
  const knot = await begin('Instead');
  const instead = '0193a0de-7a11-7c00-8000-000000000001';
  const draft = await draftOf(knot);
  const [member] = draft.definition.members.map(({ id }) => id);
  const step = { kind: 'reference', by: { member: 'crm' }, notFound: { instead } };
  const field = {
    ...{ id: 'buyer', name: 'Buyer', type: 'reference', refersTo: 'customers', rule: { steps: [{ step: 'ask' }] } },
    mappings: { [member ?? '']: { field: 'name', direction: 'from', steps: [step] } },
  };
  expect((await save(knot, draft, { fields: [field] })).statusCode).toBe(200);
  const again = await draftOf(knot);
  expect(again.definition.fields[0]?.mappings[member ?? '']?.steps).toEqual([step]);
});

test(
  'a knot from nothing: begun, its fields proposed from what the systems hold, accepted, put in ' + 'force, and run',
  async () => {
    const knot = await begin('Key accounts');
    expect(knot).toBe('keyAccounts');
    const draft = await draftOf(knot);
    expect(draft).toMatchObject({
      revision: 1,
      basedOn: 0,
      definition: {
        titleField: '',
        fields: [],
        members: [{ id: 'fernhill', may: { create: true, update: true } }, { id: 'market' }],
      },
    });

    const reading = await read(knot);
    expect(reading.members.map(({ records, complete, trouble, key }) => [records, complete, trouble, key])).toEqual([
      [36, true, null, 'id'],
      [34, true, null, 'shopper_id'],
    ]);
    const proposed = Object.fromEntries(reading.proposals.map(({ cells }) => [cells[0]?.field, cells[1]?.field]));
    expect(proposed).toMatchObject({
      name: 'company_name',
      'contact.email': 'mail',
      'contact.phone': 'tel',
      'address.postcode': 'post_code',
      segment: 'group_id',
    });
    // What a system keeps for itself corresponds to nothing.
    expect(Object.keys(proposed)).not.toContain('modifiedAt');
    expect(reading.together).toHaveLength(30);
    expect(reading.together[0]?.records.fernhill).toHaveProperty('@key', expect.stringMatching(/^A-/));

    const fields = reading.proposals.map(({ id, name, type, cells }) => ({
      id,
      name,
      type,
      rule: { steps: [{ step: 'newest' }, { step: 'ask' }] },
      mappings: Object.fromEntries(
        cells.map(({ member, field, direction, steps }) => [member, { field, direction, steps }]),
      ),
    }));
    const email = reading.proposals.find(({ type }) => type === 'email')?.id ?? '';
    const crosswalks = Object.fromEntries(
      reading.proposals.flatMap(({ id, crosswalk }) => (crosswalk ? [[id, crosswalk]] : [])),
    );
    const saved = await save(knot, draft, {
      fields,
      crosswalks,
      titleField: fields[0]?.id,
      keyRules: [{ name: 'Email', fields: [{ field: email, normalise: 'email' }] }],
    });
    expect(saved.json()).toEqual({ revision: 2 });
    expect((await read(knot)).proposals).toEqual([]);

    expect((await api.as('operator', 'POST', `/api/knots/${knot}/runs`, { kind: 'run' })).statusCode).toBe(404);
    const now = await draftOf(knot);
    const put = await api.as('editor', 'PUT', `/api/knots/${knot}/definition`, {
      definition: now.definition,
      basedOn: 0,
      draft: 2,
      note: 'first',
    });
    expect(put.json()).toEqual({ version: 1, waits: false });
    expect(await draftOf(knot)).toMatchObject({ revision: 0, basedOn: 1 });
    const { progress } = await installation.run('run', { knot });
    expect(progress?.tally).toMatchObject({ fernhill: { written: 4 }, market: { written: 6 } });
  },
);

test(
  'nobody overwrites the edit of another: the second save is refused with who was first, and nothing ' +
    'of it is kept',
  async () => {
    const knot = await begin('Shared');
    const mine = await draftOf(knot);
    const theirs = await draftOf(knot);
    expect((await save(knot, mine, { name: 'Mine' })).json()).toEqual({ revision: 2 });
    const refused = await save(knot, theirs, { name: 'Theirs' });
    expect([refused.statusCode, refused.json()]).toMatchObject([
      409,
      { code: 'changed meanwhile', says: 'editor changed this draft meanwhile; your last edit was not kept.' },
    ]);
    expect((await draftOf(knot)).definition.name).toBe('Mine');
    expect((await save(knot, await draftOf(knot), { id: 'other' })).statusCode).toBe(422);
    expect((await save('nothing', mine, { id: 'nothing' })).statusCode).toBe(404);
  },
);

test('two people who begin an edit of what is in force at once: one draft, and the other is told', async () => {
  const [one, other] = [await draftOf('customers'), await draftOf('customers')];
  expect(one.revision).toBe(0);
  const answers = await Promise.all([
    save('customers', one, { name: 'One' }),
    save('customers', other, { name: 'Other' }),
  ]);
  expect(answers.map(({ statusCode }) => statusCode).sort()).toEqual([200, 409]);
  // Somebody who puts in force what he saw before the draft was begun does not bury it.
  const put = await api.as('editor', 'PUT', '/api/knots/customers/definition', {
    definition: one.definition,
    basedOn: 1,
    draft: 0,
    note: '',
  });
  expect(put.statusCode).toBe(409);
  expect((await api.as('editor', 'DELETE', '/api/knots/customers/draft')).statusCode).toBe(204);
  expect(await draftOf('customers')).toMatchObject({ revision: 0, definition: { name: 'Customers' } });
});

test('others hear of an edit as it is kept', async () => {
  const knot = await begin('Heard');
  const { cookie } = await api.once('viewer');
  const stop = new AbortController();
  const events = await fetch(`${api.address}/api/events`, { headers: { cookie }, signal: stop.signal });
  const reader = (events.body as ReadableStream<Uint8Array>).getReader();
  const told = (async () => {
    let said = '';
    while (!said.includes('"draft"')) said += new TextDecoder().decode((await reader.read()).value);
    return said;
  })();
  await save(knot, await draftOf(knot), { name: 'Heard by all' });
  expect(await told).toContain(JSON.stringify({ kind: 'draft', knot, revision: 2, by: 'editor' }));
  stop.abort();
});

test('a knot that was never in force is gone with its draft; a name that is taken gets another id', async () => {
  const [first, second] = [await begin('Twins'), await begin('Twins')];
  expect([first, second]).toEqual(['twins', 'twins2']);
  await api.as('editor', 'DELETE', `/api/knots/${second}/draft`);
  expect((await api.as('viewer', 'GET', `/api/knots/${second}`)).statusCode).toBe(404);
  const { knots } = (await api.as('viewer', 'GET', '/api/knots')).json() as {
    knots: { id: string; version: number; draft: unknown }[];
  };
  expect(knots.find(({ id }) => id === 'twins')).toMatchObject({ version: 0, draft: { changedBy: 'editor' } });
  expect(knots.find(({ id }) => id === 'customers')).toMatchObject({ draft: null });
});

test('older versions can be had again', async () => {
  const { definition } = (await api.as('viewer', 'GET', '/api/knots/customers/versions/1')).json() as {
    definition: { name: string };
  };
  expect(definition.name).toBe('Customers');
  expect((await api.as('viewer', 'GET', '/api/knots/customers/versions/99')).statusCode).toBe(404);
});

test(
  'a knot file is taken in as a draft under an id that is free; one with an unknown system says so ' + 'in its reading',
  async () => {
    const file = {
      format: 'anchor-knot',
      formatVersion: 1,
      knot: {
        ...demoKnot,
        members: demoKnot.members.map((member, index) => (index === 1 ? { ...member, system: 'elsewhere' } : member)),
      },
    };
    const answer = await api.as('editor', 'POST', '/api/knots/import', { file });
    expect([answer.statusCode, answer.json()]).toEqual([201, { knot: 'customers2' }]);
    const reading = await read('customers2');
    expect(reading.members.map(({ trouble }) => trouble)).toEqual([
      null,
      'There is no object “shoppers” in a system “elsewhere” here. Choose another one.',
    ]);
    const { definition } = await draftOf('customers2');
    const put = await api.as('editor', 'PUT', '/api/knots/customers2/definition', {
      definition,
      basedOn: 0,
      draft: 1,
      note: '',
    });
    expect([put.statusCode, put.json()]).toMatchObject([422, { problems: [{ at: 'members.shop.system' }] }]);
  },
);

test.each<[string, unknown, string]>([
  [
    'another version',
    { format: 'anchor-knot', formatVersion: 7, knot: demoKnot },
    'a knot file of version 7; version 1 is read here',
  ],
  ['something else', { hello: 'world' }, 'no knot file'],
  ['a text', 'x', 'no knot file'],
])('a knot file of %s is refused with what it is', async (_, file, words) => {
  const answer = await api.as('editor', 'POST', '/api/knots/import', { file });
  expect([answer.statusCode, (answer.json() as { says: string }).says]).toEqual([422, expect.stringContaining(words)]);
});

test('the JSON Schema of knot files is published, and describes what the reader takes', async () => {
  const schema = (await api.as('viewer', 'GET', '/api/knot-schema')).json() as {
    properties: { knot: { properties: Record<string, unknown> } };
  };
  expect(Object.keys(schema.properties.knot.properties)).toEqual(Object.keys(knotFileSchema.shape.knot.shape));
});

/** The lines of a survey, by kind. */
async function survey(knot: string) {
  const answer = await api.as('editor', 'POST', `/api/knots/${knot}/survey`, {});
  return answer.body
    .trim()
    .split('\n')
    .map((line) => surveyLineSchema.parse(JSON.parse(line)));
}

test(
  'a draft is tried on all records: who takes part, what cannot be read, who fails a check, which ' +
    'values no crosswalk knows',
  async () => {
    const draft = await draftOf('customers');
    const definition = {
      ...draft.definition,
      members: draft.definition.members.map((member) =>
        member.id === 'crm' ? { ...member, filter: 'record.name > "M"' } : member,
      ),
      crosswalks: Object.fromEntries(
        Object.entries(draft.definition.crosswalks).map(([id, table]) => [id, { ...table, rows: table.rows.slice(1) }]),
      ),
      checks: [
        { id: 'long', formula: 'length(company) > 12', says: 'too short', onFail: 'reject' },
        { id: 'once', unique: 'country', says: 'twice', onFail: 'reject', members: ['shop'] },
      ],
    };
    expect((await save('customers', draft, definition)).statusCode).toBe(200);
    const lines = await survey('customers');
    const end = lines.at(-1);
    expect(end?.kind).toBe('done');
    if (end?.kind !== 'done') return;
    // Each email is in both systems or in one; the key rules tie them before anything is written.
    const [email] = end.identity.rules;
    expect(email).toMatchObject({
      name: 'Email',
      repeated: 0,
      examples: [
        expect.stringContaining('@'),
        expect.anything(),
        expect.anything(),
        expect.anything(),
        expect.anything(),
      ],
    });
    expect(email?.ties).toBe(2 * end.identity.together);
    expect(end.identity.together).toBeGreaterThan(5);
    const members = Object.fromEntries(
      lines.flatMap((line) => (line.kind === 'member' ? [[line.member, line.survey]] : [])),
    );
    const { crm, shop } = members as Record<string, MemberSurvey>;
    const accounts = await read('customers', true);
    const names = accounts.members[0]?.sample.map(({ name }) => String(name)) ?? [];
    expect(crm).toMatchObject({
      records: names.length,
      takePart: names.filter((name) => name > 'M').length,
      filterFails: 0,
    });
    expect(crm?.outside[0]?.title).toMatch(/^[0-9A-M]/);
    expect(crm?.checks.long?.fails).toBe(names.filter((name) => name > 'M' && name.trim().length <= 12).length);
    const unknown = crm?.unknownValues ?? [];
    expect(unknown.length).toBeGreaterThan(0);
    expect(crm?.cells.group?.unreadable).toBe(unknown.reduce((sum, { count }) => sum + count, 0));
    expect(crm?.cells.group?.reasons).toEqual(
      unknown.map(({ value }) => expect.stringContaining(`“${value}”`) as unknown),
    );
    // All shoppers are in one country but a few: each of a country that is met again fails.
    expect(shop?.checks.once?.fails).toBeGreaterThan(20);
    expect(shop?.takePart).toBe(shop?.records);
    await api.as('editor', 'DELETE', '/api/knots/customers/draft');
  },
);

test('a system that cannot be reached leaves the other members readable, and says what to do', async () => {
  const knot = await begin('Half');
  await installation.shop.close();
  const reading = await read(knot, true);
  expect(reading.members[0]).toMatchObject({ trouble: null, records: 40 });
  expect(reading.members[1]?.trouble).toMatch(/Market Row/);
  expect(reading.proposals).toEqual([]);
  expect(reading.together.length).toBeGreaterThan(0);
});

test('samples are things as they are tied; before a first run, as the knot’s own rules would tie them', async () => {
  const fresh = await RealInstallation.start(
    database,
    generateCustomers({ seed: 4, inBoth: 12, onlyCrm: 2, onlyShop: 2, mess: true }),
  );
  const client = await ApiClient.start(fresh);
  await fresh.startWorker();
  const together = async () => {
    const answer = await client.as('editor', 'POST', '/api/knots/customers/reading', { whole: true });
    return (answer.json() as Reading).together.map(({ records }) => [records.crm?.id, records.shop?.shopper_id]);
  };
  const before = await together();
  expect(before.length).toBeGreaterThan(5);
  await fresh.run();
  const ties = (await fresh.parts.data.query(
    `select c.record_key as crm, s.record_key as shop from tie c join tie s using (anchor_id)
     where c.member = 'crm' and s.member = 'shop'`,
  )) as { crm: string; shop: string }[];
  const tied = new Set(ties.map(({ crm, shop }) => `${crm}/${shop}`));
  const after = await together();
  expect(after.length).toBeGreaterThan(5);
  for (const [crm, shop] of [...before, ...after]) expect(tied).toContain(`${String(crm)}/${String(shop)}`);
  await client.close();
  await fresh.stop();
});
