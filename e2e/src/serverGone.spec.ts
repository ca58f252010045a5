/** The server is gone for a while in the middle of the work: views say so, lose nothing, and go on by themselves. */
import { expect, test } from '@playwright/test';
import { address, signIn } from './steps.js';

const gone = 'The server cannot be reached.';

test('views and a draft go on by themselves when the server is back', async ({ page }) => {
  await signIn(page);
  const links = page.getByRole('navigation', { name: 'Views' });

  await page.route('**/api/**', (route) => route.abort());
  await links.getByRole('link', { name: 'Systems' }).click();
  await expect(page.getByText(gone)).toBeVisible();
  await page.unroute('**/api/**');
  await expect(page.getByRole('link', { name: 'Coldharbour ERP' }).first()).toBeVisible();
  await expect(page.getByText(gone)).toBeHidden();

  await page.goto(`${address()}/knots/customers/rules?field=phone`);
  const why = page.getByLabel('Why it is so');
  await why.fill('Only a caller knows');
  await page.route('**/api/**', (route) => route.abort());
  await why.blur();
  await expect(page.getByText('· not saved')).toBeVisible();
  await expect(page.getByText(gone)).toBeVisible();
  await expect(why).toHaveValue('Only a caller knows');
  await page.unroute('**/api/**');
  await expect(page.getByText('· saved')).toBeVisible();
  await expect(page.getByText(gone)).toBeHidden();
  await page.reload();
  await expect(why).toHaveValue('Only a caller knows');
  await page.getByRole('button', { name: 'Give up…' }).click();
  await page.getByRole('button', { name: 'Give it up' }).click();
});
