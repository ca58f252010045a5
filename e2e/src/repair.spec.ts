/** What failed alike is put right at once: downloaded, corrected as in a spreadsheet, and taken in again. */
import { readFileSync } from 'node:fs';
import { expect, test } from '@playwright/test';
import { address, crmPage, runNow, signIn } from './steps.js';

test('records that fail for one reason are corrected by file in their own system, and the others get it', async ({
  page,
}) => {
  await signIn(page);
  await page.goto(`${address()}/knots/customers/timing`);
  await runNow(page);
  await page.goto(`${address()}/repair?knot=customers`);
  const albion = page.getByRole('row').filter({ hasText: 'Country: no country is called' });
  await expect(albion).toContainText('Fernhill CRM');
  const [download] = await Promise.all([
    page.waitForEvent('download'),
    albion.getByRole('button', { name: /^Download/ }).click(),
  ]);
  const [header = '', ...rows] = readFileSync(await download.path(), 'utf8')
    .trim()
    .split('\n');
  expect(header.trim()).toBe('decision,record,thing,field,value there,what is wrong,corrected value');
  expect(rows.length).toBeGreaterThan(1);
  // The last column of the first record is filled in; that of the second with something that is no better.
  const filled = rows.map((row, place) => row.trimEnd() + (['Ireland', 'Avalon'][place] ?? ''));
  const keys = filled.map((row) => row.split(',')[1] ?? '');
  await albion.locator('input[type=file]').setInputFiles({
    name: 'corrected.csv',
    mimeType: 'text/csv',
    buffer: Buffer.from([header, ...filled].join('\n')),
  });
  await expect(page.getByText('1 record corrected in Fernhill CRM.')).toBeVisible();
  await expect(page.getByText(`Row 3, record ${keys[1] ?? ''}: `)).toContainText('no country is called “Avalon”');
  await page.goto(`${crmPage()}/records/${keys[0] ?? ''}`);
  await expect(page.getByLabel('Country', { exact: true })).toHaveValue('Ireland');
  await page.goto(`${address()}/repair?knot=customers`);
  await expect(albion).toContainText(String(rows.length - 1));

  await albion.getByRole('link', { name: /no country is called/ }).click();
  await expect(page.getByText('because: no country is called “…”')).toBeVisible();
  await expect(page.locator('.item')).toHaveCount(rows.length - 1);
  await page.getByRole('button', { name: 'Whatever the reason' }).click();
  await expect(page).not.toHaveURL(/reason=/);

  await page.goto(`${address()}/repair?knot=customers`);
  await albion.locator('input[type=file]').setInputFiles({
    name: 'photo.csv',
    mimeType: 'text/csv',
    buffer: Buffer.from([0x89, 0x50, 0x4e, 0x47, 0x0d, 0x0a]),
  });
  await expect(page.getByText('The file has no column')).toBeVisible();
});
