/** What other systems allow: a consent, subscriptions, an OData service, a folder, units, new fields. */
import { expect, test, type Page } from '@playwright/test';
import { address, choose, crmPage, editThere, erpPage, signIn } from './steps.js';

test.describe.configure({ mode: 'serial' });
test.beforeEach(async ({ page }) => {
  page.on('pageerror', (error) => {
    throw error;
  });
  await signIn(page);
});

const secretOf = (which: string): string =>
  (JSON.parse(process.env.STANDIN_SECRETS ?? '{}') as Record<string, string>)[which] ?? '';
const aside = (page: Page) => page.getByRole('complementary');
const connect = (page: Page) => page.getByRole('button', { name: 'Connect', exact: true });

test('a person gives consent at another system; it is used, noticed when it is taken back, and given again', async ({
  page,
}) => {
  await page.goto(`${address()}/systems/connect`);
  await page.getByLabel('Name', { exact: true }).fill('Fernhill by consent');
  await page.getByLabel('Address', { exact: true }).fill(crmPage());
  await choose(page.getByLabel('Sign-in'), /a person gives consent/);
  await page.getByLabel('Consent address').fill(`${crmPage()}/oidc/auth`);
  await page.getByLabel('Token address').fill(`${crmPage()}/oidc/token`);
  await page.getByLabel('Issuer').fill(`${crmPage()}/oidc`);
  await page.getByLabel('Scope').fill('accounts.read offline_access');
  await page.getByLabel('Id or key').fill('anchor-knot-crm');
  await page.getByRole('textbox', { name: 'Secret' }).fill(secretOf('crm'));
  const callback = (await page.locator('.callback code').textContent()) ?? '';
  await page.getByLabel('Object, called').fill('accounts');
  await page.getByRole('button', { name: 'Add it by hand' }).click();
  await page.getByLabel('Listed at').fill('/api/accounts');
  await page.getByLabel('Records in').fill('data');
  await page.getByLabel('Next page in').fill('nextCursor');
  await page.getByLabel('One record at').fill('/api/accounts/{key}');
  await connect(page).click();
  await expect(aside(page)).toContainText('Nobody has given it yet');

  const system = page.url();
  await page.goto(`${crmPage()}/applications`);
  await page.getByLabel('Callback address').fill(callback);
  await page.getByRole('button', { name: 'Allow this address' }).click();
  await page.goto(system);
  await page.getByRole('button', { name: 'Give consent' }).click();
  await expect(page.getByText('Read accounts, people and deals')).toBeVisible();
  await page.getByRole('button', { name: 'Deny' }).click();
  await expect(page.getByRole('alert')).toContainText('the person denied access');
  await page.goto(system);
  await page.getByRole('button', { name: 'Give consent' }).click();
  await page.getByRole('button', { name: 'Allow' }).click();
  await expect(aside(page)).toContainText('Given by Ottilie Brandt');
  await expect(aside(page)).toContainText('accounts.read');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(aside(page)).toContainText(/Read accounts.*first page: 100 records/s);

  await page.goto(`${crmPage()}/applications`);
  await page.getByRole('button', { name: 'Take all consents back' }).click();
  await page.goto(system);
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(aside(page)).toContainText('taken back');
  await expect(page.getByRole('button', { name: 'Give consent' })).toBeVisible();
  // An answer that was not asked for is not taken.
  await page.goto(`${address()}/consent?code=x&state=y`);
  await expect(page.getByRole('alert')).toContainText('belongs to no consent');
});

test(
  'a system is subscribed to; what happens there is shown here, and a subscription that was switched ' +
    'off is put right',
  async ({ page }) => {
    await page.goto(`${address()}/systems/fernhill`);
    await page.getByRole('button', { name: 'Subscribe to accounts' }).click();
    await expect(aside(page)).toContainText(/accounts\s*working/);
    await page.goto(crmPage());
    const key = (await page.locator('tbody tr td a').first().textContent()) ?? '';
    await editThere(page, crmPage(), key, 'Town', 'Ashcombe-by-Sea');
    await page.goto(`${crmPage()}/webhooks`);
    await page.getByRole('button', { name: 'Switch off' }).click();
    await page.goto(`${address()}/systems/fernhill`);
    await expect(aside(page)).toContainText('1 delivery');
    await page.getByRole('button', { name: 'What came' }).click();
    await expect(aside(page)).toContainText(`"id":"${key}"`);
    await page.getByRole('button', { name: 'See whether they are in order there' }).click();
    await expect(aside(page)).toContainText('It was switched off there, and was made anew.');
    await page.getByRole('button', { name: 'End it' }).click();
    await expect(aside(page)).toContainText('To nothing.');
  },
);

test('an OData service says what it has; its entity sets are ticked, and its records are read', async ({ page }) => {
  await page.goto(`${address()}/systems/connect`);
  await page.getByRole('radio', { name: /OData/ }).check();
  await page.getByLabel('Name', { exact: true }).fill('ERP service');
  await page.getByLabel('Address', { exact: true }).fill(erpPage());
  await choose(page.getByLabel('Sign-in'), /key and secret/);
  await page.getByLabel('Id or key').fill('erp_exchange');
  await page.getByRole('textbox', { name: 'Secret' }).fill(secretOf('erp'));
  await page.getByRole('button', { name: 'List the entity sets' }).click();
  await expect(page.getByRole('alert')).toContainText('root of an OData v4 service');
  await page.getByLabel('Address', { exact: true }).fill(`${erpPage()}/odata`);
  await page.getByRole('button', { name: 'List the entity sets' }).click();
  await page.getByRole('checkbox', { name: 'Articles' }).check();
  const foundBy = page.getByRole('textbox', { name: 'Articles is found by' });
  await foundBy.fill('Descripton');
  await foundBy.blur();
  await expect(page.getByText('It has no property “Descripton”')).toBeVisible();
  await foundBy.fill('Description');
  await foundBy.blur();
  await expect(page.getByRole('row', { name: /Staff/ })).toContainText('read only');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(aside(page)).toContainText('may create and update');
  await connect(page).click();
  await page.getByRole('link', { name: 'Articles' }).click();
  await page.getByRole('tab', { name: 'Records' }).click();
  await page.getByRole('searchbox').fill('Roof vent 8 ft');
  await expect(page.locator('tbody tr')).toHaveCount(1);
});

test('units are asked for, one is chosen, and a field is added there', async ({ page }) => {
  await page.goto(`${address()}/systems/pegline/change`);
  await page.getByRole('button', { name: /^Unit: / }).click();
  await page.getByRole('button', { name: 'Ask which there are' }).click();
  await choose(page.getByLabel('Work in'), 'Practice boards');
  await page.getByRole('button', { name: 'Save' }).click();
  await page.getByRole('link', { name: 'projects', exact: true }).click();
  await page.getByRole('tab', { name: 'Records' }).click();
  await expect(page.locator('tbody tr').first()).toContainText('Practice: ');
  await page.getByRole('button', { name: 'Add a field there' }).click();
  await page.getByRole('textbox', { name: 'Name' }).fill('Glass area');
  await choose(page.getByRole('combobox', { name: 'Type' }), 'number');
  await page.getByRole('button', { name: 'Add it in Pegline Boards' }).click();
  await page.getByRole('dialog').getByRole('button', { name: 'Add it' }).click();
  await expect(page.getByText('Added as “cells.glass_area”')).toBeVisible();
  await page.getByRole('tab', { name: 'Fields' }).click();
  await page.getByRole('button', { name: /^Profile/ }).click();
  await expect(page.getByText('cells.glass_area')).toBeVisible();
});
