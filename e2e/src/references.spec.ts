/** Orders refer to customers: what a person sees of it, and how a field is made a reference by hand. */
import { expect, test } from '@playwright/test';
import { address, choose, runNow, shopPage, signIn } from './steps.js';

const shopper = '77242';

test('an order of the shop, with its lines, becomes one of the ERP, of the same customer', async ({ page }) => {
  await signIn(page);
  for (const knot of ['customers', 'orders', 'orderLines']) {
    await page.goto(`${address()}/knots/${knot}/members`);
    await runNow(page);
  }
  await page.goto(`${shopPage()}/orders/new`);
  await page.getByLabel('Shopper').fill(shopper);
  await page.getByLabel(/^Status/).fill('paid');
  await page.getByLabel(/^Lines/).fill('1020 2 135.00\n1040 1 260.00');
  await page.getByRole('button', { name: 'Save' }).click();
  const number = /\/records\/(\d+)$/.exec(page.url())?.[1] ?? '';
  expect(number).not.toBe('');

  for (const knot of ['orders', 'orderLines']) {
    await page.goto(`${address()}/knots/${knot}/members`);
    await runNow(page);
  }
  await page.goto(`${address()}/anchors?knot=orders&search=${number}`);
  await page.locator('.row a.title').first().click();
  // A list in the shop’s order, a table in the ERP: rows in the page of the order.
  await expect(page.getByRole('heading', { name: /^Order lines 2 rows$/ })).toBeVisible();
  const line = page.getByRole('row').filter({ hasText: `${number} / 1020` });
  await expect(line).toContainText('135');
  await expect(line).not.toContainText('not in');
  const customer = page.getByRole('row').filter({ hasText: 'Customer' });
  // The shop's key, the ERP's, and what both mean.
  await expect(customer).toContainText(shopper);
  await expect(customer).toContainText(/D1\d{4}/);
  const name = (await customer.getByRole('link').textContent()) ?? '';
  await customer.getByRole('link').click();
  await expect(page.getByRole('heading', { level: 1, name: name.trim() })).toBeVisible();
  await expect(page.getByRole('heading', { name: /Orders \d+ refer to it/ })).toBeVisible();
  await expect(page.getByRole('link', { name: number })).toBeVisible();
});

test('a shared field is made a reference by hand; the sample says whom it means', async ({ page }) => {
  await signIn(page);
  await page.goto(`${address()}/knots/orders/fields`);
  await page.getByRole('button', { name: 'Add a field' }).click();
  const side = page.getByRole('complementary', { name: 'The chosen cell' });
  await side.getByLabel('Name', { exact: true }).fill('Buyer');
  await choose(side.getByRole('combobox', { name: 'Type' }), /^reference/);
  await choose(side.getByRole('combobox', { name: 'Refers to' }), 'Customers');
  await page.getByRole('button', { name: /^Buyer in Market Row/ }).click();
  await side.getByRole('searchbox', { name: 'Search fields' }).fill('shopper');
  await side.getByRole('button', { name: /shopper_id/ }).click();
  // The shop knows its own shoppers: that is what is proposed, and what the sample is read by.
  await expect(side.getByRole('combobox', { name: 'It refers by' })).toHaveText(/key of the record in Market Row/);
  await expect(side.locator('.sample')).toContainText(/means\s*[A-Z][a-z]+ /);
  await choose(side.getByRole('combobox', { name: 'It refers by' }), 'Email: its value');
  await expect(side.locator('.sample')).toContainText('is not known there');
  await choose(side.getByRole('combobox', { name: 'What is not known there' }), 'is blank');
  await expect(side.locator('.sample')).not.toContainText('is not known there');
  await choose(side.getByRole('combobox', { name: 'What is not known there' }), 'is this one instead');
  await side.getByLabel('Which one').fill('Larkspur');
  await page
    .getByRole('option', { name: /Larkspur/ })
    .first()
    .click();
  await expect(side.locator('.sample')).toContainText('Larkspur');

  // Of another type again it refers to nothing.
  await page
    .getByRole('button', { name: /^Buyer/ })
    .first()
    .click();
  await choose(side.getByRole('combobox', { name: 'Type' }), 'text');
  await expect(side.getByRole('combobox', { name: 'Refers to' })).toHaveCount(0);
  await side.getByRole('button', { name: 'Remove this field' }).click();
  await expect(page.getByRole('button', { name: /^Buyer/ })).toHaveCount(0);
});

test('a team is said once to be one of the people, for all that waits for it; Tables lists it', async ({ page }) => {
  await signIn(page);
  for (const knot of ['people', 'projects']) {
    await page.goto(`${address()}/knots/${knot}/members`);
    await runNow(page);
  }
  await page.goto(`${address()}/decisions?kind=waiting&lacks=crew.north`);
  await expect(page.getByText('nothing in People is known by “crew.north” yet')).toBeVisible();
  await page.getByLabel('It is this one of People').fill('Bram');
  await page.getByRole('option', { name: 'Bram Quarrie' }).click();
  await expect(page.getByText('Bram Quarrie stands for crew.north.')).toBeVisible();
  await page.goto(`${address()}/knots/projects/members`);
  await runNow(page);
  await page.goto(`${address()}/decisions?kind=waiting&knot=projects`);
  await expect(page.getByText('crew.north')).toHaveCount(0);
  await page.goto(`${address()}/tables`);
  const row = page.getByRole('row').filter({ hasText: 'crew.north' });
  await expect(row).toContainText('Bram Quarrie');
  await row.getByRole('button', { name: 'Take back' }).click();
  await expect(row).toHaveCount(0);
  await page.getByRole('button', { name: 'Undo' }).click();
  await expect(row).toHaveCount(1);
});

test('a series of numbers is made by hand, and taken by a field', async ({ page }) => {
  await signIn(page);
  await page.goto(`${address()}/tables`);
  await page.getByRole('link', { name: 'New series' }).click();
  await page.getByLabel('Name').fill('Project numbers');
  await page.getByLabel('Prefix').fill('P');
  await page.getByLabel('Next number').fill('120');
  await expect(page.getByText('Next: P00120')).toBeVisible();
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByRole('heading', { name: 'Project numbers' })).toBeVisible();
  await page.goto(`${address()}/knots/projects/fields?field=row`);
  const side = page.getByRole('complementary', { name: 'The chosen cell' });
  await choose(side.getByRole('combobox', { name: 'Takes the next number of' }), 'Project numbers, next P00120');
  await expect(side.getByText('What has none when a system is to be told of it takes one, once.')).toBeVisible();
  await choose(side.getByRole('combobox', { name: 'Takes the next number of' }), /^no series/);
});

test('orders are grouped by their state by hand; the groups are records with how many there are', async ({ page }) => {
  await signIn(page);
  await page.goto(`${address()}/knots/orders/members`);
  await runNow(page);
  await page.goto(`${address()}/systems/counted`);
  await page.getByRole('link', { name: 'Change', exact: true }).click();
  await choose(page.getByRole('combobox', { name: 'Of the things of' }), 'Orders');
  await choose(page.getByRole('combobox', { name: 'Taken together by' }), 'Status');
  await page.getByLabel('Groups, called').fill('order states');
  await page.getByRole('combobox', { name: 'Added up' }).click();
  await page.getByRole('option', { name: 'Total', exact: true }).click();
  await page.keyboard.press('Escape');
  await page.getByRole('button', { name: 'Add the groups' }).click();
  await expect(page.getByRole('row', { name: /^order states/ })).toContainText('how many, total of Total');
  await page.getByRole('button', { name: 'Test' }).click();
  await expect(page.getByRole('heading', { name: 'It works' })).toBeVisible();
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await page.getByRole('link', { name: 'order states' }).click();
  await page.getByRole('tab', { name: /^Records/ }).click();
  const shipped = page.getByRole('row').filter({ hasText: /shipped/i });
  await expect(shipped).toContainText(/\d{2,}/);
});

test('knots are loaded one after the other: tried, looked at, done in the background', async ({ page }) => {
  await signIn(page);
  await page.goto(`${address()}/knots`);
  await page.getByRole('link', { name: 'First loads' }).click();
  const status = page.getByText(/of \d+ knots loaded/);
  await expect(status).toBeVisible();
  await page.getByRole('button', { name: /^Partner leads/ }).click();
  const step = page.locator('ak-first-load-step').filter({ hasText: 'partner leads' });
  await expect(step).toContainText('Comes after Partners. Partners is not loaded yet');
  await step.getByRole('button', { name: /^Try it/ }).click();
  await expect(step).toContainText(/Tried .*, succeeded/);
  await expect(step.getByRole('link', { name: 'See every change' })).toBeVisible();
  await page.getByRole('button', { name: /^Partners/ }).click();
  const before = page.locator('ak-first-load-step').filter({ hasText: /Bay\s*partners/ });
  await before.getByRole('button', { name: /^Load it/ }).click();
  await expect(before).toContainText(/Loaded .*, succeeded\. 64 records written/);
  await page.getByRole('button', { name: /^Partner leads/ }).click();
  await step.getByRole('button', { name: /^Load it/ }).click();
  await expect(step).toContainText(/Loaded .*, succeeded\. 90 records written/);
  await expect(step).toContainText('90 anchors, of which 90 agree');
});
