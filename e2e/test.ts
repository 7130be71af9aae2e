// The browser's tests begin to press keys when the page hears them, as people do who see it settle: on a busy machine a
// page is shown seconds before its scripts have taken over.
import { test as base } from '@playwright/test';

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
