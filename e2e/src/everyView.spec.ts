/** Every view with data in it, as the tests before have left it: nothing keeps anybody out. */
import { AxeBuilder } from '@axe-core/playwright';
import { expect, test } from '@playwright/test';
import { address, openAnchor, signIn } from './steps.js';

// A trace would hold each page many times over, once for each question that axe asks.
test.use({ trace: 'off' });

const paths = [
  '/watch',
  '/decisions',
  '/knots',
  '/knots/customers/fields',
  '/knots/new',
  '/knots/customers/members',
  '/knots/customers/identity',
  '/knots/customers/duplicates',
  '/knots/customers/verdicts',
  '/knots/customers/crosswalks',
  '/knots/customers/checks',
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
  '/consent?state=none',
  '/runs',
];

for (const theme of ['light', 'dark']) {
  test(`axe finds nothing serious in any view (${theme})`, async ({ page }) => {
    test.setTimeout(180_000);
    await signIn(page);
    await openAnchor(page, '77051');
    await page.evaluate((chosen) => localStorage.setItem('anchor-knot-theme', chosen), theme);
    for (const path of [new URL(page.url()).pathname, ...paths]) {
      await page.goto(address() + path);
      await page.locator('h1').waitFor();
      await expect(page.getByRole('progressbar')).toHaveCount(0);
      const { violations } = await new AxeBuilder({ page })
        .withTags(['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'])
        .analyze();
      const serious = violations.filter(({ impact }) => impact === 'serious' || impact === 'critical');
      expect(serious.map(({ id, nodes }) => `${path}: ${id} ${nodes[0]?.html}`)).toEqual([]);
    }
  });
}
