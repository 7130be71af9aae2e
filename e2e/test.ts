// The browser's tests begin to press keys when the page hears them, as people do who see it settle: on a busy machine a
// page is shown seconds before its scripts have taken over.
import { type Locator, test as base } from '@playwright/test';

export { expect, type Locator, type Page } from '@playwright/test';

export const test = base.extend({
  page: async ({ page }, use) => {
    const goto = page.goto.bind(page);
    page.goto = async (...args) => {
      const response = await goto(...args);
      await page.locator('html[data-live]').waitFor({ state: 'attached' });
      return response;
    };
    await use(page);
  },
});

/** Opens a list of choices and takes one: by its value, by its words, or by words that fit. */
export async function choose(list: Locator, what: string | { label: string | RegExp }): Promise<void> {
  await list.click();
  const page = list.page();
  const option =
    typeof what === 'string'
      ? page.locator(`[role=option][data-value="${what}"]`).or(page.getByRole('option', { name: what, exact: true }))
      : page.getByRole('option', { name: what.label, exact: typeof what.label === 'string' });
  await option.first().click();
}
