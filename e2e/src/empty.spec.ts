/** The first hour: from an empty installation to a connected and profiled system. */
import { expect, test } from '@playwright/test';
import { type Installation, startInstallation } from './installation.js';
import { choose } from './steps.js';

let installation: Installation;
test.beforeAll(async () => {
  installation = await startInstallation(process.env.E2E_EMPTY_PORT ?? '4391', '--empty');
});
test.afterAll(async () => installation.stop());

test('from nothing to a folder of files that is connected, corrected and profiled', async ({ page }) => {
  page.on('pageerror', (error) => {
    throw error;
  });
  await page.goto(`${installation.addressOf('Anchor Knot')}/systems`);
  await page.getByLabel('Email').fill('ottilie@hazelmoor.example');
  await page.getByLabel('Password').fill('glasshouse-admin');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page).toHaveURL(/\/systems$/);
  await page.getByRole('link', { name: 'Connect a system' }).first().click();
  await page.getByRole('radio', { name: /Folder of files/ }).check();
  await page.getByLabel('Name', { exact: true }).fill('Loading Bay');
  const folder = page.getByLabel('Folder', { exact: true });
  await folder.fill('/etc');
  await page.getByRole('button', { name: 'List the files' }).click();
  await expect(page.getByRole('alert')).toContainText('may not read');
  await folder.fill(`${installation.data}/loading-bay`);
  await page.getByRole('button', { name: 'List the files' }).click();
  const partners = page.getByRole('row', { name: /partners\.csv/ });
  await expect(partners).toContainText('CSV, semicolon, windows-1252');
  await partners.getByRole('checkbox').check();
  await expect(page.getByRole('row', { name: /partner-prices\.xlsx/ })).toContainText('sheet “Partner prices”');
  // What was recognised can be corrected, and is seen at once.
  await partners.getByRole('button', { name: 'Look' }).click();
  const preview = page.getByRole('region', { name: 'partners.csv' });
  await expect(preview).toContainText('Ansprechpartner');
  await choose(preview.getByLabel('Encoding'), 'utf-16le');
  await expect(preview).not.toContainText('Ansprechpartner');
  await choose(preview.getByLabel('Encoding'), 'windows-1252');
  await expect(preview).toContainText('64 rows');
  // Deliveries: one file stands for all that come.
  const leads = page.getByRole('row', { name: /leads-2026-11-06/ });
  await leads.getByRole('checkbox').check();
  await leads.getByRole('button', { name: 'Look' }).click();
  await choose(page.getByLabel('The folder brings'), /^deliveries/);
  await expect(page.getByLabel('Files, * stands for anything')).toHaveValue('leads/leads-*.csv');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(page.getByRole('complementary')).toContainText('It works');
  await page.getByRole('button', { name: 'Connect', exact: true }).click();
  await page.getByRole('button', { name: 'Profile all' }).click();
  await expect(page.getByRole('row', { name: /leads/ })).toContainText('90');
  await page.getByRole('link', { name: 'partners' }).click();
  await expect(page.getByRole('row').filter({ has: page.getByText('Nummer', { exact: true }) })).toContainText(
    'always',
  );
});
