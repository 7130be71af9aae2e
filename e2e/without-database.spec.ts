// The database hangs: said soon, with what that means, and the page comes back by itself.
import AxeBuilder from '@axe-core/playwright';
import { readFileSync } from 'node:fs';
import path from 'node:path';
import { expect, test } from './test.ts';
import { HOME } from './place.ts';

test('a database that does not answer is told within seconds, and the page comes back by itself', async ({ page }) => {
  const pid = Number(readFileSync(path.join(HOME, 'db/mariadb.pid'), 'utf8'));
  await page.goto('/shelf');
  const heading = page.getByRole('heading', { level: 1 });
  process.kill(pid, 'SIGSTOP');
  try {
    await page.waitForTimeout(1_500);
    await page.goto('/projects');
    await expect(heading).toHaveText('The database does not answer.');
    await expect(page.getByText('Nothing was changed by what was just asked')).toBeVisible();
    // The page asks again by itself meanwhile, and then is another one.
    await expect(async () => {
      const { violations } = await new AxeBuilder({ page }).analyze();
      expect(violations.map((v) => v.id)).toEqual([]);
    }).toPass({ timeout: 60_000 });
  } finally {
    process.kill(pid, 'SIGCONT');
  }
  await expect(page.getByRole('link', { name: 'Lamp Keepers', exact: true })).toBeVisible();
});
