/** What the demo's knot ties is counted against the truth file, through the routes that the interface uses. */
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, type Page, test } from '@playwright/test';
import { type Installation, startInstallation } from './installation.js';

interface Truth {
  readonly crm: readonly string[];
  readonly shop: readonly string[];
  readonly erp: readonly string[];
}
interface ListedAnchor {
  readonly id: string;
  readonly title: string;
  readonly ties: readonly { readonly member: string; readonly key: string }[];
}
interface Waiting {
  readonly kind: string;
  readonly member: string | null;
  readonly key: string | null;
  readonly detail: { readonly keys?: readonly string[]; readonly tiedKey?: string | null };
}

const members = ['crm', 'shop', 'erp'] as const;
let installation: Installation;
test.beforeAll(async () => {
  installation = await startInstallation('4396', '--by-hand');
});
test.afterAll(async () => {
  await installation.stop();
});

async function ask<Answer>(page: Page, path: string): Promise<Answer> {
  const answer = await page.request.get(`${installation.addressOf('Anchor Knot')}${path}`);
  expect(answer.status()).toBe(200);
  return (await answer.json()) as Answer;
}

async function allAnchors(page: Page): Promise<ListedAnchor[]> {
  const all: ListedAnchor[] = [];
  for (let rounds = 0; rounds < 50; rounds += 1) {
    const last = all.at(-1);
    const from = last ? `?${new URLSearchParams({ afterId: last.id, afterTitle: last.title }).toString()}` : '';
    const { anchors, next } = await ask<{ anchors: ListedAnchor[]; next: unknown }>(
      page,
      `/api/knots/customers/anchors${from}`,
    );
    all.push(...anchors);
    if (next === null) return all;
  }
  throw new Error('the list of anchors has no end');
}

async function askedRecords(page: Page): Promise<ReadonlySet<string>> {
  const asked = new Set<string>();
  for (let after = ''; ;) {
    const { decisions, next } = await ask<{ decisions: Waiting[]; next: string | null }>(
      page,
      `/api/decisions${after}`,
    );
    for (const { kind, member, key, detail } of decisions)
      if (kind === 'unsure match' || kind === 'duplicate')
        for (const one of [key, detail.tiedKey, ...(detail.keys ?? [])]) asked.add(`${member}/${one}`);
    if (next === null) return asked;
    after = `?after=${next}`;
  }
}

test('of the pairs that belong together nearly all are tied or asked about, and none is wrong', async ({ page }) => {
  await page.goto(installation.addressOf('Anchor Knot'));
  await page.getByLabel('Email').fill('bram@hazelmoor.example');
  await page.getByLabel('Password').fill('glasshouse-operator');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.getByRole('link', { name: 'Knots' }).click();
  await page.goto(`${installation.addressOf('Anchor Knot')}/knots/customers/members`);
  await page.getByRole('button', { name: 'Run now' }).click();
  await expect
    .poll(async () => (await ask<{ runs: { state: string }[] }>(page, '/api/runs?knot=customers')).runs[0]?.state)
    .toMatch(/^succeeded/);

  const truth = JSON.parse(readFileSync(join(installation.data, 'standins/truth.json'), 'utf8')) as Truth[];
  const customerOf = new Map<string, number>(
    truth.flatMap((one, customer) =>
      members.flatMap((member) => one[member].map((key) => [`${member}/${key}`, customer] as const)),
    ),
  );
  const anchors = await allAnchors(page);
  const anchorOf = new Map<string, string>(
    anchors.flatMap(({ id, ties }) => ties.map(({ member, key }) => [`${member}/${key}`, id])),
  );
  const asked = await askedRecords(page);
  const counted = { pairs: 0, tied: 0, asked: 0 };
  for (const one of truth) {
    const records = members.flatMap((member) => one[member].map((key) => ({ member, name: `${member}/${key}` })));
    for (const [index, a] of records.entries()) {
      for (const b of records.slice(index + 1)) {
        if (a.member === b.member) continue;
        counted.pairs += 1;
        const anchor = anchorOf.get(a.name);
        if (anchor !== undefined && anchor === anchorOf.get(b.name)) counted.tied += 1;
        else if (asked.has(a.name) || asked.has(b.name)) counted.asked += 1;
      }
    }
  }
  const wrong = anchors.filter(({ ties }) => {
    const customers = ties.flatMap(({ member, key }) => customerOf.get(`${member}/${key}`) ?? []);
    return new Set(customers).size > 1;
  });
  expect(counted.pairs).toBeGreaterThan(700);
  expect(wrong).toEqual([]);
  expect(counted.tied / counted.pairs).toBeGreaterThanOrEqual(0.9);
  expect((counted.tied + counted.asked) / counted.pairs).toBeGreaterThanOrEqual(0.95);

  // Of each order, the customer that it refers to is the one whose keys its records have.
  await page.goto(`${installation.addressOf('Anchor Knot')}/knots/orders/members`);
  await page.getByRole('button', { name: 'Run now' }).click();
  await expect
    .poll(async () => (await ask<{ runs: { state: string }[] }>(page, '/api/runs?knot=orders')).runs[0]?.state)
    .toMatch(/^succeeded/);
  const tiesOf = new Map(anchors.map(({ id, ties }) => [id, ties]));
  const { anchors: orders } = await ask<{ anchors: ListedAnchor[] }>(page, '/api/knots/orders/anchors');
  let referring = 0;
  for (const { id, title } of orders) {
    const { fields } = await ask<{ fields: OrderField[] }>(page, `/api/anchors/${id}`);
    const customer = fields.find((field) => field.id === 'customer');
    const thing = customer?.agreed?.value.$thing;
    if (!customer || thing === undefined) continue;
    const meant = (tiesOf.get(thing) ?? []).map(({ member, key }) => customerOf.get(`${member}/${key}`));
    for (const [member, { raw }] of Object.entries(customer.cells)) {
      if (raw === null) continue;
      referring += 1;
      expect([title, member, raw, meant.includes(customerOf.get(`${member}/${raw}`))]).toEqual([
        title,
        member,
        raw,
        true,
      ]);
    }
  }
  expect(referring).toBeGreaterThan(orders.length);

  // Every record that was read is in exactly one list, and the counts lead to them.
  const { runs } = await ask<{ runs: { progress: { tally: Record<string, Tally> } }[] }>(
    page,
    '/api/runs?knot=customers',
  );
  for (const [member, { read, accounts }] of Object.entries(runs[0]?.progress.tally ?? {}))
    expect([member, Object.values(accounts).reduce((sum, count) => sum + count, 0)]).toEqual([member, read]);
  await page.goto(`${installation.addressOf('Anchor Knot')}/knots/customers/records`);
  await page.getByRole('link', { name: /Untied, Coldharbour ERP/ }).click();
  await expect(page.getByRole('heading', { name: /match nothing and may start nothing/ })).toBeVisible();
  const rows = page.getByRole('table', { name: /match nothing/ }).getByRole('row');
  await expect(rows.nth(1)).toBeVisible();
  const before = await rows.count();
  await page.getByRole('button', { name: 'Set aside' }).first().click();
  await expect(rows).toHaveCount(before - 1);
  await page.getByRole('button', { name: 'Let it start a customer' }).first().click();
  await expect(rows).toHaveCount(before - 2);
});

interface OrderField {
  readonly id: string;
  readonly agreed: { readonly value: { readonly $thing?: string } } | null;
  readonly cells: Readonly<Record<string, { readonly raw: string | number | null }>>;
}

interface Tally {
  readonly read: number;
  readonly accounts: Readonly<Record<string, number>>;
}
