/**
 * Runs over real HTTP and a real database: what a person does with the demo, bad input, and a knot of three members.
 */
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { filesSystemSchema } from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import { editOnPage, type Account, type CustomerData, generateCustomers, type Shopper } from '@anchor-knot/standins';
import { decide } from '../decisions/decide.js';
import type { LoadedKnot } from '../knots/knots.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

let database: TestDatabase;
const open: RealInstallation[] = [];
beforeAll(async () => {
  database = await TestDatabase.start();
});
afterEach(async () => {
  for (const installation of open.splice(0)) await installation.stop();
});
afterAll(async () => {
  await database.stop();
});

async function start(
  data: CustomerData,
  options: Parameters<typeof RealInstallation.start>[2] = {},
): Promise<RealInstallation> {
  const installation = await RealInstallation.start(database, data, options);
  open.push(installation);
  await installation.startWorker();
  return installation;
}

const clean = generateCustomers({ seed: 3, inBoth: 4, onlyCrm: 2, onlyShop: 2, mess: false });
const tallies = (run: Awaited<ReturnType<RealInstallation['run']>>) => run.progress?.tally;

async function pages(installation: RealInstallation) {
  const crm = new Map<string, string>();
  const shop = new Map<string, string>();
  for (const [address, into] of [
    [installation.addresses.crm, crm],
    [installation.addresses.shop, shop],
  ] as const) {
    for (const [, id] of (await (await fetch(address)).text()).matchAll(/href="\/records\/([^"]+)"/g))
      into.set(id as string, await (await fetch(`${address}/records/${id}`)).text());
  }
  return { crm, shop };
}

test('a dry run writes nothing and tells what the run then does; edits cross; a second run is quiet', async () => {
  const installation = await start(clean);
  const dry = await installation.run('dry run');
  expect(tallies(dry)).toMatchObject({ crm: { create: 2, update: 0 }, shop: { create: 2, update: 0 } });
  expect((await pages(installation)).crm.size).toBe(6);
  const run = await installation.run();
  expect(tallies(run)).toMatchObject({
    crm: { create: 2, written: 2, failed: 0 },
    shop: { create: 2, written: 2, failed: 0 },
  });
  await editOnPage(installation.addresses.crm, 'A-20001', { 'contact.phone': '+44 1632 960471' });
  await editOnPage(installation.addresses.shop, '77001', { address_line: 'Saltpan Lane 9' });
  expect(await installation.run()).toMatchObject({ state: 'succeeded' });
  const { crm, shop } = await pages(installation);
  expect(crm.get('A-20001')).toContain('value="Saltpan Lane 9"');
  expect(shop.get('77001')).toContain('value="01632 960471"');
  expect(tallies(await installation.run('run', { full: true }))).toMatchObject({
    crm: { create: 0, update: 0 },
    shop: { create: 0, update: 0 },
  });
});

test(
  'a conflict is held and blocks nothing else; a person’s choice is written; a stale ' + 'choice is refused',
  async () => {
    const installation = await start(clean);
    await installation.run();
    await editOnPage(installation.addresses.crm, 'A-20001', {
      'contact.phone': '01632 960001',
      'address.town': 'Thornquay',
    });
    await editOnPage(installation.addresses.shop, '77001', { tel: '01632 960002' });
    await installation.run();
    const [held] = await installation.decisions();
    expect(held).toMatchObject({ kind: 'held' });
    expect((await pages(installation)).shop.get('77001')).toContain('value="Thornquay"');
    const knot = (await installation.parts.knots.inForce('customers')) as LoadedKnot;
    const choose = (fingerprint: string, value: string) =>
      decide(
        installation.parts.data,
        knot,
        held?.id as string,
        { choose: 'value', value, fingerprint },
        'Ottilie',
        new Date(),
      );
    await editOnPage(installation.addresses.shop, '77001', { tel: '01632 960003' });
    await installation.run();
    expect(await choose(held?.fingerprint as string, '+441632960001')).toEqual({ kind: 'changed meanwhile' });
    const now = (await installation.decisions())[0];
    expect(await choose(now?.fingerprint as string, '+441632960009')).toMatchObject({ kind: 'not a choice' });
    expect(await choose(now?.fingerprint as string, '+441632960003')).toEqual({ kind: 'decided' });
    await installation.run();
    expect((await pages(installation)).crm.get('A-20001')).toContain('value="+44 1632 960003"');
    expect(await installation.decisions()).toEqual([]);
  },
);

const account = (
  id: string,
  more: Partial<Account> & { email?: string | null; phone?: string; country?: string },
): Account => ({
  id,
  name: `Company ${id}`,
  contact: {
    firstName: 'A',
    lastName: 'B',
    email: more.email === undefined ? `${id}@x.example` : more.email,
    phone: more.phone ?? null,
  },
  address: { street: null, postcode: null, town: null, country: more.country ?? null },
  segment: null,
  creditLimit: null,
  turnover: null,
  lastVisit: null,
  marketingConsent: null,
  notes: null,
  createdAt: '2026-01-01T00:00:00.000Z',
  modifiedAt: '2026-01-01T00:00:00.000Z',
  revision: 1,
  ...('name' in more ? { name: more.name as null } : {}),
  ...('notes' in more ? { notes: more.notes as string } : {}),
});
const shopper = (id: string, mail: string): Shopper => ({
  id,
  first_name: '',
  surname: '',
  company_name: `Shop ${id}`,
  mail,
  tel: '',
  address_line: '',
  post_code: '',
  city: '',
  country_code: '',
  group_id: null,
  credit_ceiling: '',
  newsletter: '',
  remark: '',
  external_ref: '',
  changed: '2026-01-01 00:00:00',
});

test(
  'bad input becomes a decision or a rejected record that says what to do, and everything ' + 'else goes on',
  async () => {
    const installation = await start({
      customers: [],
      truth: [],
      accounts: [
        account('unreadable', { phone: '01632 96O417' }),
        account('nameless', { name: null }),
        account('albion', { country: 'Albion' }),
        account('long', { notes: `🌱${'n'.repeat(4999)}` }),
        account('mailless', { email: null }),
        account('shared', { email: 'family@x.example' }),
        account('good', {}),
      ],
      shoppers: [
        shopper('77001', 'family@x.example'),
        shopper('77002', 'Family@x.example'),
        shopper('77003', 'nameless@x.example'),
      ],
    });
    const run = await installation.run();
    expect(run).toMatchObject({
      state: 'succeeded in part',
      words:
        'New since the last run: 1 rejected record, 1 record that cannot be created, 2 values that cannot be read.',
    });
    expect(await installation.run()).toMatchObject({ state: 'succeeded', words: null });
    const words = Object.fromEntries(
      (await installation.decisions()).map(({ kind, says, record_key }) => [
        `${kind} ${record_key ?? ''}`.trim(),
        says,
      ]),
    );
    expect(Object.keys(words).sort()).toEqual([
      'cannot be created',
      'duplicate 77001',
      'rejected nameless',
      'unreadable',
    ]);
    expect(words['rejected nameless']).toMatch(/the company has no name. Correct it there/);
    expect(words['duplicate 77001']).toMatch(/77001, 77002. Say which/);
    const { crm, shop } = await pages(installation);
    // Created in the shop: unreadable, albion, long and good; not for the shared email, nor twice for the rejected one,
    // nor without a mail.
    expect(shop.size).toBe(3 + 4);
    expect(crm.size).toBe(7);
    const isCut = (page: string): boolean => page.includes(`🌱${'n'.repeat(900)}`) && page.includes('…');
    expect([...shop.values()].some(isCut)).toBe(true);
    expect(tallies(await installation.run('run', { full: true }))).toMatchObject({
      crm: { create: 0, update: 0 },
      shop: { create: 0, update: 0 },
    });

    const duplicate = (await installation.decisions()).find(({ kind }) => kind === 'duplicate');
    const knot = (await installation.parts.knots.inForce('customers')) as LoadedKnot;
    expect(
      await decide(
        installation.parts.data,
        knot,
        duplicate?.id as string,
        { choose: 'record', key: '77002', fingerprint: duplicate?.fingerprint as string },
        'Ottilie',
        new Date(),
      ),
    ).toEqual({ kind: 'decided' });
    await installation.run();
    const ties = (await installation.parts.data.query(
      `select record_key from tie where member = 'shop' and record_key in ('77001', '77002')`,
    )) as unknown[];
    expect(ties).toEqual([{ record_key: '77002' }]);
    expect((await pages(installation)).shop.size).toBe(7);
  },
);

test.each<[string, (installation: RealInstallation) => Promise<unknown>, RegExp]>([
  ['a page of broken JSON', (installation) => installation.faults('shop', { brokenPages: true }), /not JSON/],
  ['a wrong secret', (installation) => installation.faults('shop', { refuseSignIn: true }), /refused the sign-in/],
  ['a system that is down', (installation) => installation.shop.close(), /cannot be reached/],
])('%s stops its member only, says so, and nothing is created there meanwhile', async (_, breakIt, says) => {
  const installation = await start(clean);
  await installation.run();
  await editOnPage(installation.addresses.crm, 'A-20001', { 'address.street': 'Weir Lane 1' });
  await breakIt(installation);
  const run = await installation.run();
  expect(run).toMatchObject({
    state: 'succeeded in part',
    troubles: [
      {
        member: 'shop',
        words: expect.stringMatching(says) as unknown as string,
        advice: expect.any(String) as unknown as string,
      },
    ],
  });
  const system = (await installation.parts.systems.all()).find(({ id }) => id === 'marketRow');
  expect(system?.trouble?.words).toMatch(says);
  if (installation.shop.server.listening) {
    await installation.faults('shop', {});
    await installation.run();
    expect((await pages(installation)).shop.get('77001')).toContain('value="Weir Lane 1"');
  }
});

test('a guard stops a run before its first write, until a person lets it pass', async () => {
  const knot: Knot = {
    ...demoKnot,
    members: demoKnot.members.map((member) => ({ ...member, guards: { creates: 1 } })),
  };
  const installation = await start(clean, { knot });
  expect(await installation.run()).toMatchObject({ state: 'stopped by a guard' });
  expect((await pages(installation)).shop.size).toBe(6);
  expect((await installation.decisions()).map(({ kind }) => kind)).toEqual(['guard', 'guard']);
  expect(await installation.run('run', { overGuards: true })).toMatchObject({ state: 'succeeded' });
  expect(await installation.decisions()).toEqual([]);
});

test(
  'a record that was deleted in one system is neither created again nor lost in the ' + 'other, and revives',
  async () => {
    let lost: Shopper | undefined;
    const installation = await start(clean, {
      prepare: (_, shop) => {
        shop.addHook('onSend', async (request, reply, payload) => {
          if (!lost || typeof payload !== 'string') return payload;
          if (request.url.startsWith('/shop/v1/shoppers/77001')) {
            reply.code(404);
            return '{"status":"error"}';
          }
          if (request.url.startsWith('/shop/v1/shoppers?'))
            return JSON.stringify(
              (JSON.parse(payload) as { shopper_id: number }[]).filter(({ shopper_id }) => shopper_id !== 77_001),
            );
          return payload;
        });
      },
    });
    await installation.run();
    lost = shopper('77001', 'x');
    expect(tallies(await installation.run())).toMatchObject({ shop: { create: 0 } });
    const gone = () =>
      installation.parts.data.query(`select gone from tie where member = 'shop' and record_key = '77001'`);
    expect(await gone()).toEqual([{ gone: true }]);
    lost = undefined;
    await installation.run();
    expect(await gone()).toEqual([{ gone: false }]);
  },
);

test('a record of which the system says that it was deleted is gone at once, without a complete listing', async () => {
  const installation = await start(clean);
  await installation.run();
  const key = (await installation.parts.data.query(
    `select record_key from tie where member = 'crm' order by record_key limit 1`,
  )) as { record_key: string }[];
  const gone = async () =>
    (await installation.parts.data.query(`select record_key from tie where member = 'crm' and gone`)) as {
      record_key: string;
    }[];
  expect(await gone()).toEqual([]);
  await fetch(`${installation.addresses.crm}/records/${key[0]?.record_key ?? ''}/delete`, {
    method: 'POST',
    redirect: 'manual',
  });
  expect(tallies(await installation.run())).toMatchObject({ crm: { create: 0, failed: 0 }, shop: { create: 0 } });
  expect(await gone()).toEqual(key);
});

test(
  'a check of unique values rejects both records, also the one that has not changed, until one of them ' +
    'is corrected',
  async () => {
    const company = {
      id: 'uniqueCompany',
      unique: 'company',
      says: 'another record has this company',
      onFail: 'reject',
      members: ['crm'],
    } as const;
    const installation = await start(clean, { knot: { ...demoKnot, checks: [...demoKnot.checks, company] } });
    await installation.run();
    const name = clean.accounts[0]?.name as string;
    await editOnPage(installation.addresses.crm, 'A-20002', { name: ` ${name} ` });
    await editOnPage(installation.addresses.shop, '77001', { city: 'Thornquay' });
    await installation.run();
    const rejected = async () =>
      (await installation.decisions()).filter(({ kind }) => kind === 'rejected').map(({ record_key }) => record_key);
    expect(await rejected()).toEqual(['A-20001', 'A-20002']);
    const { crm, shop } = await pages(installation);
    expect([crm.get('A-20001')?.includes('value="Thornquay"'), shop.get('77002')?.includes(`value="${name}"`)]).toEqual(
      [false, false],
    );
    await editOnPage(installation.addresses.crm, 'A-20002', { name: 'Another name' });
    await installation.run();
    expect(await rejected()).toEqual([]);
    const then = await pages(installation);
    expect([
      then.crm.get('A-20001')?.includes('value="Thornquay"'),
      then.shop.get('77002')?.includes('value="Another name"'),
    ]).toEqual([true, true]);
  },
);

test('a check of unique values can stop the run before it writes', async () => {
  const knot: Knot = { ...demoKnot, checks: [{ id: 'u', unique: 'company', says: 'a company twice', onFail: 'stop' }] };
  const twice = { ...clean, accounts: clean.accounts.map((one) => ({ ...one, name: 'Same' })) };
  const installation = await start(twice, { knot });
  expect(await installation.run()).toMatchObject({
    state: 'stopped by a check',
    words: expect.stringContaining('a company twice') as string,
  });
  expect((await pages(installation)).shop.size).toBe(6);
});

type Mapping = Knot['fields'][number]['mappings'][string];
type ListMapping = Pick<Mapping, 'field'> & Partial<Mapping>;

/** A knot with one member more: a list in a file, last in every order, with these mappings by shared field. */
function withList(
  knot: Knot,
  may: Knot['members'][number]['may'],
  mappings: Readonly<Record<string, ListMapping>>,
): Knot {
  const list = { id: 'list', system: 'bay', object: 'partners', may, startsAnchors: true, required: [], guards: {} };
  const unsaid = {
    direction: 'both ways',
    steps: [],
    absentMeansBlank: false,
    blankAs: 'empty text',
    drift: 'put back',
  } as const;
  return {
    ...knot,
    members: [...knot.members, list],
    fields: knot.fields.map((field) => {
      const mapping = mappings[field.id];
      const steps = field.rule.steps.map((step) =>
        step.step === 'order' ? { ...step, members: [...step.members, 'list'] } : step,
      );
      return {
        ...field,
        rule: { ...field.rule, steps },
        mappings: { ...field.mappings, ...(mapping ? { list: { ...unsaid, ...mapping } } : {}) },
      };
    }),
  };
}

/** Connects the folder of the list as the system of that member. */
async function connectBay(installation: Awaited<ReturnType<typeof start>>, folder: string): Promise<void> {
  await installation.parts.systems.save({
    id: 'bay',
    description: filesSystemSchema.parse({
      kind: 'files',
      name: 'Loading Bay',
      folder,
      objects: { partners: { path: 'list.csv', format: 'csv', key: 'no' } },
    }),
    pennant: { pattern: 'bars', colour: 'brass', letters: 'LB' },
  });
}

test(
  'a deletion has the others deleted where that may be done, shown by a dry run before; where a person ' +
    'is asked, the answer is done',
  async () => {
    const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-deleted-'));
    const path = join(folder, 'list.csv');
    const rows = clean.accounts.slice(0, 2).map(({ name, contact }, at) => `${at + 1},"${name}",${contact.email}\n`);
    writeFileSync(path, `no,firm,email\n${rows.join('')}`);
    const knotWith = (whenDeleted: 'delete' | 'ask'): Knot => {
      const members = demoKnot.members.map((member) => (member.id === 'crm' ? { ...member, whenDeleted } : member));
      const may = { create: false, update: true, delete: true };
      return withList({ ...demoKnot, members }, may, { email: { field: 'email' } });
    };
    const installation = await start(clean, { knot: knotWith('delete') });
    await connectBay(installation, folder);
    await installation.run();
    const remove = (id: string) =>
      fetch(`${installation.addresses.crm}/records/${id}/delete`, { method: 'POST', redirect: 'manual' });
    await remove('A-20001');
    expect(tallies(await installation.run('dry run'))).toMatchObject({
      list: { delete: 1 },
      shop: { update: 0, create: 0 },
    });
    expect(readFileSync(path, 'utf8')).toMatch(/^1,/m);
    expect(tallies(await installation.run())).toMatchObject({ list: { delete: 1, written: 1 } });
    expect(readFileSync(path, 'utf8')).not.toMatch(/^1,/m);
    expect((await pages(installation)).shop.has('77001')).toBe(true);
    expect(tallies(await installation.run('run', { full: true }))).toMatchObject({
      crm: { create: 0 },
      list: { delete: 0, create: 0 },
    });

    await installation.parts.knots.change({ definition: knotWith('ask'), basedOn: 1, draft: 0, note: '' }, 'test');
    await remove('A-20002');
    await installation.run();
    const [asked] = await installation.decisions();
    expect(asked).toMatchObject({ kind: 'deleted elsewhere', record_key: 'A-20002' });
    const knot = (await installation.parts.knots.inForce('customers')) as LoadedKnot;
    const choose = (follows: 'archive others' | 'delete others') =>
      decide(
        installation.parts.data,
        knot,
        asked?.id as string,
        { choose: follows, fingerprint: asked?.fingerprint as string },
        'Ottilie',
        new Date(),
      );
    expect(await choose('archive others')).toMatchObject({ kind: 'not a choice' });
    expect(await choose('delete others')).toEqual({ kind: 'decided' });
    await installation.run();
    expect(readFileSync(path, 'utf8').trim()).toBe('no,firm,email');
    expect(await installation.decisions()).toEqual([]);
  },
);

test('three members over real connectors: a CRM, a shop and a CSV file tell the same story', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-three-'));
  const path = join(folder, 'list.csv');
  writeFileSync(
    path,
    `no,firm,email,tel\n1,"${clean.accounts[0]?.name}",${clean.accounts[0]?.contact.email},\n2,Only ` +
      `here,only@here.example,01632 960999\n`,
  );
  const knot = withList(
    demoKnot,
    { create: true, update: true },
    {
      company: { field: 'firm' },
      email: { field: 'email' },
      phone: { field: 'tel', steps: [{ kind: 'phone', country: 'GB', form: 'national' }] },
    },
  );
  const installation = await start(clean, { knot });
  await connectBay(installation, folder);
  expect(tallies(await installation.run())).toMatchObject({
    crm: { create: 3 },
    shop: { create: 3 },
    list: { create: 7, update: 1, failed: 0 },
  });
  const { crm, shop } = await pages(installation);
  expect([crm.size, shop.size, readFileSync(path, 'utf8').trim().split('\n').length - 1]).toEqual([9, 9, 9]);
  await editOnPage(installation.addresses.shop, '77001', { tel: '01632 960555' });
  await installation.run();
  expect(readFileSync(path, 'utf8')).toMatch(/^1,.*,01632 960555$/m);
  expect((await pages(installation)).crm.get('A-20001')).toContain('+44 1632 960555');
  expect(tallies(await installation.run('run', { full: true }))).toMatchObject({
    crm: { update: 0 },
    shop: { update: 0 },
    list: { update: 0, create: 0 },
  });
});
