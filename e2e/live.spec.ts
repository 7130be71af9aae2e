// Several people at once, and the keys that lead everywhere.
import AxeBuilder from '@axe-core/playwright';
import { expect, test } from './test.ts';

test('what somebody else changes shows by itself, and what is being typed stays', async ({
  page,
  browser,
  baseURL,
}) => {
  await page.goto('/shelf/carrier/2');
  await page.getByLabel('Folder on the carrier').fill('half a na');
  const other = await (await browser.newContext({ baseURL: baseURL! })).newPage();
  await other.goto('/shelf/carrier/2');
  await other.getByLabel('Kept in').fill('Cabinet, second shelf');
  await other.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(other.getByRole('status')).toContainText('from Cabinet, top shelf to Cabinet, second shelf');
  // Two seconds are meant; a busy machine is given more.
  await expect(page.getByRole('link', { name: /from Cabinet, top shelf to Cabinet, second shelf/ })).toBeVisible({
    timeout: 10_000,
  });
  await expect(page.getByLabel('Folder on the carrier')).toHaveValue('half a na');
  await other.getByLabel('Kept in').fill('Cabinet, top shelf');
  await other.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByLabel('Kept in')).toHaveValue('Cabinet, top shelf');
  await other.context().close();
});

test('one key shows all keys, and each leads where it says', async ({ page }) => {
  await page.goto('/');
  await page.locator('body').press('?');
  const keys = page.getByRole('dialog', { name: 'Keys' });
  await expect(keys).toBeVisible();
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map((v) => `${v.id} ${v.nodes.map((n) => n.target.join(' ')).join(', ')}`)).toEqual([]);
  await page.keyboard.press('Escape');
  await expect(keys).toBeHidden();
  await page.locator('body').press('w');
  await expect(page.getByRole('dialog', { name: 'Work' })).toBeVisible();
  await page.keyboard.press('Escape');
  for (const [key, address] of [
    ['n', /\/nights/],
    ['t', /\/storage/],
    ['e', /\/settings/],
    ['7', /\/ledger/],
  ] as const) {
    await page.locator('body').press(key);
    await expect(page).toHaveURL(address);
  }
  // In a field they are letters.
  await page.getByLabel('Find a receipt').fill('');
  await page.getByLabel('Find a receipt').press('n');
  await expect(page).toHaveURL(/\/ledger/);
});

test('the ledger is narrowed by person, by what was done and by a word, and says where nothing fits', async ({
  page,
}) => {
  await page.goto('/ledger');
  await page.getByLabel('What was done').selectOption('archive sealed');
  await expect(page).toHaveURL(/action=archive(\+|%20)sealed/);
  const rows = page.getByRole('region', { name: 'Receipts' }).getByRole('row');
  await expect(rows.filter({ hasText: 'archive sealed' }).first()).toBeVisible();
  await expect(rows.filter({ hasText: 'caches removed' })).toHaveCount(0);
  await page.getByLabel('Find a receipt').fill('nothing is called like this');
  await page.getByLabel('Find a receipt').press('Enter');
  await expect(page.getByText('No receipt fits.')).toBeVisible();
  await page.getByRole('link', { name: 'Show every receipt' }).click();
  await expect(page).toHaveURL(/\/ledger$/);
});

test('last night and tonight are told, and lead to the ledger and to where they are set', async ({ page }) => {
  await page.goto('/');
  await page.getByRole('link', { name: 'Last night and tonight' }).click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('Since yesterday evening');
  await expect(page.getByText('Read back Undertow on KD-0003').first()).toBeVisible();
  const work = page.getByRole('region', { name: 'What happens by itself' });
  await expect(work.getByRole('row', { name: /caches on loft-2 scratch/ })).toContainText('each night');
  await work.getByRole('link', { name: 'Snapshots of documents' }).click();
  await expect(page).toHaveURL(/show=snapshots/);
});
