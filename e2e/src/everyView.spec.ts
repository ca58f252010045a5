/** Every view with data in it, as the tests before have left it: nothing keeps anybody out, and nothing is covered. */
import { AxeBuilder } from '@axe-core/playwright';
import { expect, type Page, test } from '@playwright/test';
import { address, choose, openAnchor, signIn } from './steps.js';

// A trace would hold each page many times over, once for each question that axe asks.
test.use({ trace: 'off' });

const paths = [
  '/watch',
  '/decisions',
  '/decisions?kind=unreadable',
  '/knots',
  '/knots/customers/fields',
  '/knots/new',
  '/knots/first-loads',
  '/knots/customers/copy',
  '/knots/customers/members',
  '/knots/customers/records',
  '/knots/customers/identity',
  '/knots/customers/duplicates',
  '/knots/customers/verdicts',
  '/knots/customers/rules?field=phone',
  '/knots/customers/crosswalks',
  '/knots/customers/checks',
  '/knots/customers/timing',
  '/knots/customers/history',
  '/knots/customers/fields?field=phone&member=shop',
  '/knots/customers/dry-run',
  '/knots/customers/definition',
  '/anchors',
  '/systems',
  '/systems/coldharbour',
  '/systems/coldharbour/objects/debtors/fields',
  '/systems/coldharbour/objects/debtors/history',
  '/systems/fernhill/objects/accounts/records',
  '/systems/granary/change',
  '/systems/fernhill',
  '/systems/fernhill/change',
  '/systems/coldharbourOData/change',
  '/systems/loadingBay/change',
  '/systems/pegline/objects/tasks/fields',
  '/tables',
  '/consent?state=none',
  '/runs',
  '/repair',
  '/notices/happened',
  '/notices/told',
  '/notices/told/new',
  '/notices/records',
  '/notices/records/new',
  '/notices/sent',
];

/** So that every part of the form is there, and nothing runs meanwhile. */
async function setTiming(page: Page): Promise<void> {
  await show(page, '/knots/customers/timing');
  await choose(page.getByRole('combobox', { name: 'How changes of Fernhill CRM are noticed' }), 'by asking it');
  await page.getByLabel('Every, s').fill('86400');
  await page.getByRole('checkbox', { name: 'List all records' }).check();
  await page.getByRole('button', { name: 'Save the timing' }).click();
  await expect(page.getByText('The timing is kept')).toBeVisible();
}

async function everyPath(page: Page): Promise<string[]> {
  await signIn(page);
  await openAnchor(page, '77051');
  const anchor = new URL(page.url()).pathname;
  await show(page, '/runs');
  const run = (await page.locator('main a[href^="/runs/"]').last().getAttribute('href')) ?? '/runs/none';
  await setTiming(page);
  return [anchor, run, ...paths];
}

async function show(page: Page, path: string): Promise<void> {
  await page.goto(address() + path);
  await page.locator('h1').waitFor();
  await expect(page.getByRole('progressbar', { name: 'Loading' })).toHaveCount(0);
}

/**
 * What can be worked with and cannot be reached by a pointer, although it is in sight: something lies over it. And what
 * leaves the window where nothing scrolls to it.
 */
function covered(): string[] {
  const controls = 'a[href], button, input:not([type=file]), textarea, [role=combobox], [role=tab]';
  /** What is left of a box when all that scrolls around it has cut its part. */
  const seen = (element: Element): DOMRect | undefined => {
    // Of a link that goes over two lines the first one: between them there may be other words.
    let { left, top, right, bottom } = element.getClientRects()[0] ?? element.getBoundingClientRect();
    for (let box = element.parentElement; box; box = box.parentElement) {
      const style = getComputedStyle(box);
      if (style.overflowX === 'visible' && style.overflowY === 'visible') continue;
      const edge = box.getBoundingClientRect();
      [left, top] = [Math.max(left, edge.left), Math.max(top, edge.top)];
      [right, bottom] = [Math.min(right, edge.right), Math.min(bottom, edge.bottom)];
    }
    return right - left < 4 || bottom - top < 4 ? undefined : new DOMRect(left, top, right - left, bottom - top);
  };
  const wrong: string[] = [];
  for (const control of Array.from(document.querySelectorAll<HTMLElement>(controls))) {
    if (!control.checkVisibility({ visibilityProperty: true, opacityProperty: true })) continue;
    const rect = seen(control);
    // The link that skips to the content is in sight only while it has the focus.
    if (!rect || control.classList.contains('skip')) continue;
    const name = `${control.tagName} ${(control.ariaLabel ?? control.textContent).trim().slice(0, 40)}`;
    if (rect.right > innerWidth + 1 || rect.left < -1) wrong.push(`${name} leaves the window`);
    const top = document.elementFromPoint(rect.x + rect.width / 2, rect.y + rect.height / 2);
    // Sticky headers may lie over what scrolls below them.
    const isOver = top && !control.contains(top) && !top.contains(control) && !top.closest('thead');
    if (isOver && !control.closest('label, mat-checkbox, mat-radio-button, mat-form-field')?.contains(top))
      wrong.push(`${name} lies below ${top.tagName}.${top.className}`);
  }
  if (document.documentElement.scrollWidth > innerWidth) wrong.push('the page is wider than the window');
  return wrong;
}

const usual = 1280;
const widths = [1024, usual, 1920];
/** What is left of 1280x800 for who has twice the size of everything. */
const halved = { width: 640, height: 400 };

/** All that can be found; axe stays in the page until another one is shown. */
function foundByAxe(page: Page): Promise<string[]> {
  return analysed(new AxeBuilder({ page }));
}

/** What these rules find, in a page that all rules have looked at before: half a megabyte need not be sent again. */
function foundByRules(page: Page, rules: readonly string[]): Promise<string[]> {
  return analysed(new AxeBuilder({ page, axeSource: ';' }), rules);
}

async function analysed(axe: AxeBuilder, rules?: readonly string[]): Promise<string[]> {
  axe.options({ resultTypes: ['violations'] });
  if (rules) axe.withRules([...rules]);
  // There are no frames of other origins, for which a second page would be opened each time.
  const { violations } = await axe.setLegacyMode().analyze();
  return violations.map(({ id, nodes }) => `${id} ${nodes[0]?.html}`);
}
/** What another theme can change, and what another width can. */
const ofColours = ['color-contrast', 'link-in-text-block'];
const ofWidths = ['scrollable-region-focusable', 'target-size'];

/** A drawer that the address opens is closed again: it may lie over the work as long as it is open. */
async function closeDrawer(page: Page): Promise<void> {
  // It opens when what it is about has come, which may be after the key was pressed.
  await expect(async () => {
    await page.keyboard.press('Escape');
    await expect(page.locator('.mat-drawer-backdrop.mat-drawer-shown')).toHaveCount(0, { timeout: 2000 });
  }).toPass();
}

/** Another size of the window, once it is laid out. */
async function resize(page: Page, size: { readonly width: number; readonly height: number }): Promise<void> {
  await page.setViewportSize(size);
  await page.evaluate(() => new Promise((drawn) => requestAnimationFrame(() => requestAnimationFrame(drawn))));
}

async function foundIn(page: Page, path: string): Promise<string[]> {
  const found: string[] = [];
  const note = (where: string, what: readonly string[]): void => {
    found.push(...what.map((one) => `${path} ${where}: ${one}`));
  };
  await page.emulateMedia({ colorScheme: 'light' });
  await show(page, path);
  await page.waitForLoadState('networkidle');
  await closeDrawer(page);
  note(`at ${usual}`, await foundByAxe(page));
  await page.emulateMedia({ colorScheme: 'dark' });
  note('in the dark', await foundByRules(page, ofColours));
  await page.emulateMedia({ colorScheme: 'light' });
  for (const width of widths) {
    await resize(page, { width, height: 800 });
    await closeDrawer(page);
    note(`at ${width}`, await page.evaluate(covered));
    if (width !== usual) note(`at ${width}`, await foundByRules(page, ofWidths));
  }
  await resize(page, halved);
  await closeDrawer(page);
  note('at 200 percent', await page.evaluate(covered));
  // The next one is shown in the usual size.
  await resize(page, { width: usual, height: 800 });
  return found;
}

test('no view keeps anybody out or covers anything, in both themes, at any width', async ({ page, context }) => {
  test.setTimeout(900_000);
  const left = await everyPath(page);
  const found: string[] = [];
  // Two at a time: one is asked while the other is drawn.
  const visit = async (own: Page): Promise<void> => {
    for (let path = left.shift(); path !== undefined; path = left.shift()) found.push(...(await foundIn(own, path)));
  };
  await Promise.all([visit(page), visit(await context.newPage())]);
  expect(found).toEqual([]);
});
