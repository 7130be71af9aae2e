// What others wrote on an old disk becomes an archive where it lies, in the browser: found, compared with its sums, and told.
import { expect, test } from './test.ts';

test('a folder on an old disk is taken in, and what does not match its checksum is told', async ({ page }) => {
  await page.goto('/shelf');
  await page.getByRole('link', { name: 'KD-0001', exact: true }).first().click();
  const card = page.locator('section', { has: page.getByRole('heading', { name: 'Not in the catalogue: 1 folder' }) });
  await expect(card.getByLabel('Folder on the carrier')).toHaveValue('Slack Water 2019');
  await card.getByLabel('Folder on the carrier').fill('../ropewalk-media');
  await card.getByRole('button', { name: 'Take it in' }).click();
  await expect(page.getByRole('alert')).toContainText('names no folder on KD-0001');
  await card.getByLabel('Folder on the carrier').fill('Slack Water 2019');
  await card.getByLabel('Project').fill('Slack Water');
  await card.getByLabel('Client').fill('Tidewater Trust');
  await card.getByLabel('Year').fill('2019');
  await card.getByRole('button', { name: 'Take it in' }).click();
  await expect(page.getByRole('status')).toContainText('is read as soon as a worker reaches the carrier');

  await page.goto('/ledger');
  const receipt = page.getByRole('link', {
    name: /^Slack Water 2019 on KD-0001 is in the catalogue as slack-water_/,
  });
  await expect(receipt).toBeVisible({ timeout: 60_000 });
  await receipt.click();
  await expect(page.getByText('it does not match the checksum that came with it (md5)')).toBeVisible();

  await page.goto('/shelf?client=Tidewater+Trust');
  await page
    .getByRole('link', { name: /^Slack Water slack-water/ })
    .first()
    .click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('Slack Water');
  await expect(page.getByText('2 files match the checksums that came with them; the others had none')).toBeVisible();
  await expect(page.getByText('Camera/H001C003.mov').first()).toBeVisible();
  await expect(page.getByText('slack-water.otio').first()).toBeVisible();
});
