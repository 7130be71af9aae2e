// Space: two levels and their colours at once, several folders chosen at once, and the clock of the house.
import { readFileSync } from 'node:fs';
import { choose, expect, test } from './test.ts';

test('the map shows two levels, coloured by kind, project or age, and says what the colours are', async ({ page }) => {
  await page.goto('/space?v=3');
  const map = page.getByRole('group', { name: /Map of area/ });
  const inner = map.locator('a[tabindex="-1"]');
  await expect(inner.first()).toBeVisible();
  await expect(inner.first()).toHaveAttribute('title', /^loft-1 scratch \/ .+, .+B$/);
  const key = page.getByRole('list', { name: 'What the colours are' });
  await expect(key).toContainText('cache');
  await page.getByRole('radio', { name: 'age' }).click();
  await expect(key).toContainText('31 to 90 days');
  await expect(key).not.toContainText('cache');
  await page.getByRole('radio', { name: 'project' }).click();
  await expect(key).toContainText('Lamp Keepers');
  await page.reload();
  await expect(page.getByRole('radio', { name: 'project' })).toBeChecked();
  await page.getByRole('radio', { name: 'kind' }).click();
  // Two steps down at once.
  const name = /\/ (.+), [^,]+$/.exec((await inner.first().getAttribute('title'))!)![1]!;
  await inner.first().click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText(`${name} holds`);
});

test('several folders are chosen, taken along as CSV, looked through for what can go, and given to a project', async ({
  page,
}) => {
  await page.goto('/space?folder=7');
  const folders = page.getByRole('region', { name: 'Folders' });
  const names = await folders.getByRole('link').allTextContents();
  expect(names.length).toBeGreaterThan(1);
  await folders.getByRole('checkbox', { name: `Choose ${names[0]}` }).click();
  // The second on its own row, by a key.
  await folders.getByRole('row').nth(2).focus();
  await page.keyboard.press('x');
  const bar = page.getByRole('group', { name: 'What is chosen' });
  await expect(bar.getByRole('status')).toContainText('2 folders');
  const download = page.waitForEvent('download');
  await bar.getByRole('link', { name: 'CSV' }).click();
  const lines = readFileSync(await (await download).path(), 'utf8')
    .trim()
    .split(/\r?\n/);
  expect(lines[0]).toBe('volume,path,kind,project,files,bytes');
  expect(lines).toHaveLength(3);
  expect(lines.slice(1).join('\n')).toContain(names[0]!);
  await bar.getByRole('link', { name: 'What can go' }).click();
  await expect(page).toHaveURL(/\/reclaim\?folder=\d+(%2C|,)\d+/);
  await expect(page.getByRole('link', { name: /^No longer only in 2 folders/ })).toBeVisible();
  await page.goBack();
  await folders.getByRole('checkbox', { name: `Choose ${names[0]}` }).click();
  await bar.getByLabel('Project that they are given to').click();
  await page.getByRole('option', { name: 'Brine Road' }).click();
  await bar.getByRole('button', { name: 'Give to it' }).click();
  await expect(bar.getByText('1 folder given to Brine Road.')).toBeVisible();
  await bar.getByRole('button', { name: 'Undo' }).click();
  await expect(bar.getByText(/^Undone/)).toBeVisible();
  expect((await page.goto('/reclaim?folder=999999'))!.status()).toBe(404);
});

test('the house says its clock, every time follows it, and what is no zone is refused', async ({ page }) => {
  await page.goto('/settings?show=house');
  const zone = page.getByLabel('Time zone');
  await zone.fill('Moon/Tycho');
  await expect(page.getByText('There is no time zone of that name.')).toBeVisible();
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('alert')).toContainText('There is no time zone of that name');
  await zone.fill('Asia/Tokyo');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('goes by the clock of Asia/Tokyo');
  await page.goto('/ledger');
  const time = page.getByRole('region', { name: 'Receipts' }).locator('[title*="UTC"]').first();
  await expect(time).toHaveAttribute('title', /UTC\+9$/);
  await page.goto('/settings?show=house');
  await zone.fill('');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('heading', { level: 1 })).not.toContainText('Tokyo');
});

test('the hours of what happens by itself are changed, refused without a day, and told in Tonight', async ({
  page,
}) => {
  await page.goto('/settings?show=hours');
  const headline = page.getByRole('heading', { level: 1 });
  await expect(headline).toContainText('each night, between 1:00 and 5:00');
  const save = page.getByRole('button', { name: 'Save', exact: true });
  await choose(page.getByLabel('Hours of: What is set aside'), 'own');
  for (const day of ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'])
    await page.getByLabel(`What is set aside: ${day}`).uncheck();
  await expect(page.getByText('Never: no day is chosen.')).toBeVisible();
  await save.click();
  await expect(page.getByRole('alert')).toContainText('Choose at least one day of the week. Nothing was saved.');
  await page.getByLabel('What is set aside: Saturday').check();
  await choose(page.getByLabel('The house: from'), '22');
  await save.click();
  await expect(page.getByText('What happens by itself goes by them from now on')).toBeVisible();
  await expect(headline).toContainText('between 22:00 and 5:00; 1 kind of work has hours of its own');
  await page.goto('/nights');
  const tonight = page.getByRole('region', { name: 'What happens by itself' });
  await expect(tonight.getByText('each night, between 22:00 and 5:00').first()).toBeVisible();
  await page.getByRole('link', { name: 'change the hours' }).click();
  await choose(page.getByLabel('Hours of: What is set aside'), '');
  await choose(page.getByLabel('The house: from'), '1');
  await save.click();
  await expect(headline).toContainText('done each night, between 1:00 and 5:00.');
});
