// Places, on real files: a stray goes home and its document follows, a new project has homes before its first file,
// rules for kinds are looked at before they are saved, and everything is found by map, list and search.
import { existsSync, readFileSync } from 'node:fs';
import path from 'node:path';
import AxeBuilder from '@axe-core/playwright';
import { choose, expect, type Page, test } from './test.ts';
import { HOME } from './place.ts';

const SITE = path.join(HOME, 'site');

async function project(page: Page, name: string) {
  await page.goto('/projects');
  await page.getByRole('link', { name, exact: true }).click();
  await expect(page.getByRole('heading', { level: 1, name })).toBeVisible();
}
async function workEnds(page: Page, title: RegExp) {
  await page.getByRole('button', { name: 'Work', exact: true }).click();
  const row = page.getByRole('dialog', { name: 'Work' }).locator('.rows > div').filter({ hasText: title }).first();
  await expect(row.getByText('done', { exact: true })).toBeVisible({ timeout: 60_000 });
  await page.keyboard.press('Escape');
}

test('what has strayed goes home, and the document that named it gets a new version beside the old', async ({
  page,
}) => {
  const stray = path.join(SITE, 'loft-2-system/Downloads/harbour-lights/H009C001_0319.mov');
  const document = path.join(SITE, 'ropewalk-projects/harbour-lights/quayside cut.otio');
  const before = readFileSync(document, 'utf8');
  expect(existsSync(stray)).toBe(true);
  await project(page, 'Harbour Lights');
  await page.getByRole('button', { name: /^move .* home: source/ }).click();
  await expect(page.getByText('move in the plan')).toBeVisible();
  await page.getByRole('button', { name: 'Review plan' }).click();
  await expect(page.getByText('1 document will get a new version')).toBeVisible();
  await expect(page.getByText(/3\.40 GB will move home, in one step/)).toBeVisible();
  await page.getByRole('button', { name: 'Run one step' }).click();
  const row = page
    .getByRole('dialog', { name: 'Work' })
    .locator('.rows > div')
    .filter({ hasText: 'Move source of Harbour Lights' })
    .first();
  await expect(row.getByText('done', { exact: true })).toBeVisible({ timeout: 120_000 });
  expect(existsSync(stray)).toBe(false);
  expect(readFileSync(document, 'utf8')).toBe(before);
  const fresh = readFileSync(path.join(SITE, 'ropewalk-projects/harbour-lights/quayside cut v2.otio'), 'utf8');
  expect(fresh).not.toContain('Downloads');
  await page.keyboard.press('Escape');
  await project(page, 'Harbour Lights');
  await expect(page.getByRole('button', { name: /^move .* home: source/ })).toHaveCount(0);
  await expect(page.getByText('16 of 16')).toBeVisible();
  await page.getByRole('button', { name: 'About it' }).click();
  await expect(page.getByText('older version')).toBeVisible();
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map((v) => v.id)).toEqual([]);
});

test('a new project has its homes from a template, and they are made on disk', async ({ page }) => {
  await page.goto('/projects');
  await page.getByRole('button', { name: 'New project' }).click();
  await page.getByLabel('Title').fill('Kelp Forest');
  await page.getByLabel('Year').fill('twenty');
  await page.getByRole('button', { name: 'Register the project' }).click();
  await expect(page.getByRole('alert')).toContainText('The year is four digits');
  await page.getByLabel('Year').fill('2027');
  await page.getByRole('button', { name: 'Register the project' }).click();
  await expect(page.getByRole('heading', { level: 1, name: 'Kelp Forest' })).toBeVisible();
  await workEnds(page, /Make the homes of Kelp Forest/);
  expect(existsSync(path.join(SITE, 'ropewalk-media/kelp-forest/camera'))).toBe(true);
  await page.getByRole('button', { name: 'About it' }).click();
  await page.getByLabel('Private notes').fill('Divers only on Tuesdays.');
  await page.getByRole('button', { name: 'Save the facts' }).click();
  await expect(page.getByRole('status').filter({ hasText: 'Kept.' })).toBeVisible();
});

test('rules for kinds show what they change before they are saved', async ({ page }) => {
  await page.goto('/settings');
  await page.getByRole('button', { name: 'Add a rule on top' }).click();
  await choose(page.getByLabel('Kind of rule 1', { exact: true }), 'delivery');
  await page.getByRole('button', { name: 'Show what changes' }).click();
  const first = page.getByLabel('Folder words of rule 1', { exact: true });
  await expect(first).toBeFocused();
  await expect(first).toHaveAccessibleDescription(/A rule has nothing in it/);
  const names = page.getByLabel('Names of rule 1', { exact: true });
  await names.fill('*a*b*c*d*');
  // What is mended is not said any more, and what is wrong now stands where it is.
  await expect(first).toHaveAccessibleDescription('');
  await expect(names).toHaveAccessibleDescription(/four stars at most/);
  await names.fill('house_title_*');
  await expect(names).not.toHaveAccessibleDescription(/stars/);
  await expect(page.getByRole('button', { name: 'Save the rules' })).toBeDisabled();
  await page.getByRole('button', { name: 'Show what changes' }).click();
  await expect(page.getByText('14 files become delivery, 560 MB, were library')).toBeVisible();
  await page.getByRole('button', { name: 'Save the rules' }).click();
  await expect(page.getByRole('status')).toContainText('17 rules saved');
  await workEnds(page, /Give files their kinds/);
  await expect(page.getByRole('status'), 'the answer stays after the page is brought up to date').toContainText(
    '17 rules saved',
  );
  await page.goto('/space?kind=delivery&by=folder');
  await expect(page.getByRole('region', { name: 'Folders' }).getByText('Ropewalk library')).toBeVisible();
});

test('the map and the list stay in step, by kind, by project, and down to one file', async ({ page }) => {
  await page.goto('/space?by=kind');
  const map = page.getByRole('group', { name: /Map of area/ });
  await map.getByRole('link', { name: /^cache/ }).click();
  await expect(page).toHaveURL(/kind=cache/);
  await expect(page.getByRole('link', { name: 'No longer only cache' })).toBeVisible();
  const row = page.getByRole('region', { name: 'Folders' }).getByRole('row', { name: /loft-1 scratch/ });
  await row.hover();
  await expect(map.getByRole('link', { name: /^loft-1 scratch/ })).toHaveClass(/!bg-accent/);
  await page.goto('/space?list=largest');
  await page.getByRole('region', { name: 'The largest' }).getByRole('link').first().click();
  await expect(page.getByText('Used by')).toBeVisible();
  await expect(page.getByRole('button', { name: /^Copy path for/ }).first()).toBeVisible();
});

test('stills are one row that opens and says which frames are missing', async ({ page }) => {
  await page.goto('/');
  await page.getByRole('combobox', { name: 'Find a file, project or carrier' }).fill('tt_020_plate.1001');
  await page
    .getByRole('option', { name: /tt_020_plate\.1001/ })
    .first()
    .click();
  const sequence = page.getByRole('link', { name: /tt_020_plate\.\[1001-1240\]\.exr, 237 files/ });
  await expect(sequence).toHaveAttribute('title', 'frames 1058 to 1059 and 1122 are missing');
  await sequence.click();
  await expect(page.getByRole('link', { name: 'tt_020_plate.1003.exr', exact: true })).toBeVisible();
  await page.getByRole('link', { name: 'close', exact: true }).click();
  await page.getByRole('button', { name: 'Read it now' }).click();
  await workEnds(page, /^Read tide-tables/);
});

test('search takes filters in words, and says what it does not understand', async ({ page }) => {
  await page.goto('/');
  const field = page.getByRole('combobox', { name: 'Find a file, project or carrier' });
  await field.fill('frm kind:cache on:loft-1 older than 2 months');
  await expect(page.getByText('Files, kind cache, on volumes named like "loft-1", older than 2 months')).toBeVisible();
  await expect(page.getByRole('listbox').getByRole('option').first()).toContainText('loft-1 s');
  await field.fill('kind:film');
  await expect(page.getByText(/There is no kind "film"/)).toBeVisible();
});

test('a folder that is nobody’s becomes a project', async ({ page }) => {
  await page.goto('/');
  await page.getByRole('combobox', { name: 'Find a file, project or carrier' }).fill('phone clips');
  await page
    .getByRole('option', { name: /phone clips/ })
    .first()
    .click();
  await page.getByRole('button', { name: 'make it one' }).click();
  await page.getByLabel('Title of the project').fill('Harbour Lights');
  await page.getByRole('button', { name: 'Register' }).click();
  await expect(page.getByRole('alert')).toContainText('There is a project Harbour Lights already');
  await page.getByLabel('Title of the project').fill('Phone Diary');
  await page.getByRole('button', { name: 'Register' }).click();
  await expect(page.getByRole('heading', { level: 1, name: 'Phone Diary' })).toBeVisible();
});

test('a form says beside each field what is wrong with it, before anything is sent, and keeps what was typed', async ({
  page,
}) => {
  await page.goto('/storage?edit=volume');
  const sent: string[] = [];
  page.on('request', (request) => request.method() === 'POST' && sent.push(request.url()));
  await page.getByLabel('Quota in GB').fill('a lot');
  await page.getByLabel('Name', { exact: true }).first().fill('Attic');
  await page.getByRole('button', { name: 'Register and read it' }).click();
  const station = page.getByLabel('Station', { exact: true });
  await expect(station).toBeFocused();
  await expect(station).toHaveAccessibleDescription('The name is empty. Give one.');
  await expect(page.getByLabel('Quota in GB')).toHaveAccessibleDescription(/^"a lot" is no capacity\./);
  await expect(page.getByLabel('Quota in GB')).toHaveValue('a lot');
  await expect(page.getByRole('alert')).toHaveText('The name is empty. Give one. Nothing was changed.');
  const { violations } = await new AxeBuilder({ page }).include('main').analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);
  // What is mended says so at once; the others wait.
  await station.pressSequentially('loft-9');
  await expect(station).toHaveValue('loft-9');
  await expect(station).toBeFocused();
  await expect(station).toHaveAccessibleDescription('');
  await page.getByLabel('Quota in GB').fill('12');
  await expect(page.getByLabel('Quota in GB')).toHaveAccessibleDescription('');
  await expect(page.getByLabel('Name', { exact: true }).first()).toHaveValue('Attic');
  expect(sent).toEqual([]);
  // What only the server can know comes the same way, and what was typed stays as well.
  await page.getByLabel('Folder on this server').fill('/nowhere/at/all');
  await page.getByRole('button', { name: 'Register and read it' }).click();
  await expect(page.getByRole('alert')).toContainText('/nowhere/at/all');
  await expect(page.getByLabel('Folder on this server')).toHaveValue('/nowhere/at/all');
  expect(sent).toHaveLength(1);
});

test('a folder of this server is chosen from what lies there, with what speaks against it', async ({ page }) => {
  await page.goto('/storage?edit=volume');
  const field = page.getByLabel('Folder on this server');
  await field.fill(path.resolve(SITE));
  await page.getByRole('button', { name: 'Choose a folder' }).click();
  const dialog = page.getByRole('dialog');
  await expect(dialog.getByText(/which is registered on its own\. Register a narrower folder\.$/)).toBeVisible();
  const use = dialog.getByRole('button', { name: 'Use this folder' });
  await expect(use).toBeDisabled();
  await dialog.getByRole('button', { name: 'ropewalk-media' }).click();
  await expect(dialog.getByText(/is registered already, as Ropewalk media\.$/)).toBeVisible();
  await dialog.getByRole('button', { name: 'tide-tables' }).click();
  await expect(use).toBeEnabled();
  const { violations } = await new AxeBuilder({ page }).include('[role=dialog]').analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);
  await use.click();
  await expect(field).toHaveValue(path.resolve(SITE, 'ropewalk-media/tide-tables'));
  await field.fill('/nowhere/at/all');
  await page.getByRole('button', { name: 'Choose a folder' }).click();
  await expect(dialog.getByRole('alert')).toHaveText('/nowhere/at/all is not there on this server.');
  await dialog.getByRole('button', { name: 'Look at all of this server' }).click();
  await expect(dialog.getByRole('list', { name: 'Folders in it' })).toBeVisible();
});
