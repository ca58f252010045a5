/**
 * Which records are the same thing: weighed, decided by keyboard, undone, merged and split; and what the systems hold
 * then.
 */
import { expect, type Page, test } from '@playwright/test';
import { address, crmPage, openAnchor, runNow, shopPage, signIn, takeBack } from './steps.js';

test.describe.configure({ mode: 'serial' });

test.beforeEach(async ({ page }) => {
  page.on('pageerror', (error) => {
    throw error;
  });
  await signIn(page);
});

function numberIn(text: string | null): number {
  return Number((text ?? '').replaceAll(/[^\d.−-]/g, '').replace('−', '-'));
}
/** The value of a labelled field on a stand-in's own page. */
async function held(page: Page, system: string, key: string, label: string): Promise<string> {
  await page.goto(`${system}/records/${key}`);
  return page.getByLabel(label, { exact: true }).inputValue();
}
/** Other tests may have made other knots. */
async function runCustomers(page: Page): Promise<void> {
  await page.goto(`${address()}/knots/customers/history`);
  await runNow(page);
}
const total = async (system: string): Promise<number> =>
  Number(
    /of (\d+) records|<p>(\d+) records/
      .exec(await (await fetch(system)).text())
      ?.slice(1)
      .find(Boolean),
  );

test(
  'weights are learned from the data; moving a line changes counts and examples at once, and a ' + 'pair adds up',
  async ({ page }) => {
    await page.goto(`${address()}/knots/customers/identity`);
    await page.getByRole('button', { name: 'Learn the weights again' }).click();
    const sum = page.locator('.weighed .sum');
    await expect(sum).toContainText('that no key ties');
    await expect(page.locator('.levels').first()).toContainText(/same \+\d/);
    const asked = async () => numberIn(await sum.locator('b').nth(2).textContent());
    const before = await asked();
    const lower = page.getByRole('slider', { name: 'Ask from, in bits' });
    await lower.focus();
    for (let step = 0; step < 8; step += 1) await page.keyboard.press('ArrowLeft');
    await expect.poll(asked).toBeGreaterThan(before);
    await expect(page.locator('.key')).toContainText('−5.00 bits');
    // Tying never begins below asking.
    await page.getByRole('slider', { name: 'Tie from, in bits' }).focus();
    await page.keyboard.press('Home');
    await expect(page.locator('.key')).toContainText('tied from −5.00 bits');
    await page.getByRole('button', { name: 'Undo', exact: true }).click();
    await expect(page.locator('.key')).not.toContainText('tied from −5.00 bits');
    await page.locator('ak-pair-examples button').first().click();
    const parts = await page.locator('ak-pair-grid ak-score-share .value').allTextContents();
    const [score, ...others] = await page.locator('ak-pair-grid p .value').allTextContents();
    const hundredths = (text: string): number => Math.round(100 * numberIn(text));
    expect([...others, ...parts].reduce((all, part) => all + hundredths(part), 0)).toBe(hundredths(score ?? ''));
    await page.getByRole('button', { name: 'Give up…' }).click();
    await page.getByRole('button', { name: 'Give it up' }).click();
  },
);

/** Puts the unsure matches of other members off, so that those of the shop come first. */
async function putOffThoseOf(page: Page, member: string): Promise<void> {
  const answer = await page.request.get(`${address()}/api/decisions?kind=unsure%20match`);
  const { decisions } = (await answer.json()) as { decisions: { id: string; member: string; fingerprint: string }[] };
  const { csrfToken } = (await (await page.request.get(`${address()}/api/session`)).json()) as { csrfToken: string };
  for (const { id, member: of, fingerprint } of decisions) {
    if (of !== member) continue;
    const put = await page.request.post(`${address()}/api/knots/customers/decisions/${id}`, {
      headers: { 'x-csrf-token': csrfToken },
      data: { choose: 'later', fingerprint },
    });
    expect(put.status()).toBe(200);
  }
}

test(
  'unsure pairs are worked through by keyboard: later, back, the same, not the same; the next run does ' +
    'it in the systems',
  async ({ page }) => {
    await runCustomers(page);
    await putOffThoseOf(page, 'erp');
    await page.goto(`${address()}/decisions?kind=unsure%20match`);
    const items = page.locator('[data-decision-item]');
    const first = items.first();
    await expect(page.locator('ak-pair-grid')).toContainText('what it adds');
    const count = await items.count();
    expect(count).toBeGreaterThan(3);
    const idOf = (item: typeof first) => item.getAttribute('data-decision-item');
    const [one, two] = [(await idOf(first)) ?? '', (await idOf(items.nth(1))) ?? ''];
    const isFirst = (id: string) => expect(first).toHaveAttribute('data-decision-item', id);
    await page.keyboard.press('l');
    await isFirst(two);
    await expect(first).toBeFocused();
    await page.keyboard.press('u');
    await isFirst(one);
    await page.keyboard.press('1');
    await expect(items).toHaveCount(count - 1);
    await page.keyboard.press('u');
    await expect(items).toHaveCount(count);
    /** The keys of the records that are shown side by side, of the shop and of the CRM. */
    const keysShown = async (id: string) => {
      await expect(page.locator(`[data-decision-item="${id}"]`)).toHaveAttribute('aria-current', 'true');
      const keyOf = async (form: RegExp): Promise<string> => {
        const record = page.locator('ak-pair-grid thead a').filter({ hasText: form });
        await expect(record).toHaveCount(1);
        return (((await record.textContent()) ?? '').split(' · ')[0] ?? '').trim();
      };
      return { shop: await keyOf(/^\s*77/), crm: await keyOf(/^\s*A-/) };
    };
    const same = await keysShown(one);
    await page.keyboard.press('1');
    await isFirst(two);
    const different = await keysShown(two);
    await page.keyboard.press('2');
    await expect(items).toHaveCount(count - 2);
    const [accounts, shoppers] = [await total(crmPage()), await total(shopPage())];
    await runCustomers(page);
    // The shop had no phone of what is the same, and has the account's now; what is not the same was made whole on both
    // sides.
    const digits = (phone: string): string => phone.replaceAll(/\D/g, '').slice(-9);
    expect(digits(await held(page, shopPage(), same.shop, 'Telephone'))).toBe(
      digits(await held(page, crmPage(), same.crm, 'Phone')),
    );
    expect([await total(crmPage()), await total(shopPage())]).toEqual([accounts + 1, shoppers + 1]);
    await openAnchor(page, same.crm);
    await expect(page.locator('thead')).toContainText(same.shop);
    await expect(page.getByRole('complementary')).toContainText('somebody said that it is the same');
    await openAnchor(page, different.shop);
    await expect(page.locator('thead')).not.toContainText(different.crm);
  },
);

test('what was said is listed with who said it, and is taken back', async ({ page }) => {
  await page.goto(`${address()}/knots/customers/verdicts`);
  const rows = page.locator('tbody tr');
  await expect(rows.filter({ hasText: 'not the same as' })).not.toHaveCount(0);
  await expect(rows.first()).toContainText('Ottilie Brandt');
  const before = await rows.count();
  await rows
    .first()
    .getByRole('button', { name: /^Take back/ })
    .click();
  await expect(rows).toHaveCount(before - 1);
});

test(
  'duplicates of one system are a list of their own: one carries the tie, the other is set aside and ' +
    'taken in again',
  async ({ page }) => {
    await page.goto(`${address()}/knots/customers/identity`);
    await page.getByRole('tab', { name: 'Duplicates' }).click();
    const groups = page.locator('table').first().locator('tbody tr').filter({ hasText: 'Market Row' });
    await expect(groups.first()).toBeVisible();
    const before = await groups.count();
    const download = page.waitForEvent('download');
    await page.getByRole('link', { name: 'Save as CSV' }).click();
    expect((await download).suggestedFilename()).toBe('customers-duplicates.csv');
    const keep = groups.first().getByRole('button', { name: /^Keep record/ });
    await keep.first().click();
    await expect(groups).toHaveCount(before - 1);
    await takeBack(page);
    await expect(groups).toHaveCount(before);
    await keep.first().click();
    await expect(groups).toHaveCount(before - 1);
    await runCustomers(page);
    await page.goto(`${address()}/knots/customers/duplicates`);
    await expect(page.getByRole('heading', { name: /Set aside/ })).toBeVisible();
    const aside = page.locator('table').last().locator('tbody tr');
    const kept = await aside.count();
    await aside
      .first()
      .getByRole('button', { name: /in again/ })
      .click();
    await expect(page.getByRole('button', { name: /in again/ })).toHaveCount(kept - 1);
  },
);

test('an anchor is split as was said before, the systems hold what follows, and the parts are merged again', async ({
  page,
}) => {
  await page.goto(`${address()}/anchors?knot=customers&search=D100`);
  // One that all four systems have.
  const rows = page.locator('.row').filter({ hasText: 'A-' }).filter({ hasText: 'D100' });
  await rows.first().locator('a.title').click();
  await expect(page.getByRole('heading', { name: 'Ties' })).toBeVisible();
  const title = await page.getByRole('heading', { level: 1 }).innerText();
  for (const system of ['Coldharbour ERP', 'Granary']) await page.getByLabel(`Choose the record of ${system}`).check();
  await page.getByRole('button', { name: 'Make them a thing of their own…' }).click();
  const said = page.getByRole('group', { name: 'What the next run would do' });
  await expect(said).toContainText('would be kept out: nothing may start in Coldharbour ERP or Granary');
  await said.getByRole('button', { name: 'Untie' }).click();
  await expect(page.getByText('2 records are untied.')).toBeVisible();
  await takeBack(page);
  await expect(page.getByLabel('Choose the record of Granary')).toBeVisible();
  await expect(page.getByRole('heading', { level: 1 })).toHaveText(title);

  // Splitting the shop's record off makes two wholes, and both systems have one more.
  await openAnchor(page, 'A-20077');
  const [accounts, shoppers] = [await total(crmPage()), await total(shopPage())];
  const shopKey = /\d+/.exec(await page.locator('thead a').nth(1).innerText())?.[0] ?? '';
  await page.getByLabel('Choose the record of Market Row').check();
  await page.getByRole('button', { name: 'Untie it…' }).click();
  await expect(said).toContainText('a record would be created in Market Row');
  await expect(said).toContainText('a record would be created in Fernhill CRM');
  await said.getByRole('button', { name: 'Untie' }).click();
  await expect(page.getByText('The next run takes it as a thing of its own.')).toBeVisible();
  await page.getByRole('button', { name: 'Run now' }).first().click();
  await expect(page.locator('.sentence')).toContainText(/written/);
  expect([await total(crmPage()), await total(shopPage())]).toEqual([accounts + 1, shoppers + 1]);

  // The two have records in the same systems now: that is said, and nothing is merged.
  await openAnchor(page, 'A-20077');
  await page.getByRole('button', { name: 'merge with another anchor…' }).click();
  await page.getByLabel('Search another anchor').fill(shopKey);
  await page.getByRole('option').first().click();
  await expect(page.getByRole('complementary').getByRole('alert')).toContainText(
    'Both have a record in Fernhill CRM and Market Row',
  );
});

test('two anchors are merged as was said before, and each system gets what the other knows', async ({ page }) => {
  // An account without an email cannot be created in the shop; and nothing may be created in the CRM any more.
  await page.goto(`${address()}/knots/customers/members`);
  await page.getByLabel('create records').first().uncheck();
  await expect(page.getByText('saved')).toBeVisible();
  await page.getByLabel('Note').fill('Nothing new in the CRM');
  await page.getByRole('button', { name: 'Put in force' }).click();
  await expect(page.getByText(/Version \d+ is in force/)).toBeVisible();
  const make = async (system: string, values: Record<string, string>): Promise<string> => {
    await page.goto(`${system}/new`);
    for (const [label, value] of Object.entries(values)) await page.getByLabel(label, { exact: true }).fill(value);
    await page.getByRole('button', { name: 'Save' }).click();
    await expect(page).toHaveURL(/records\/[^/]+$/);
    return page.url().split('/').pop() ?? '';
  };
  const account = await make(crmPage(), { Company: 'Tidemark Glass' });
  const shopper = await make(shopPage(), { Company: 'Brinkwater Frames', Mail: 'office@brinkwater.example' });
  await runCustomers(page);
  await openAnchor(page, shopper);
  const old = page.url();
  await openAnchor(page, account);
  await page.getByRole('button', { name: 'merge with another anchor…' }).click();
  await page.getByLabel('Search another anchor').fill(shopper);
  await page.getByRole('option').first().click();
  const said = page.getByRole('group', { name: 'What the next run would do' });
  await expect(said).toContainText('would have 2 records');
  await expect(said).toContainText(/in Fernhill CRM .*Email “” → “office@brinkwater\.example”/);
  await said.getByRole('button', { name: 'Merge them' }).click();
  await expect(page.getByText('They are one anchor.')).toBeVisible();
  await page.getByRole('button', { name: 'Run now' }).first().click();
  await expect(page.locator('.sentence')).toContainText(/written/);
  expect(await held(page, crmPage(), account, 'Email')).toBe('office@brinkwater.example');
  expect(await held(page, crmPage(), account, 'Company')).toBe(await held(page, shopPage(), shopper, 'Company'));
  await page.goto(old);
  await expect(page.locator('thead')).toContainText(account);
  await expect(page).not.toHaveURL(old);
});
