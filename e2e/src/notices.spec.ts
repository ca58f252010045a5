/** Somebody is told: by a mail that leads there, and here; said by hand, tried, and seen in what was sent. */
import { expect, type Page, test } from '@playwright/test';
import { address, choose, crmPage, editThere, postPage, runNow, signIn } from './steps.js';

test('who is told is said by hand; a test comes as a mail, and a system that does not answer is told of', async ({
  page,
}) => {
  await signIn(page);
  await page.goto(`${address()}/notices/told`);
  await page.getByRole('link', { name: 'Tell somebody' }).click();
  await page.getByLabel('Name', { exact: true }).fill('Glass');
  await page.getByLabel('Address of recipient 1').fill('bram@');
  await page.getByLabel('Address of recipient 1').blur();
  await expect(page.getByText('An address such as name@company.example.')).toBeVisible();
  await page.getByLabel('Address of recipient 1').fill('bram');
  await page.getByRole('option', { name: /bram@hazelmoor\.example/ }).click();
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.locator('.sentence')).toContainText('bram@hazelmoor.example is told at once of runs that fail');
  await expect(page).toHaveURL(/\/notices\/told\/[0-9a-f-]{36}$/);
  await page.getByRole('button', { name: 'Send a test' }).click();
  await expect(page.getByText('A test is on its way')).toBeVisible();
  await page.goto(`${address()}/notices/sent`);
  const tested = page.getByRole('row').filter({ hasText: 'A test of “Glass”' });
  await expect(tested).toContainText('bram@hazelmoor.example');
  await expect(tested.getByRole('button', { name: /^Send again/ })).toBeVisible();

  await setBroken(page, true);
  await page.goto(`${address()}/knots/customers/timing`);
  await page.getByRole('button', { name: 'Run now' }).click();
  await expect(page).toHaveURL(/\/runs\//);
  await expect(page.getByRole('link', { name: /^Notices \d/ })).toBeVisible();
  await page.getByRole('link', { name: /^Notices/ }).click();
  const told = page.getByRole('row').filter({ hasText: 'Fernhill CRM does not answer as it should' });
  await expect(told).toContainText('goes on');
  await mailIn(page, /Fernhill CRM does not answer as it should/);
  // The mail leads to the system.
  const link = /http:\S+\/systems\/fernhill/.exec((await page.locator('pre').textContent()) ?? '')?.[0] ?? '';
  await setBroken(page, false);
  await page.goto(link);
  await expect(page.getByRole('heading', { name: 'Fernhill CRM' })).toBeVisible();
  await page.goto(`${address()}/knots/customers/timing`);
  await page.getByRole('button', { name: 'Run now' }).click();
  await page.goto(`${address()}/notices`);
  await expect(told).toContainText('over');
  await page.getByRole('button', { name: 'I have seen them' }).click();
  await expect(page.getByText('You have seen all of it.')).toBeVisible();

  await page.goto(`${address()}/notices/told`);
  await page.getByRole('link', { name: 'Glass' }).click();
  await choose(page.getByLabel('When', { exact: true }), 'gathered, once a day');
  await page.getByLabel('At', { exact: true }).fill('25:00');
  await page.getByLabel('At', { exact: true }).blur();
  await expect(page.getByText('A time such as 07:30.')).toBeVisible();
  await page.getByLabel('At', { exact: true }).fill('06:30');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByText('Kept; it holds from now on.')).toBeVisible();
  await page.getByRole('button', { name: 'Remove it' }).click();
  await page.getByRole('dialog').getByRole('button', { name: 'Remove it' }).click();
  await expect(page).toHaveURL(/\/notices\/told$/);
  await expect(page.getByRole('link', { name: 'Glass' })).toHaveCount(0);
});

test('somebody hears of each record that is written, in words of their own; the calls of the run can be read', async ({
  page,
}) => {
  await signIn(page);
  // Other tests may have made other knots.
  await page.goto(`${address()}/knots/customers/timing`);
  await runNow(page);
  await page.getByRole('button', { name: 'Its calls, one by one' }).click();
  await page.getByRole('button', { name: 'Keep those of the next 3 runs' }).click();
  await expect(page.getByText('The calls of the next 3 runs are to be kept.')).toBeVisible();

  await page.goto(`${address()}/notices/records`);
  await page.getByRole('link', { name: 'Mail about records' }).click();
  await page.getByLabel('Name', { exact: true }).fill('Shop desk');
  await page.getByLabel('Addresses', { exact: true }).fill('bram@hazelmoor.example');
  await choose(page.getByLabel('Knot', { exact: true }), 'Customers');
  await choose(page.getByLabel('In', { exact: true }), 'Market Row');
  await page.getByRole('checkbox', { name: 'updated' }).check();
  await page.getByLabel('Text', { exact: true }).fill('{{ fields.twon }}');
  await page.getByRole('button', { name: 'Show it' }).click();
  await expect(page.getByText('The text names “fields.twon”, which is no field of the knot.')).toBeVisible();
  await page.getByLabel('Text', { exact: true }).fill('Now in {{ fields.town }}: {{ page }}');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page).toHaveURL(/\/notices\/records\/[0-9a-f-]{36}$/);

  await editThere(page, crmPage(), 'A-20044', 'Town', 'Mailquay');
  await page.goto(`${address()}/knots/customers/timing`);
  await runNow(page);
  await mailIn(page, /was updated in Market Row/);
  await expect(page.locator('pre')).toContainText(/Now in Mailquay: http:\S+\/records\/77044/);
  // The run may have been another one, which the CRM's own event had started.
  await page.goto(`${address()}/runs?knot=customers`);
  await page.getByRole('row').filter({ hasText: '1 record written' }).first().getByRole('link').first().click();
  await page.getByRole('button', { name: 'Its calls, one by one' }).click();
  const written = page.getByRole('button', { name: /^PUT \/shop\/v1\/shoppers/ });
  await written.first().click();
  await expect(page.getByText(/"city":"Mailquay"/).first()).toBeVisible();

  await page.goto(`${address()}/notices/records`);
  await page.getByRole('link', { name: 'Shop desk' }).click();
  await page.getByRole('button', { name: 'Remove it' }).click();
  await page.getByRole('dialog').getByRole('button', { name: 'Remove it' }).click();
  await expect(page).toHaveURL(/\/notices\/records$/);
});

/** Opens a mail in the catcher, when it has come. */
async function mailIn(page: Page, subject: RegExp): Promise<void> {
  await expect(async () => {
    await page.goto(postPage());
    await expect(page.getByRole('row').filter({ hasText: 'bram@' }).filter({ hasText: subject })).toHaveCount(1, {
      timeout: 500,
    });
  }).toPass();
  await page.getByRole('row').filter({ hasText: 'bram@' }).filter({ hasText: subject }).getByRole('link').click();
}

async function setBroken(page: Page, isOn: boolean): Promise<void> {
  await page.goto(`${crmPage()}/faults`);
  await page.getByLabel('Listings come as broken JSON').setChecked(isOn);
  await page.getByRole('button', { name: 'Switch' }).click();
}
