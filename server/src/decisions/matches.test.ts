/** Matching by evidence in runs, and what people say of pairs: real systems, a real database, the API. */
import {
  type AnchorList,
  type AnchorView,
  type Decision,
  type DecisionList,
  type DuplicateList,
  type KnotDefinition,
  type MatchRecords,
  surveyLineSchema,
} from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import { generateCustomers, type Shopper } from '@anchor-knot/standins';
import { parse } from 'csv-parse/sync';
import { ApiClient } from '../testing/apiClient.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

/**
 * Nothing is created anywhere, so that what belongs together shows in the ties alone. The street of the shop is only
 * written by the knot, and is compared all the same.
 */
const knot: Knot = {
  ...demoKnot,
  members: demoKnot.members.map((member) => ({
    ...member,
    may: { create: false, update: true },
    startsAnchors: true,
    guards: {},
  })),
  fields: demoKnot.fields.map((field) => {
    const { shop } = field.mappings;
    if (field.id !== 'street' || !shop) return field;
    return { ...field, mappings: { ...field.mappings, shop: { ...shop, direction: 'to' } } };
  }),
};
const evidence = {
  fields: [
    { name: 'Company', fields: ['company'], compare: 'company name' as const },
    { name: 'Phone', fields: ['phone'], compare: 'phone' as const },
    { name: 'Street', fields: ['street'], compare: 'address' as const },
    { name: 'Postcode', fields: ['postcode'], compare: 'exact' as const },
  ],
  thresholds: { upper: 60, lower: 0 },
};
const data = generateCustomers({ seed: 12, inBoth: 80, onlyCrm: 10, onlyShop: 10, mess: false });
/** The shop knows no email, so no key ties anything. */
const shoppers = data.shoppers.map((shopper): Shopper => ({ ...shopper, mail: '' }));
const shopOf = (crm: string): string => data.truth.find((one) => one.crm.includes(crm))?.shop[0] ?? '';
const inBoth = data.truth.filter(({ crm, shop }) => crm.length === 1 && shop.length === 1);

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(database, { ...data, shoppers }, { knot });
  await installation.startWorker();
  api = await ApiClient.start(installation);
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});

const get = async <T>(path: string): Promise<T> => (await api.as('viewer', 'GET', path)).json() as T;
const post = async (path: string, body: object = {}) => {
  const answer = await api.as('operator', 'POST', path, body);
  return [answer.statusCode, (answer.json() as { says?: string }).says];
};
const unsure = async (): Promise<Decision[]> =>
  (await get<DecisionList>('/api/decisions?kind=unsure%20match')).decisions;
const tiesOf = async (key: string): Promise<string[]> => {
  const { anchors } = await get<AnchorList>(`/api/knots/customers/anchors?search=${key}`);
  return anchors.flatMap(({ ties }) => ties.map((tie) => tie.key)).sort();
};

/** Edits the draft, learns weights from the data, and puts it in force. */
async function putInForce(change: (definition: KnotDefinition) => KnotDefinition, learn: boolean): Promise<void> {
  const draft = await get<{ definition: KnotDefinition; revision: number; basedOn: number }>(
    '/api/knots/customers/draft',
  );
  const save = async (definition: KnotDefinition, revision: number) =>
    (
      (
        await api.as('editor', 'PUT', '/api/knots/customers/draft', {
          definition,
          turnedDown: [],
          revision,
          basedOn: draft.basedOn,
        })
      ).json() as { revision: number }
    ).revision;
  let definition = change(draft.definition);
  let revision = await save(definition, draft.revision);
  if (learn) {
    const lines = (await api.as('editor', 'POST', '/api/knots/customers/survey', { learn: true })).body
      .trim()
      .split('\n');
    const end = surveyLineSchema.parse(JSON.parse(lines.at(-1) ?? ''));
    if (end.kind !== 'done' || !end.identity.evidence || !definition.evidence) throw new Error('nothing was learned');
    definition = { ...definition, evidence: { ...definition.evidence, weights: end.identity.evidence.weights } };
    // Of the 160 that are in both and no key ties, each pair is counted once, and all of them are likely.
    const { bins, free } = end.identity.evidence;
    expect(free).toBe(180);
    expect(bins.filter(({ from }) => from >= 5).reduce((sum, { pairs }) => sum + pairs, 0)).toBeGreaterThanOrEqual(78);
    const [example] = bins.flatMap(({ examples }) => examples);
    expect(
      example?.score.parts.reduce(
        (sum, { adds }) => sum + Math.round(100 * adds),
        Math.round(100 * (example?.score.prior ?? 0)),
      ),
    ).toBe(Math.round(100 * (example?.score.bits ?? 0)));
    revision = await save(definition, revision);
  }
  const answer = await api.as('editor', 'PUT', '/api/knots/customers/definition', {
    definition,
    basedOn: draft.basedOn,
    draft: revision,
    note: 'test',
  });
  expect([answer.statusCode, answer.body]).toEqual([200, expect.anything()]);
}

test(
  'evidence without weights does not go into force; with them unsure pairs wait, each with its ' + 'score taken apart',
  async () => {
    const draft = await get<{ definition: KnotDefinition; basedOn: number }>('/api/knots/customers/draft');
    const refused = await api.as('editor', 'PUT', '/api/knots/customers/definition', {
      definition: { ...draft.definition, evidence },
      basedOn: draft.basedOn,
      note: '',
    });
    expect([refused.statusCode, refused.body]).toEqual([422, expect.stringContaining('let the weights be learned')]);
    await putInForce((definition) => ({ ...definition, evidence }), true);
    expect(await installation.run()).toMatchObject({ state: 'succeeded' });
    const waiting = await unsure();
    expect(waiting.length).toBeGreaterThan(70);
    const { id, key, detail } = waiting[0] as Decision;
    const [candidate] = (
      detail as unknown as {
        candidates: {
          with: { key: string };
          score: { bits: number; prior: number; parts: { adds: number }[]; texts: object[] };
        }[];
      }
    ).candidates;
    expect(shopOf(candidate?.with.key ?? '')).toBe(key);
    const { bits = 0, prior = 0, parts = [], texts } = candidate?.score ?? {};
    expect(parts.reduce((sum, { adds }) => sum + Math.round(100 * adds), Math.round(100 * prior))).toBe(
      Math.round(100 * bits),
    );
    expect(texts).toHaveLength(4);
    const side = await get<MatchRecords>(`/api/knots/customers/decisions/${id}/records`);
    expect(side.records.map((record) => [record.key, record.candidate])).toEqual([
      [key, null],
      [candidate?.with.key, 0],
    ]);
    for (const compared of ['company', 'street'])
      expect(side.fields.find((field) => field.id === compared)?.values).toEqual([
        expect.any(String),
        expect.any(String),
      ]);
  },
);

test('the thing that a record may belong to says so: in the list, and on its own page', async () => {
  const [one] = (await unsure()) as [Decision];
  const [candidate] = (one.detail as unknown as { candidates: { anchor: string; with: { key: string } }[] }).candidates;
  const { anchors } = await get<AnchorList>(`/api/knots/customers/anchors?search=${candidate?.with.key}`);
  expect(anchors.map(({ id, decisions }) => [id, decisions])).toEqual([[candidate?.anchor, 1]]);
  expect(
    (await get<AnchorView>(`/api/anchors/${candidate?.anchor}`)).decisions.map(({ id, kind }) => [id, kind]),
  ).toEqual([[one.id, 'unsure match']]);
});

test(
  'same, not the same, later, and back again: nothing happens before the next run, which does ' + 'what was said',
  async () => {
    const [first, second, third] = (await unsure()) as [Decision, Decision, Decision];
    const decide = ({ id, fingerprint }: Decision, choice: object) =>
      post(`/api/knots/customers/decisions/${id}`, { ...choice, fingerprint });
    const undo = ({ id }: Decision) => post(`/api/knots/customers/decisions/${id}/undo`);
    expect(await decide(first, { choose: 'same', candidate: 7 })).toEqual([422, 'choose one of those shown']);
    expect(await decide({ ...first, fingerprint: 'old' }, { choose: 'same', candidate: 0 })).toEqual([
      409,
      expect.stringContaining('changed'),
    ]);
    expect(await decide(third, { choose: 'later' })).toEqual([200, undefined]);
    expect([(await unsure()).at(-1)?.id, (await undo(third))[0], (await unsure())[2]?.id]).toEqual([
      third.id,
      200,
      third.id,
    ]);
    expect(await decide(first, { choose: 'same', candidate: 0 })).toEqual([200, undefined]);
    expect((await unsure()).map(({ id }) => id)).not.toContain(first.id);
    expect((await undo(first))[0]).toBe(200);
    expect((await unsure())[0]?.id).toBe(first.id);
    await decide(first, { choose: 'same', candidate: 0 });
    await decide(second, { choose: 'different' });
    await installation.run();
    expect([(await tiesOf(first.key ?? '')).length, await tiesOf(second.key ?? '')]).toEqual([2, [second.key]]);
    expect(await undo(first)).toEqual([422, expect.stringContaining('a run has begun since then')]);
    const { anchors } = await get<AnchorList>(`/api/knots/customers/anchors?search=${first.key}`);
    const { journal } = await get<AnchorView>(`/api/anchors/${anchors[0]?.id}`);
    expect(journal.flatMap((entry) => (entry.kind === 'tied' ? [[entry.key, entry.cause]] : []))).toEqual([
      [first.key, { kind: 'verdict' }],
    ]);
  },
);

test(
  'with a lower threshold the rest is tied, but for what a person said is different; and what arrives ' +
    'later finds what is tied',
  async () => {
    const apart = await separated();
    await putInForce(
      (definition) => ({
        ...definition,
        evidence: definition.evidence && { ...definition.evidence, thresholds: { upper: 5, lower: -2 } },
      }),
      false,
    );
    await installation.run();
    const wrong: string[] = [];
    let tied = 0;
    for (const { crm, shop } of inBoth.slice(0, 30)) {
      const ties = await tiesOf(shop[0] ?? '');
      if (ties.length === 2 && !ties.includes(crm[0] ?? '')) wrong.push(ties.join());
      if (ties.length === 2) tied += 1;
    }
    expect(wrong).toEqual([]);
    expect(tied).toBeGreaterThanOrEqual(27);
    expect(await tiesOf(apart)).toEqual([apart]);
    // A copy of what the CRM has, with a typing error, and without an email.
    const alone = data.truth.find(({ shop }) => shop.length === 0)?.crm[0] ?? '';
    const account = data.accounts.find(({ id }) => id === alone);
    await addShopper({
      company_name: `${account?.name ?? ''}s`,
      tel: account?.contact.phone ?? '',
      address_line: account?.address.street ?? '',
      post_code: account?.address.postcode ?? '',
    });
    await installation.run();
    expect(await tiesOf(alone)).toEqual([expect.stringMatching(/^77/), alone]);
  },
);

test(
  'a second record of one system is a duplicate: listed, exported, one is chosen, and the other can be ' +
    'taken in again',
  async () => {
    const pair = inBoth.at(-1);
    const shopper = shoppers.find(({ id }) => id === pair?.shop[0]) as Shopper;
    await addShopper({
      company_name: shopper.company_name,
      tel: shopper.tel,
      address_line: shopper.address_line,
      post_code: shopper.post_code,
      remark: '=1+1',
    });
    await installation.run();
    const list = async () => get<DuplicateList>('/api/knots/customers/duplicates');
    const { groups } = await list();
    expect(groups).toMatchObject([
      {
        member: 'shop',
        tiedKey: shopper.id,
        records: [{ key: shopper.id }, { key: expect.stringMatching(/^77/) as string }],
      },
    ]);
    const csv = parse((await api.as('viewer', 'GET', '/api/knots/customers/duplicates.csv')).body, {
      columns: true,
      bom: true,
    }) as Record<string, string>[];
    expect(csv.map(({ key, state }) => [key, state])).toEqual([
      [shopper.id, 'tied'],
      [groups[0]?.records[1]?.key, 'waits'],
    ]);
    expect(JSON.stringify(csv)).not.toMatch(/"=1/);
    const [group] = groups;
    expect(
      await post(`/api/knots/customers/decisions/${group?.decision}`, {
        choose: 'record',
        key: shopper.id,
        fingerprint: group?.fingerprint,
      }),
    ).toEqual([200, undefined]);
    await installation.run();
    const after = await list();
    expect([after.groups, after.setAside]).toMatchObject([[], [{ key: group?.records[1]?.key, person: 'operator' }]]);
    expect(
      await post('/api/knots/customers/set-aside/take-back', { member: 'shop', key: group?.records[1]?.key }),
    ).toEqual([200, undefined]);
    await installation.run('run', { full: true });
    expect((await list()).groups).toHaveLength(1);
  },
);

test(
  'two anchors become one, as was said before; the old address leads there, and splitting takes ' + 'it apart again',
  async () => {
    const apart = await separated();
    const crm = data.truth.find(({ shop }) => shop.includes(apart))?.crm[0] ?? '';
    const idOf = async (key: string) =>
      (await get<AnchorList>(`/api/knots/customers/anchors?search=${key}`)).anchors[0]?.id ?? '';
    const [to, from] = [await idOf(crm), await idOf(apart)];
    const said = (
      await api.as('viewer', 'POST', `/api/anchors/${to}/forecast`, { kind: 'merge', with: from })
    ).json() as {
      anchors: { operations: { member: string; changes: object[] }[] }[];
    };
    expect(await post(`/api/anchors/${to}/regroup`, { kind: 'merge', with: from })).toEqual([200, undefined]);
    expect(await get(`/api/anchors/${from}`)).toMatchObject({ code: 'merged', movedTo: to });
    const run = await installation.run();
    const written = Object.fromEntries(
      Object.entries(run.progress?.tally ?? {}).map(([member, { update }]) => [member, update]),
    );
    const promised = (member: string) => said.anchors[0]?.operations.filter((one) => one.member === member).length;
    expect(written).toEqual({ crm: promised('crm'), shop: promised('shop') });
    expect(await tiesOf(apart)).toEqual([apart, crm].sort());
    expect(await post(`/api/anchors/${to}/regroup`, { kind: 'split', members: ['shop'] })).toEqual([200, undefined]);
    await installation.run();
    expect([await tiesOf(apart), await tiesOf(crm)]).toEqual([[apart], [crm]]);
  },
);

/** The record that was said to be of another thing. */
async function separated(): Promise<string> {
  const { verdicts } = await get<{
    verdicts: { same: boolean; a: { member: string; key: string }; b: { member: string; key: string } }[];
  }>('/api/knots/customers/verdicts');
  const different = verdicts.findLast(({ same }) => !same) ?? verdicts.at(-1);
  return (different?.a.member === 'shop' ? different.a.key : different?.b.key) ?? '';
}

let made = 0;
/** A person makes a record in the shop. */
async function addShopper(values: Record<string, string>): Promise<void> {
  const answer = await fetch(`${installation.addresses.shop}/records`, {
    method: 'POST',
    body: new URLSearchParams({ mail: `new${(made += 1)}@x.example`, ...values }),
    redirect: 'manual',
  });
  expect(answer.status).toBe(302);
}
