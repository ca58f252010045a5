/** The whole of the work without a pointer: a knot is made, put in force and run, and a conflict is decided. */
import { expect, type Page, test } from '@playwright/test';
import { address, crmPage, editThere, shopPage, signIn } from './steps.js';

const mostTabs = 160;

/** Goes on with Tab until what has the focus is called that; fails when it is not met. */
async function reach(page: Page, name: string | RegExp, key: 'Tab' | 'Shift+Tab' = 'Tab'): Promise<void> {
  const fits = (label: string): boolean => (typeof name === 'string' ? label === name : name.test(label));
  for (let tabs = 0; tabs < mostTabs; tabs += 1) {
    await page.keyboard.press(key);
    const label = await page.evaluate(() => {
      const element = document.activeElement;
      if (!(element instanceof HTMLElement)) return '';
      const labelled = (element.getAttribute('aria-labelledby') ?? '')
        .split(' ')
        .map((id) => (id === '' ? '' : (document.getElementById(id)?.textContent ?? '')))
        .join(' ');
      const labels = element instanceof HTMLInputElement ? Array.from(element.labels ?? []) : [];
      const own = labels.map(({ textContent }) => textContent).join(' ');
      return (element.ariaLabel || labelled.trim() || own || element.textContent).replaceAll(/\s+/g, ' ').trim();
    });
    if (fits(label)) return;
  }
  throw new Error(`nothing called ${String(name)} can be reached by ${key}`);
}
async function press(page: Page, name: string | RegExp, key = 'Enter'): Promise<void> {
  await reach(page, name);
  await page.keyboard.press(key);
}

test('from a new knot to a decided conflict, by keyboard alone', async ({ page }) => {
  test.setTimeout(240_000);
  page.on('pageerror', (error) => {
    throw error;
  });
  await signIn(page);
  await page.keyboard.press('g');
  await page.keyboard.press('k');
  await expect(page.getByRole('heading', { name: 'Knots', level: 1 })).toBeVisible();
  await press(page, 'New knot');
  await reach(page, /^Name/);
  await page.keyboard.type('Purchasers');
  await reach(page, /^One of them is called/);
  await page.keyboard.type('purchaser');
  for (const object of [/^accounts/, /^shoppers/]) await press(page, object, 'Space');
  await reach(page, 'Begin', 'Tab').catch(() => reach(page, 'Begin', 'Shift+Tab'));
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/\/knots\/purchasers\/fields$/);
  await expect(page.getByText(/shared fields proposed/)).toBeVisible();
  await press(page, 'Accept all');
  await expect(page.getByText(/· saved/)).toBeVisible();

  // Nothing is created by this knot: it would only make what other tests count.
  await page.keyboard.press('Control+k');
  await page.keyboard.type('Purchasers: Members');
  await expect(page.getByRole('option').first()).toContainText('Purchasers: Members');
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/\/knots\/purchasers\/members/);
  for (const _ of ['accounts', 'shoppers']) await press(page, 'create records', 'Space');
  await expect(page.getByText(/· saved/)).toBeVisible();

  // A rule is changed to ask, so that what differs waits for a person.
  await page.keyboard.press('Control+k');
  await page.keyboard.type('Purchasers: Rules');
  await expect(page.getByRole('option').first()).toContainText('Purchasers: Rules');
  await page.keyboard.press('Enter');
  await press(page, 'Phone');
  await expect(page.getByRole('complementary').getByRole('heading', { name: 'Phone' })).toBeVisible();
  await press(page, 'Remove The newest edit');
  await expect(page.getByRole('row', { name: /Phone/ })).toContainText('ask');
  await expect(page.getByText(/· saved/)).toBeVisible();
  await reach(page, 'Note', 'Shift+Tab');
  await page.keyboard.type('By keyboard');
  await press(page, 'Put in force');
  await expect(page.getByText('Version 1 is in force.')).toBeVisible();
  await expect(page.getByText('version 1 in force')).toBeVisible();

  await reach(page, 'Run now', 'Shift+Tab');
  await page.keyboard.press('Enter');
  await expect(page.locator('.sentence')).toContainText(/written|nothing to write/);
  await editThere(page, crmPage(), 'A-20060', 'Phone', '+44 1632 960771');
  const shopper = await shopperOf(page, 'A-20060');
  expect(shopper).not.toBe('');
  await editThere(page, shopPage(), shopper, 'Telephone', '01632 960772');
  await page.goto(`${address()}/knots/purchasers/history`);
  await press(page, 'Run now');
  await expect(page.locator('.sentence')).toContainText(/written|nothing to write/);

  await page.goto(`${address()}/decisions?knot=purchasers&kind=held`);
  const waiting = page.locator('[data-decision-item]');
  await expect(waiting.first()).toBeVisible();
  const before = await waiting.count();
  await page.keyboard.press('1');
  await expect(waiting).toHaveCount(before - 1);
  await page.keyboard.press('u');
  await expect(waiting).toHaveCount(before);
  await page.keyboard.press('2');
  await expect(waiting).toHaveCount(before - 1);
  // The knot is ended again, so that other tests find the customers as they were.
  await page.goto(`${address()}/knots/purchasers/history`);
  await press(page, 'More');
  await page.keyboard.press('End');
  await page.keyboard.press('Enter');
  await press(page, 'End it');
  await expect(page.getByText('Purchasers is ended.')).toBeVisible();
});

/** The shopper that is the same customer as an account. */
async function shopperOf(page: Page, account: string): Promise<string> {
  const answer = await page.request.get(`${address()}/api/knots/purchasers/anchors?search=${account}`);
  const { anchors } = (await answer.json()) as { anchors: { ties: { member: string; key: string }[] }[] };
  return anchors[0]?.ties.find(({ key }) => key !== account)?.key ?? '';
}
