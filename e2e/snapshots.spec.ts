// How far back a project can go, in the browser: what is kept, what changed, and one put beside the document.
import { readdirSync } from 'node:fs';
import path from 'node:path';
import { choose, expect, test } from './test.ts';
import { HOME } from './place.ts';

const FOLDER = path.join(HOME, 'site/ropewalk-projects/lamp-keepers');

test('a snapshot is chosen by what changed, and put beside the document as its next version', async ({ page }) => {
  await page.goto('/projects');
  await page.getByRole('link', { name: 'Lamp Keepers', exact: true }).click();
  await page.getByRole('link', { name: /^\d+ snapshots$/ }).click();
  const sentence = page.getByRole('heading', { level: 1 });
  await expect(sentence).toContainText(/Lamp Keepers can go back to 1\d snapshots, the first 20 days ago/);
  const list = page.getByRole('region', { name: /^Snapshots of lamp-keepers_ep3/ });
  await expect(list.getByText('teaser 30s is new')).toBeVisible();
  await list.getByRole('button', { name: '22 hours ago' }).click();
  await expect(page.getByText('Since then').first()).toBeVisible();
  // Part by part, what its timelines took then and take now.
  await page.getByRole('button', { name: 'Compare it with the document now' }).first().click();
  await page
    .getByRole('button', { name: /parts? differs?,/ })
    .first()
    .click();
  await expect(
    page
      .getByRole('region', { name: /^What is different in/ })
      .getByRole('row')
      .nth(1),
  ).toBeVisible();
  const before = readdirSync(FOLDER);
  await page.getByRole('button', { name: 'Put it beside the document' }).first().click();
  await expect(page.getByRole('status')).toContainText('as its next version; nothing is written over');
  // Others may have made versions of it before.
  const added = () => readdirSync(FOLDER).filter((name) => !before.includes(name));
  await expect.poll(added, { timeout: 60_000 }).toEqual([expect.stringMatching(/^lamp-keepers_ep3 v\d+\.otio$/)]);
  const [name] = added();
  await page.goto('/ledger');
  await expect(page.getByText(new RegExp(`^lamp-keepers_ep3\\.otio as it was .*, as ${name}$`))).toBeVisible({
    timeout: 60_000,
  });
});

test('where snapshots go is said in Settings, and nonsense is refused in a sentence', async ({ page }) => {
  await page.goto('/settings?show=snapshots');
  await page.getByLabel('The newest').fill('0');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByRole('alert')).toContainText('One snapshot stays at least. Nothing was saved.');
  await page.getByLabel('The newest').fill('30');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByRole('status')).toContainText('Saved.');
  // A project may want it otherwise.
  await page.goto('/projects/3/back');
  const how = page.getByLabel('How often, and how long they stay');
  await choose(how, 'otherwise');
  await page.getByLabel('Minutes between two').fill('0');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('alert')).toContainText('One minute lies between two at least. Nothing was saved.');
  await page.getByLabel('Minutes between two').fill('5');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('status')).toContainText('Snapshots of this project: at most every 5 minutes.');
  await choose(how, 'as the house says');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('status')).toContainText('Snapshots of this project: as the house says.');
  await page.goto('/ledger');
  await expect(page.getByText('Snapshots of Lamp Keepers: at most every 5 minutes').first()).toBeVisible();
  await expect(page.getByText('Snapshots of documents go to Ropewalk media').first()).toBeVisible();
});

test('a project in work is archived every night, which the calendar and the ledger tell, and is undone', async ({
  page,
}) => {
  await page.goto('/projects/3/back');
  await choose(page.getByLabel('Archived at night'), 'each night, while it is in work');
  await page.getByLabel('Days until everything is written anew').fill('400');
  await page.getByRole('button', { name: 'Save the nightly archive' }).click();
  await expect(page.getByRole('alert')).toContainText('The days are 365 at most. Nothing was saved.');
  await page.getByLabel('Days until everything is written anew').fill('14');
  await page.getByRole('button', { name: 'Save the nightly archive' }).click();
  await expect(page.getByRole('status')).toContainText('It is archived from the next night on');
  await expect(page.getByText('No night has come yet.')).toBeVisible();
  await page.goto('/nights');
  await expect(page.getByText('Lamp Keepers with its media')).toBeVisible();
  await page.goto('/projects/3/back');
  await choose(page.getByLabel('Archived at night'), 'no');
  await page.getByRole('button', { name: 'Save the nightly archive' }).click();
  await expect(page.getByRole('status')).toContainText('not archived at night any more');
  await page.goto('/ledger');
  await expect(
    page.getByText(/^Lamp Keepers: archived each night on .*, everything anew every 14 days$/).first(),
  ).toBeVisible();
});
