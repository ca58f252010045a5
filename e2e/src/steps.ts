import { type BrowserContext, expect, type Locator, type Page } from '@playwright/test';

export const address = (): string => process.env.ANCHOR_KNOT as string;
export const crmPage = (): string => process.env.CRM_PAGE as string;
export const erpPage = (): string => process.env.ERP_PAGE as string;
export const postPage = (): string => process.env.POST_PAGE as string;
export const shopPage = (): string => process.env.SHOP_PAGE as string;

const people = {
  administrator: ['ottilie@hazelmoor.example', 'glasshouse-admin'],
  viewer: ['wren@hazelmoor.example', 'glasshouse-viewer'],
} as const;

const sessions = new Map<string, Awaited<ReturnType<BrowserContext['cookies']>>>();

/** Signs in, or goes on with the session of an earlier test: sign-ins are limited to ten a minute. */
export async function signIn(page: Page, who: keyof typeof people = 'administrator'): Promise<void> {
  await page.context().addCookies(sessions.get(who) ?? []);
  await page.goto(`${address()}/`);
  await expect(page).toHaveURL(/\/watch$|\/sign-in/);
  if (page.url().endsWith('/watch')) return;
  await page.getByLabel('Email').fill(people[who][0]);
  await page.getByLabel('Password').fill(people[who][1]);
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page).toHaveURL(/\/watch$/);
  sessions.set(who, await page.context().cookies());
}

/** Presses Run now where the page has it, and waits for the end of the run that is then shown. */
export async function runNow(page: Page): Promise<void> {
  await page.getByRole('button', { name: 'Run now' }).first().click();
  await expect(page).toHaveURL(/\/runs\//);
  await expect(page.locator('.sentence')).toContainText(/written|nothing to write/);
}

/** Edits a record on a stand-in's own page. */
export async function editThere(page: Page, system: string, key: string, label: string, value: string): Promise<void> {
  await page.goto(`${system}/records/${key}`);
  // The same value again would be no edit, and what is expected of it would never come.
  await expect(page.getByLabel(label, { exact: true })).not.toHaveValue(value);
  await page.getByLabel(label, { exact: true }).fill(value);
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByLabel(label, { exact: true })).toHaveValue(value);
}

/** Opens the customer that has a record of that key. Other tests may have made other knots, in which it is tied too. */
export async function openAnchor(page: Page, key: string): Promise<void> {
  await page.goto(`${address()}/anchors?knot=customers&search=${key}`);
  await page.locator('.row a.title').first().click();
  await expect(page.getByRole('table')).toBeVisible();
}

/** Writes a formula in place of the one that is there, as hands do: its editor is no field that can be filled. */
export async function writeFormula(editor: Locator, formula: string): Promise<void> {
  await editor.click();
  await editor.press('ControlOrMeta+a');
  await editor.press('Delete');
  if (formula === '') return;
  await editor.page().keyboard.insertText(formula);
  await expect(editor).toHaveText(formula);
}

/** Chooses an option of a field, by its words. */
export async function choose(field: Locator, option: string | RegExp): Promise<void> {
  await field.click();
  const name = typeof option === 'string' ? { name: option, exact: true } : { name: option };
  await field.page().getByRole('option', name).click();
  await expect(field.page().getByRole('listbox')).toHaveCount(0);
}

/** Chooses an entry of the menu that a button opens. */
export async function pick(button: Locator, entry: string | RegExp): Promise<void> {
  await button.click();
  await button.page().getByRole('menuitem', { name: entry }).click();
}

/** Takes back what was just done, by the button of the words that tell of it: a draft has one of that name too. */
export async function takeBack(page: Page): Promise<void> {
  await page.locator('mat-snack-bar-container').getByRole('button', { name: 'Undo' }).click();
}
