/**
 * What an administrator does first: connects a system, sees what is wrong with it, what is in it, and what changed
 * there.
 */
import { expect, test, type Page } from '@playwright/test';
import { address, choose, erpPage, signIn } from './steps.js';

test.describe.configure({ mode: 'serial' });
test.beforeEach(async ({ page }) => {
  page.on('pageerror', (error) => {
    throw error;
  });
  await signIn(page);
});

async function fault(page: Page, label: string, on: boolean): Promise<void> {
  await page.goto(`${erpPage()}/faults`);
  await page.getByLabel(label).setChecked(on);
  await page.getByRole('button', { name: 'Switch' }).click();
}

test(
  'a database is connected: what is missing is named, a wrong password too, then tables are ticked and ' +
    'a query is written',
  async ({ page }) => {
    await page.goto(`${address()}/systems`);
    const place = await page
      .getByRole('row', { name: /Coldharbour ERP/ })
      .locator('.value')
      .first()
      .textContent();
    const [, host = '', port = '', database = ''] = /^(.*):(\d+)\/(.*)$/.exec(place ?? '') ?? [];
    await page.getByRole('link', { name: 'Connect a system' }).click();
    await page.getByRole('radio', { name: /SQL database/ }).check();
    const aside = page.getByRole('complementary');
    await expect(aside).toContainText('host');
    await expect(page.getByRole('button', { name: 'Connect', exact: true })).toBeDisabled();
    await page.getByLabel('Name', { exact: true }).fill('ERP, by hand');
    await choose(page.getByLabel('Environment'), 'test copy');
    await page.getByLabel('Host').fill(host);
    await page.getByLabel('Port').fill('1');
    await page.getByRole('textbox', { name: 'Database' }).fill(database);
    await choose(page.getByLabel('TLS'), /^off/);
    await page.getByLabel('Role').fill('erp_exchange');
    await page.getByLabel('Password').fill('wrong');
    await page.getByRole('button', { name: 'Test' }).click();
    await expect(aside).toContainText('check the port');
    await page.getByLabel('Port').fill(port);
    await page.getByRole('button', { name: 'List the tables' }).click();
    await expect(page.getByRole('alert')).toContainText('password authentication failed');
    await page.getByRole('button', { name: 'Connect', exact: true }).click();
    await expect(page.getByRole('heading', { level: 1 })).toContainText('ERP, by hand');
    await expect(page.locator('header')).toContainText('test copy');
  },
);

test('a JSON interface is taken from its OpenAPI document: sign-in, address and the ticked objects', async ({
  page,
}) => {
  await page.goto(`${address()}/systems/connect`);
  const file = page.getByLabel('Take it from an OpenAPI 3 document');
  const give = (text: string) =>
    file.setInputFiles({ name: 'api.yaml', mimeType: 'application/yaml', buffer: Buffer.from(text) });
  await give('a: shopping list');
  await expect(page.getByRole('alert')).toContainText('This is no OpenAPI 3 document');
  const listed =
    '{ get: { parameters: [{ name: offset, in: query }, { name: limit, in: query }], responses: { 200: { ' +
    'content: { application/json: { schema: { type: array, items: { properties: { id: {} } } } } } } } } }';
  await give(`
openapi: 3.1.0
info: { title: Parcel tracker }
servers: [{ url: 'https://parcels.example.com/v1' }]
components: { securitySchemes: { key: { type: apiKey, in: header, name: X-Parcel-Key } } }
paths:
  /parcels: ${listed}
  '/parcels/{id}': { get: { responses: {} } }
  /vans: ${listed}
  '/vans/{van}': { get: { responses: {} } }
`);
  await page
    .getByRole('row', { name: /parcels/ })
    .getByRole('checkbox')
    .check();
  await expect(page.getByRole('row', { name: /parcels/ })).toContainText(
    'no field tells when a record was last changed',
  );
  await expect(page.getByLabel('Name', { exact: true })).toHaveValue('Parcel tracker');
  await expect(page.getByLabel('Address', { exact: true })).toHaveValue('https://parcels.example.com/v1');
  await expect(page.getByRole('textbox', { name: 'Header' })).toHaveValue('X-Parcel-Key');
  await page.getByText('As JSON', { exact: true }).last().click();
  await expect(page.getByLabel('Objects, as JSON')).toHaveValue(/"parcels": \{/);
  await expect(page.getByLabel('Objects, as JSON')).not.toHaveValue(/vans/);
  await expect(page.getByRole('button', { name: 'Connect', exact: true })).toBeEnabled();
});

test('a profile shows what the fields of an object hold; a change over there is noticed by the next one', async ({
  page,
}) => {
  await page.goto(`${address()}/systems/coldharbour`);
  await page.getByRole('button', { name: 'Profile all' }).click();
  await expect(page.getByRole('row', { name: /debtors/ })).toContainText('just now');
  await expect(page.getByRole('row', { name: /stock movements/ })).toContainText('events');
  await page.getByRole('link', { name: 'debtors' }).click();
  const country = page.getByRole('row').filter({ has: page.getByText('country', { exact: true }) });
  await expect(country).toContainText('always');
  await expect(country).toContainText('GBR');
  await fault(page, 'The phone of debtors is called telephone', true);
  await page.goto(`${address()}/systems/coldharbour/objects/debtors/history`);
  await page.getByRole('button', { name: 'Profile again' }).click();
  await expect(page.getByText('phone is gone')).toBeVisible();
  await expect(page.getByText('telephone is new (text)')).toBeVisible();
  await fault(page, 'The phone of debtors is called telephone', false);
});

test('records are paged through and found by their key or a searchable field', async ({ page }) => {
  await page.goto(`${address()}/systems/coldharbour/objects/sales lines/records`);
  await expect(page.locator('tbody tr')).toHaveCount(100);
  await page.getByRole('button', { name: 'Next' }).click();
  await expect(page.locator('tbody tr').first()).toContainText('101');
  await page.goto(`${address()}/systems/coldharbour/objects/debtors/records`);
  await page.getByRole('searchbox').fill('D10007');
  await expect(page.locator('tbody tr')).toHaveCount(1);
  await page.getByRole('searchbox').fill('nobody');
  await expect(page.getByText('No record has that key or value.')).toBeVisible();
});

test('where people see records is said by hand, and views lead there', async ({ page }) => {
  await page.goto(`${address()}/systems/granary/change`);
  await page.getByText('Where people see it').click();
  await page.getByLabel('Its page').fill('https://figures.hazelmoor.example/app');
  await page.getByLabel('Page of one record of customer figures').fill('/debtors/{key}');
  await page.getByLabel('Page of all of customer figures').fill('/debtors');
  await page.getByText('Its times:').click();
  await page.getByLabel('Zone of times that name none').fill('amst');
  await page.getByRole('option', { name: 'Europe/Amsterdam' }).click();
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page).toHaveURL(/\/systems\/granary$/);
  await page.goto(`${address()}/systems/granary/objects/customer figures/fields`);
  await expect(page.getByRole('link', { name: /all of them there/ })).toHaveAttribute(
    'href',
    'https://figures.hazelmoor.example/app/debtors',
  );
  await page.goto(`${address()}/knots/customers/members`);
  await expect(page.getByRole('link', { name: /customer figures/ })).toHaveAttribute('href', /app\/debtors$/);
  await page.goto(`${address()}/systems/granary/change`);
  await expect(page.getByText('Its times: Europe/Amsterdam')).toBeVisible();
});

test('a query stands in for an object: previewed, added, read', async ({ page }) => {
  await page.goto(`${address()}/systems/granary/change`);
  await page.getByRole('button', { name: 'Write a query' }).click();
  await page.getByLabel('Query').fill('delete from sales_fact');
  await page.getByRole('button', { name: 'Preview' }).click();
  await expect(page.getByRole('alert')).toBeVisible();
  await page
    .getByLabel('Query')
    .fill(
      'select country, sum(revenue) as revenue, max(last_sale) as last_sale from revenue_by_debtor group by country',
    );
  await page.getByRole('button', { name: 'Preview' }).click();
  await expect(page.getByRole('columnheader', { name: /revenue number/ })).toBeVisible();
  await page.getByLabel('Called').fill('revenue by country');
  await choose(page.getByRole('combobox', { name: /^Key/ }), 'country');
  await page.getByRole('button', { name: 'Add it' }).click();
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page).toHaveURL(/\/systems\/granary$/);
  await page.getByRole('link', { name: 'revenue by country' }).click();
  await page.getByRole('tab', { name: 'Records' }).click();
  await expect(page.locator('tbody tr')).toHaveCount(4);
});

test('a refused sign-in is named where the system is shown, and put right there', async ({ page }) => {
  await fault(page, 'Every sign-in is refused', true);
  await page.goto(`${address()}/systems/coldharbour`);
  await page.getByRole('button', { name: 'Test' }).click();
  await expect(page.getByRole('complementary')).toContainText(/not permitted to log in.*Check the role/s);
  await fault(page, 'Every sign-in is refused', false);
  await page.goto(`${address()}/systems/coldharbour`);
  await page.getByRole('button', { name: 'Test' }).click();
  await expect(page.getByRole('complementary')).toContainText('the same time as here');
});
