// The browser's tests begin to press keys when the page hears them, as people do who see it settle: on a busy machine a
// page is shown seconds before its scripts have taken over.
import { type Locator, type Page, test as base } from '@playwright/test';
import { createConnection } from 'mysql2/promise';

export { expect, type Locator, type Page } from '@playwright/test';

export const test = base.extend({
  page: async ({ page }, use, info) => {
    const goto = page.goto.bind(page);
    page.goto = async (...args) => {
      const response = await goto(...args);
      await page.locator('html[data-live]').waitFor({ state: 'attached' });
      return response;
    };
    await use(page);
    if (info.status !== info.expectedStatus) await told(page);
  },
});

/** What went wrong once, on a machine that nobody sees, is told by what was shown and what the work was at. */
async function told(page: Page): Promise<void> {
  try {
    const shown = (await page.locator('body').innerText()).slice(0, 4000);
    const connection = await createConnection(process.env.KERAMION_E2E_DATABASE!);
    const ask = async (query: string) => (await connection.query(query))[0];
    const work = await ask(
      'SELECT id, title, state, phase, attempts, trouble, created_at, started_at, finished_at, lease_until FROM jobs ORDER BY id DESC LIMIT 15',
    );
    const waits = await ask(
      'SELECT time, state, LEFT(info, 300) AS query FROM information_schema.processlist WHERE info IS NOT NULL',
    );
    const workers = await ask('SELECT name, seen_at, UTC_TIMESTAMP(3) AS now FROM workers');
    await connection.end();
    console.log(page.url(), shown, JSON.stringify({ work, waits, workers }));
  } catch (error) {
    console.log('What the work was at is not known:', error);
  }
}

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
