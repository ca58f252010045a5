/** The demo as a stranger has it: after the first run by hand, things cross by themselves; when, is set by hand. */
import { expect, type Page, test } from '@playwright/test';
import { type Installation, startInstallation } from './installation.js';
import { choose, editThere, pick, runNow } from './steps.js';

let installation: Installation;
test.beforeAll(async () => {
  installation = await startInstallation('4394');
});
test.afterAll(async () => {
  await installation.stop();
});

const open = async (page: Page, path: string): Promise<void> => {
  await page.goto(installation.addressOf('Anchor Knot') + path);
};

const signedIn = async (page: Page, path: string): Promise<void> => {
  await open(page, path);
  await page.getByLabel('Email').fill('ottilie@hazelmoor.example');
  await page.getByLabel('Password').fill('glasshouse-admin');
  await page.getByRole('button', { name: 'Sign in' }).click();
};

test('what is edited in a system crosses by itself, once somebody has seen a run; when, is set by hand', async ({
  page,
}) => {
  await signedIn(page, '/knots/customers/timing');
  await expect(page.locator('.sentence')).toContainText(
    'Runs as soon as Fernhill CRM or Market Row tells of a change, asks Coldharbour ERP every minute',
  );
  await expect(page.getByText('Nothing runs by itself yet.')).toBeVisible();
  await page.getByRole('button', { name: 'Run now' }).click();
  await expect(page.locator('.sentence')).toContainText(/written\./);

  await editThere(page, installation.addressOf('Fernhill CRM'), 'A-20051', 'Phone', '+44 1632 960471');
  await page.goto(`${installation.addressOf('Market Row')}/records/77051`);
  await expect(async () => {
    await page.reload();
    await expect(page.getByLabel('Telephone')).toHaveValue(/960471/, { timeout: 500 });
  }).toPass();
  await open(page, '/runs');
  await expect(page.getByRole('row').filter({ hasText: 'an event' }).first()).toContainText(/written\./);

  await open(page, '/knots/customers/timing');
  await choose(page.getByRole('combobox', { name: 'How changes of Fernhill CRM are noticed' }), 'by asking it');
  await choose(page.getByLabel('What changed is asked for'), 'by a cron expression');
  const expression = page.getByLabel('Expression: minute hour day month weekday');
  await expression.fill('0 0 31 2 *');
  await expression.blur();
  await expect(page.getByText('it never comes')).toBeVisible();
  await expression.fill('30 6 * * 1-5');
  await expect(page.getByRole('complementary').getByText(/06:30/).first()).toBeVisible();
  await expect.poll(() => page.evaluate(() => JSON.stringify({ ...sessionStorage }))).toContain('30 6 * * 1-5');
  await page.reload();
  await expect(expression).toHaveValue('30 6 * * 1-5');
  await page.getByRole('button', { name: 'Save the timing' }).click();
  await expect(page.getByText('The timing is kept, and holds from now on.')).toBeVisible();
  await open(page, '/watch');
  await expect(page.getByRole('row').filter({ hasText: 'Customers' })).toContainText(/next in \d+ (min|h)/);
});

test('what becomes of a record in the ERP is told in the CRM, with the reason where it fails', async ({ page }) => {
  await signedIn(page, '/knots/customers/members');
  await pick(page.getByRole('button', { name: 'Tell an outcome' }), 'in Fernhill CRM, what becomes in Coldharbour ERP');
  const about = 'Fernhill CRM of Coldharbour ERP';
  const place = (part: string) => page.getByRole('combobox', { name: `${part} ${about}` });
  await choose(place('State, told in'), 'accounting.state');
  await choose(place('Why it failed or waits, in'), 'accounting.message');
  await choose(place('Key of the record there, in'), 'accounting.number');
  const done = page.getByRole('textbox', { name: `when it is done, in ${about}` });
  await done.fill('Booked');
  await done.blur();
  await page.getByRole('textbox', { name: 'Note', exact: true }).fill('The CRM is told');
  await page.getByRole('button', { name: 'Put in force' }).click();
  await expect(page.getByText('version 2 in force')).toBeVisible();
  await runNow(page);

  const crm = installation.addressOf('Fernhill CRM');
  await page.goto(`${crm}/records/A-20010`);
  await expect(page.getByLabel('Accounting: state')).toHaveValue('failed');
  await expect(page.getByLabel('Accounting: message')).toHaveValue(/^Phone: “\S+” is not a phone number/);
  await expect(page.getByLabel('Accounting: number')).toHaveValue('D10009');
  await editThere(page, crm, 'A-20010', 'Phone', '+44 1632 960257');
  await open(page, '/knots/customers/members');
  await runNow(page);
  await page.goto(`${crm}/records/A-20010`);
  await expect(page.getByLabel('Accounting: state')).toHaveValue('Booked');
  await expect(page.getByLabel('Accounting: message')).toHaveValue('');
});

test('a knot is paused until a day, and says so', async ({ page }) => {
  await signedIn(page, '/knots/customers/timing');
  await pick(page.getByRole('button', { name: 'More' }), 'Pause it until a day…');
  await page.getByRole('dialog').getByRole('textbox', { name: 'Day' }).click();
  await page.getByRole('button', { name: 'Next month' }).click();
  await page.getByRole('gridcell').getByRole('button').first().click();
  await page.getByRole('button', { name: 'Pause it' }).click();
  await expect(page.locator('header small')).toContainText(/paused by Ottilie Brandt until/);
  await expect(page.getByRole('button', { name: 'Run now' })).toBeDisabled();
});
