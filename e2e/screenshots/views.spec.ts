/** One picture of each main view, from the demo data, at the size of a small laptop. */
import { join } from 'node:path';
import { test } from '@playwright/test';
import { address, choose, crmPage, editThere, openAnchor, runNow, shopPage, signIn } from '../src/steps.js';

const folder = join(import.meta.dirname, '../../docs/screenshots');

test('pictures of the main views', async ({ page }) => {
  test.setTimeout(300_000);
  const picture = async (name: string): Promise<void> => {
    await page.waitForLoadState('networkidle').catch(() => undefined);
    // Values that have just come in fade to plain: the picture shows them at rest.
    await page.evaluate(() =>
      Promise.allSettled(
        document
          .getAnimations()
          .filter(({ effect }) => effect?.getComputedTiming().iterations !== Infinity)
          .map(({ finished }) => finished),
      ),
    );
    await page.evaluate(() => document.fonts.ready);
    await page.screenshot({ path: join(folder, `${name}.png`) });
  };
  const show = async (name: string, path: string): Promise<void> => {
    await page.goto(address() + path);
    await page.locator('h1').waitFor();
    await picture(name);
  };
  await signIn(page);
  const readMembers = async (): Promise<void> => {
    await page.getByText('values looked at').first().waitFor();
  };
  // Before anything is tied, so that there is something to tie.
  await page.goto(`${address()}/knots/customers/identity`);
  await readMembers();
  await page.getByRole('button', { name: 'Try on all records' }).click();
  await page.getByText('would be tied in two or more systems').waitFor();
  await page.evaluate(() => {
    const heading = Array.from(document.querySelectorAll('h2')).find(({ textContent }) =>
      textContent.includes('Weighed evidence'),
    );
    heading?.closest('.scroll')?.scrollBy(0, heading.getBoundingClientRect().top - 90);
  });
  await picture('knot-identity');
  await page.goto(`${address()}/watch`);
  await runNow(page);
  await editThere(page, crmPage(), 'A-20051', 'Phone', '+44 1632 960471');
  await editThere(page, shopPage(), '77051', 'Telephone', '01632 960409');
  await editThere(page, shopPage(), '77051', 'Address line', 'Saltpan Lane 9');
  await page.goto(`${address()}/watch`);
  await runNow(page);
  await picture('run');
  for (const knot of [
    'orders',
    'orderLines',
    'orders',
    'people',
    'requesters',
    'projects',
    'tickets',
    'ticketGroups',
    'tickets',
    'ticketComments',
    'partners',
    'partnerLeads',
  ]) {
    await page.goto(`${address()}/knots/${knot}/members`);
    await runNow(page);
  }
  await show('watch', '/watch');
  await page.goto(`${address()}/decisions?kind=unsure%20match`);
  await page.locator('ak-pair-grid').waitFor();
  await picture('decisions');
  await show('repair', '/repair');
  await page.goto(`${address()}/notices`);
  await page.getByRole('row').nth(3).waitFor();
  await picture('notices');
  await show('knots', '/knots');
  await page.goto(`${address()}/knots/customers/members`);
  await readMembers();
  await page.getByRole('button', { name: 'Try on all records' }).click();
  await page.getByText('records read just now').waitFor();
  await picture('knot-members');
  await page.goto(`${address()}/knots/customers/fields`);
  await readMembers();
  await picture('knot-fields');
  await page.goto(`${address()}/knots/customers/rules?field=consent`);
  await page.getByRole('complementary').getByRole('heading', { name: 'Marketing consent' }).waitFor();
  await picture('knot-rules');
  await page.goto(`${address()}/knots/customers/checks`);
  await readMembers();
  await picture('knot-checks');
  await page.goto(`${address()}/knots/new`);
  await page.getByLabel('Name', { exact: true }).fill('Clients');
  await page.getByLabel('One of them is called').fill('client');
  for (const object of ['accounts', 'shoppers', 'debtors'])
    await page.getByRole('checkbox', { name: object }).first().check();
  await page.getByRole('button', { name: 'Begin' }).click();
  await page.getByText('shared fields proposed').waitFor();
  await picture('knot-proposals');
  await show('tables', '/tables');
  await show('anchors', '/anchors');
  await openAnchor(page, '77051');
  await picture('anchor');
  const profileAll = async (system: string): Promise<void> => {
    await page.goto(`${address()}/systems/${system}`);
    await page.getByRole('button', { name: 'Profile all' }).click();
    await page.locator('tbody tr').filter({ hasNotText: 'just now' }).first().waitFor({ state: 'detached' });
  };
  await profileAll('coldharbour');
  await profileAll('fernhill');
  await page.getByRole('button', { name: 'Subscribe to accounts' }).click();
  await page.getByText('0 deliveries').waitFor();
  await editThere(page, crmPage(), 'A-20052', 'Phone', '+44 1632 960472');
  await page.goto(`${address()}/systems/fernhill`);
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await page.getByText('the same time as here').waitFor();
  await picture('system');
  await show('object', '/systems/coldharbour/objects/debtors/fields');
  await show('systems', '/systems');
  await page.goto(`${address()}/knots/customers/timing`);
  for (const system of ['Fernhill CRM', 'Market Row'])
    await choose(page.getByRole('combobox', { name: `How changes of ${system} are` }), 'when it tells of them');
  await choose(page.getByRole('combobox', { name: 'How changes of Coldharbour ERP are' }), 'by asking it');
  await page.getByRole('checkbox', { name: 'List all records' }).check();
  await page.getByRole('combobox', { name: 'Time zone' }).fill('Europe/Amsterdam');
  await page.getByRole('option', { name: 'Europe/Amsterdam' }).click();
  await choose(page.getByLabel('What changed is asked for'), 'every so many minutes or hours');
  await page.locator('.sentence').scrollIntoViewIfNeeded();
  await picture('knot-timing');
});
