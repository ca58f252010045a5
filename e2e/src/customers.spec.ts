/** What a person does with the demo, from the first sign-in to a settled conflict, in order and on one installation. */
import { readFileSync } from 'node:fs';
import { expect, test } from '@playwright/test';
import { address, choose, crmPage, editThere, openAnchor, runNow, shopPage, signIn, takeBack } from './steps.js';

test.describe.configure({ mode: 'serial' });

test.beforeEach(async ({ page }) => {
  page.on('pageerror', (error) => {
    throw error;
  });
  await signIn(page);
});

const cell = (field: string, member: string): string => `tr[data-field="${field}"] td[data-member="${member}"]`;

test('before anything ran, Watch says so and leads to a dry run that writes nothing', async ({ page }) => {
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Nothing is tied yet');
  await page.getByRole('link', { name: 'Customers' }).click();
  await expect(page.locator('tr[data-field]')).toHaveCount(18);
  await expect(page.locator(cell('phone', 'shop'))).toContainText('both ways');
  await page.getByRole('button', { name: 'Dry run' }).click();
  await expect(page.locator('.sentence')).toContainText(
    /records would be created .* in Fernhill CRM; .* in Market Row/,
  );
  await expect(page.locator('[data-count="crm-create"]')).toHaveText('67');
  await expect(page.locator('[data-count="shop-waiting"]')).toHaveText('8');
  await expect(page.locator('.changes tbody').first()).toContainText('planned');
  await choose(page.getByLabel('Kind'), 'create');
  await expect(page.locator('.filters small')).toHaveText('216 records');
  const total = async (system: string) =>
    (await (await fetch(system)).text())
      .match(/of (\d+) records|<p>(\d+) records/)
      ?.slice(1)
      .find(Boolean);
  expect([await total(crmPage()), await total(shopPage())]).toEqual(['400', '322']);
});

test('a run shows its progress, then its counts, and soon there is nothing more to do', async ({ page }) => {
  await runNow(page);
  // Other tests may have edited a record there before.
  await expect(page.locator('.sentence')).toContainText(/88[0-4] records written\./);
  await expect(page.locator('[data-count="shop-written"]')).toHaveText(/^\s*20\d\s*$/);
  await page.getByRole('link', { name: 'Watch' }).click();
  await expect(page.getByRole('heading', { level: 1 })).toHaveText(/^\s*4[45]\d of 467 things agree everywhere\s*$/);
  // Two shoppers waited while a rival of theirs was free; it is tied now, and so are they.
  await runNow(page);
  await page.getByRole('link', { name: 'Watch' }).click();
  await runNow(page);
  await expect(page.locator('.sentence')).toContainText('nothing to write');
});

test('edits on both sides cross, and the anchor shows who says what and why', async ({ page }) => {
  await editThere(page, crmPage(), 'A-20051', 'Phone', '+44 1632 960471');
  await editThere(page, shopPage(), '77051', 'Address line', 'Saltpan Lane 9');
  await page.goto(`${address()}/watch`);
  await runNow(page);
  await openAnchor(page, 'A-20051');
  await expect(page.locator(cell('phone', 'shop'))).toContainText('01632 960471');
  await expect(page.locator(cell('street', 'crm'))).toContainText('Saltpan Lane 9');
  await expect(page.getByRole('complementary')).toContainText('edited in Market Row · written to Fernhill CRM');
  await page.goto(`${crmPage()}/records/A-20051`);
  await expect(page.getByLabel('Street')).toHaveValue('Saltpan Lane 9');
});

test('a conflict is held, blocks nothing else, and is settled by one key', async ({ page }) => {
  await editThere(page, crmPage(), 'A-20051', 'Phone', '+44 1632 960111');
  await editThere(page, shopPage(), '77051', 'Telephone', '01632 960222');
  await editThere(page, shopPage(), '77051', 'City', 'Thornquay');
  await page.goto(`${address()}/watch`);
  await runNow(page);
  await openAnchor(page, '77051');
  await expect(page.locator(cell('town', 'crm'))).toContainText('Thornquay');
  await expect(page.locator(cell('phone', 'crm'))).toContainText('held');
  await expect(page.getByRole('button', { name: /stay with what was agreed/ })).toBeVisible();
  await page.keyboard.press('2');
  await expect(page.getByText('Decided. The next run acts on it.')).toBeVisible();
  await page.getByRole('button', { name: 'Run now' }).last().click();
  await expect(page.locator('.sentence')).toContainText(/written/);
  await openAnchor(page, '77051');
  await expect(page.locator(cell('phone', 'crm'))).toContainText('+44 1632 960222');
  await expect(page.getByRole('complementary')).toContainText('chosen by Ottilie Brandt');
});

test('decisions are walked by keyboard, and a duplicate is settled', async ({ page }) => {
  await page.keyboard.press('g');
  await page.keyboard.press('d');
  await expect(page).toHaveURL(/\/decisions/);
  await choose(page.getByLabel('Kind'), /duplicates/);
  const duplicates = page.locator('[data-decision-item]');
  await expect(duplicates).toHaveCount(6);
  await page.getByRole('heading', { level: 1 }).click();
  await page.keyboard.press('j');
  await page.keyboard.press('1');
  await expect(duplicates).toHaveCount(5);
  await page.keyboard.press('Control+k');
  await page.getByRole('dialog').getByRole('combobox').fill('A-20051');
  await expect(page.getByRole('option').first()).toContainText('Customers');
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/\/anchors\//);
});

test('a record is untied by hand, with what would follow said before, and tied again', async ({ page }) => {
  await openAnchor(page, 'A-20051');
  await expect(page.locator('header small')).toContainText('ties');
  const ties = await page.locator('header small').innerText();
  await page.getByLabel('Choose the record of Market Row').check();
  await page.getByRole('button', { name: 'Untie it…' }).click();
  const asked = page.getByRole('group', { name: 'What the next run would do' });
  await expect(asked).toContainText(
    /77\d+ would be a customer of its own, “.+”: a record would be created in Fernhill CRM\./,
  );
  await expect(asked).toContainText('a record would be created in Market Row');
  await asked.getByRole('button', { name: 'Untie' }).click();
  await expect(page.getByText('The next run takes it as a thing of its own.')).toBeVisible();
  await expect(page.getByRole('button', { name: 'Tie a record of Market Row' })).toBeVisible();
  await takeBack(page);
  await expect(page.locator('header small')).toContainText(ties.split(' · ')[1] ?? 'ties');
  await expect(page.getByRole('complementary')).toContainText('Untied by hand in Market Row');
  await page
    .getByRole('button', { name: /^Tie a record of/ })
    .first()
    .click();
  await page.getByLabel('Key of the record').fill('nothing');
  await page.getByRole('button', { name: 'See what would follow' }).click();
  await expect(page.getByRole('complementary').getByRole('alert')).toContainText(
    'There is no record nothing in that system.',
  );
});

test('the draft is edited as JSON: what cannot be taken is named, a good change becomes a version', async ({
  page,
  context,
}) => {
  await context.grantPermissions(['clipboard-read', 'clipboard-write']);
  // What the ties and decisions before still owe is written first, so that what follows is of the version alone.
  await page.goto(`${address()}/knots/customers/watch`);
  await runNow(page);
  await page.goto(`${address()}/knots/customers/definition`);
  const editor = page.getByLabel('Definition as JSON');
  await editor.click();
  const replaceAll = async (change: (text: string) => string): Promise<void> => {
    const definition = await page.evaluate(async () =>
      JSON.stringify(
        ((await (await fetch('/api/knots/customers')).json()) as { definition: unknown }).definition,
        null,
        2,
      ),
    );
    await page.evaluate((text) => navigator.clipboard.writeText(text), change(definition));
    await page.keyboard.press('Control+a');
    await page.keyboard.press('Control+v');
  };
  await replaceAll((text) => text.replace('"type": "choice"', '"type": "colour"'));
  await expect(page.getByText('What cannot be taken into the draft')).toBeVisible();
  await replaceAll((text) => text.replace('"table": "customerGroups"', '"table": "nothing"'));
  await expect(page.getByText('there is no crosswalk “nothing”').first()).toBeVisible();
  await expect(page.getByRole('button', { name: 'Put in force' })).toBeDisabled();
  await replaceAll((text) => text.replace('"name": "Town"', '"name": "Town or city"'));
  await expect(page.getByText('Nothing.', { exact: false }).first()).toBeVisible();
  await page.getByLabel('Note').fill('Say city too');
  await page.getByRole('button', { name: 'Put in force' }).click();
  await expect(page.getByText('Version 2 is in force.')).toBeVisible();
  await expect(page.getByText('version 2 in force')).toBeVisible();
  // The duplicate that was kept was tied before; under the new version nothing looks edited.
  await runNow(page);
  await expect(page.locator('.sentence')).toContainText('nothing to write');
});

test('a system in trouble is named with what to do, and everything else goes on', async ({ page }) => {
  await page.goto(`${shopPage()}/faults`);
  await page.getByLabel('Every sign-in is refused').check();
  await page.getByRole('button', { name: 'Switch' }).click();
  await page.goto(`${address()}/watch`);
  await page.getByRole('button', { name: 'Run now' }).first().click();
  await expect(page.locator('.banner').first()).toContainText('Market Row refused the sign-in');
  await page.goto(`${address()}/systems`);
  await expect(page.getByRole('row', { name: /Market Row/ })).toContainText('sign-in refused');
  await page.goto(`${shopPage()}/faults`);
  await page.getByLabel('Every sign-in is refused').uncheck();
  await page.getByRole('button', { name: 'Switch' }).click();
});

test('records that fail for one reason are corrected by file in their own system', async ({ page }) => {
  await page.goto(`${address()}/repair`);
  const unread = page.getByRole('row').filter({ hasText: 'Country: no country is called' });
  await expect(unread).toContainText('Fernhill CRM');
  const [download] = await Promise.all([
    page.waitForEvent('download'),
    unread.getByRole('button', { name: /^Download/ }).click(),
  ]);
  const [header = '', ...rows] = readFileSync(await download.path(), 'utf8')
    .trim()
    .split('\n');
  expect(header.trim()).toBe('decision,record,thing,field,value there,what is wrong,corrected value');
  expect(rows.length).toBeGreaterThan(1);
  // The last column of the first record is filled in; that of the second with something that is no better.
  const filled = rows.map((row, place) => row.trimEnd() + (['Ireland', 'Avalon'][place] ?? ''));
  const [first = '', second = ''] = filled.map((row) => row.split(',')[1] ?? '');
  const take = async (text: string) =>
    unread.locator('input[type=file]').setInputFiles({
      name: 'corrected.csv',
      mimeType: 'text/csv',
      buffer: Buffer.from(text),
    });
  await take([header, ...filled].join('\n'));
  await expect(page.getByText('1 record corrected in Fernhill CRM.')).toBeVisible();
  await expect(page.getByText(`Row 3, record ${second}: `)).toContainText('no country is called “Avalon”');
  await page.goto(`${crmPage()}/records/${first}`);
  await expect(page.getByLabel('Country', { exact: true })).toHaveValue('Ireland');
  await page.goto(`${address()}/repair`);
  await take('no table');
  await expect(page.getByText('The file has no column')).toBeVisible();
  await unread.getByRole('link', { name: /no country is called/ }).click();
  await expect(page.getByText('because: no country is called “…”')).toBeVisible();
  await expect(page.locator('.item')).toHaveCount(rows.length - 1);
  await page.getByRole('button', { name: 'Whatever the reason' }).click();
  await expect(page).not.toHaveURL(/reason=/);
});

test('a viewer may look and not run; signing out leads back; a deep link survives the sign-in', async ({
  page,
  context,
}) => {
  await page.getByRole('button', { name: 'Sign out' }).click();
  await expect(page).toHaveURL(/sign-in/);
  await context.clearCookies();
  await signIn(page, 'viewer');
  await expect(page.getByRole('button', { name: 'Run now' })).toHaveCount(0);
  await context.clearCookies();
  await page.goto(`${address()}/knots/customers/members`);
  await page.getByLabel('Email').fill('wren@hazelmoor.example');
  await page.getByLabel('Password').fill('wrong');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page.getByRole('alert')).toContainText('The email or the password is wrong');
  await page.getByLabel('Password').fill('glasshouse-viewer');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page).toHaveURL(/knots\/customers\/members/);
});
