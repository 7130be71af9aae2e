// Reach, on real documents: scopes of timelines and their complement, comparison, missing media told with evidence and
// relinked into a new version, exports and the report.
import { existsSync, readFileSync } from 'node:fs';
import path from 'node:path';
import AxeBuilder from '@axe-core/playwright';
import { choose as chooseOf, expect, type Page, test } from './test.ts';
import { HOME } from './place.ts';

const SITE = path.join(HOME, 'site');

async function project(page: Page, name: string) {
  await page.goto('/projects');
  await page.getByRole('link', { name, exact: true }).click();
  await expect(page.getByRole('heading', { level: 1, name })).toBeVisible();
}
const clean = async (page: Page) => {
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map((v) => `${v.id} ${v.nodes.map((n) => n.target.join(' ')).join(', ')}`)).toEqual([]);
};
/** What is built from the address is there once the page shows what was chosen. */
async function choose(page: Page, name: RegExp | string) {
  const link = page.getByRole('link', { name, exact: typeof name === 'string' }).first();
  await link.click();
  await expect(link).toHaveAttribute('aria-current', 'true');
}
const clips = (page: Page) => page.getByRole('region', { name: 'Clips' }).locator('tbody tr:not([aria-hidden])');

test('a timeline is a scope: what it reaches, what it does not, and two compared', async ({ page }) => {
  await project(page, 'Lamp Keepers');
  await choose(page, /^teaser 30s/);
  await choose(page, 'used');
  await expect(clips(page)).toHaveCount(3);
  await expect(page.getByText('3 clips')).toBeVisible();
  await choose(page, 'unused');
  await expect(page.getByText('60 clips')).toBeVisible();
  await choose(page, /^ep3 v12/);
  const show = page.getByRole('group', { name: 'Show' });
  await show.getByRole('link', { name: 'in both' }).click();
  await expect(clips(page).first()).toContainText('teaser 30s');
  await expect(clips(page).first()).toContainText('ep3 v12');
  await show.getByRole('link', { name: 'only teaser 30s' }).click();
  await expect(page.getByText('No clip here is like that.').or(clips(page).first())).toBeVisible();
  await chooseOf(page.getByLabel('What counts as a use'), 'sound');
  await expect(page).toHaveURL(/uses=sound/);
  await clean(page);
  // The second while the first is still on its way.
  await project(page, 'Lamp Keepers');
  await page.getByRole('link', { name: /^ep3 v11/ }).click();
  await page.getByRole('link', { name: /^opening titles/ }).click();
  await expect(page).toHaveURL(/t=\d+%2C\d+/);
});

test('nested, changed in speed and switched off: the strip is exact, and off can be left out', async ({ page }) => {
  await project(page, 'Lamp Keepers');
  await choose(page, /^ep3 v12/);
  await page.getByLabel('Clips named').fill('D003C060');
  await page.getByLabel('Clips named').press('Enter');
  // Used by the opening titles, which the cut holds.
  await expect(clips(page)).toHaveCount(1);
  await expect(clips(page).first()).toContainText('ep3 v12');
  await page.getByLabel('Clips named').fill('A012C013');
  await page.getByLabel('Clips named').press('Enter');
  await expect(clips(page).first()).toContainText('ep3 v12');
  await chooseOf(page.getByLabel('What counts as a use'), 'on');
  await expect(clips(page).first()).toContainText('none');
});

test('what is borrowed and lent is told, as a list and as a picture', async ({ page }) => {
  await project(page, 'Tide Tables');
  await choose(page, /^All clips/);
  await choose(page, 'borrowed');
  await expect(clips(page)).toHaveCount(1);
  await expect(clips(page).first()).toContainText('from Lamp Keepers');
  await choose(page, 'all');
  await page.getByRole('link', { name: 'as a picture' }).click();
  await expect(page.getByRole('region', { name: 'What uses what' }).locator('svg text').first()).toBeVisible();
  await clean(page);
  // Of chosen rows alone.
  await page.getByRole('link', { name: 'as a picture' }).click();
  for (const row of [0, 2]) await clips(page).nth(row).getByRole('checkbox').click();
  await expect(page.getByText(/^2 of 17 clips chosen, /)).toBeVisible();
  await page.getByRole('link', { name: 'as a picture' }).click();
  await expect(page.getByRole('region', { name: 'What uses what' }).locator('li')).toHaveCount(2);
  await clean(page);
  await page.getByRole('link', { name: 'No longer only the chosen' }).click();
  await expect(page.getByRole('region', { name: 'What uses what' }).locator('li')).toHaveCount(17);
  // Paths of a drive letter and of a share were understood.
  await expect(page.getByText('16 of 17')).toBeVisible();
});

test('missing media come with evidence; what is taken becomes a new version, neighbours follow', async ({ page }) => {
  const old = path.join(SITE, 'ropewalk-projects/lamp-keepers/lamp-keepers_ep3.otio');
  const before = readFileSync(old, 'utf8');
  await page.goto('/');
  await page.getByRole('link', { name: 'Find them: 3 pieces of media of Lamp Keepers cannot be found' }).click();
  await expect(page.getByRole('heading', { level: 1 })).toHaveText(
    '3 clips are missing their media; 2 are found with certainty.',
  );
  await clean(page);
  // What nobody could decide but a person is open already.
  const choices = page.getByRole('list', { name: 'What lighthouse_model_02.mov may be' });
  await expect(choices.getByText('likely', { exact: true })).toHaveCount(2);
  await expect(choices.getByText('the same name').first()).toBeVisible();
  await choices.getByRole('button', { name: /from the museum/ }).click();
  await page.getByRole('button', { name: 'Add the relinking of 3 clips to the plan' }).click();
  await expect(page.getByRole('status').filter({ hasText: 'will get a new version' })).toBeVisible();
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Run one step' }).click();
  const fresh = old.replace('_ep3.otio', '_ep3 v2.otio');
  await expect.poll(() => existsSync(fresh), { timeout: 60_000 }).toBe(true);
  // Running a plan opens the work.
  const row = page
    .getByRole('dialog', { name: 'Work' })
    .locator('.rows > div')
    .filter({ hasText: 'Relink 3 clips' })
    .first();
  await expect(row.getByText('done', { exact: true })).toBeVisible({ timeout: 60_000 });
  await page.keyboard.press('Escape');
  expect(readFileSync(old, 'utf8')).toBe(before);
  expect(readFileSync(fresh, 'utf8')).toContain('from%20the%20museum/lighthouse_model_02.mov');
  await project(page, 'Lamp Keepers');
  await expect(page.getByText('63 of 63')).toBeVisible();
  await page.goto('/ledger');
  await expect(page.getByText('Relink 3 clips of Lamp Keepers').first()).toBeVisible();
});

test('what is on the screen can be taken along: CSV, JSON, and a report for paper', async ({ page, request }) => {
  await project(page, 'Gannet Rock');
  await expect(page.getByText('6 of 6')).toBeVisible();
  const csv = await request.get((await page.getByRole('link', { name: 'CSV' }).getAttribute('href'))!);
  const lines = (await csv.text()).trimEnd().split('\r\n');
  expect(lines[0]).toBe('clip,state,kind,bytes,duration,used,timelines,place,borrowed from,lent to');
  expect(lines).toHaveLength(7);
  expect(lines[1]).toMatch(/^G004C001\.mov,found,source,\d+,00:00:13:08,[\d.]+ %,Gannet Rock,Ropewalk media/);
  const json = (await (
    await request.get((await page.getByRole('link', { name: 'JSON' }).getAttribute('href'))!)
  ).json()) as {
    clips: unknown[];
  };
  expect(json.clips).toHaveLength(6);
  await clips(page).first().getByRole('checkbox').click();
  const one = await request.get((await page.getByRole('link', { name: 'CSV' }).getAttribute('href'))!);
  expect((await one.text()).trimEnd().split('\r\n')).toEqual([lines[0], lines[1]]);
  await page.getByRole('link', { name: 'report' }).click();
  await expect(page.getByRole('heading', { level: 1, name: 'Gannet Rock: its media' })).toBeVisible();
  await clean(page);
  await page.emulateMedia({ media: 'print' });
  await expect(page.getByRole('navigation', { name: 'Storage' })).toBeHidden();
  await expect(page.getByRole('button', { name: 'Print' })).toBeHidden();
});

test('from a clip to its place: structure, moments, uses by name, each station’s path', async ({ page }) => {
  await project(page, 'Tide Tables');
  await page.getByRole('link', { name: 'A021C001_0112', exact: true }).click();
  await expect(page.getByText('jpeg, 960 by 540, 24 a second')).toBeVisible();
  await expect(page.getByText('R:\\tide-tables\\camera\\A021C001_0112.mov')).toBeVisible();
  await expect(page.getByText(/in tide tables picture lock/)).toBeVisible();
  const first = page.getByRole('img', { name: 'Moments of A021C001_0112.mov' }).locator('img').first();
  await expect.poll(() => first.evaluate((img: HTMLImageElement) => img.naturalWidth)).toBeGreaterThan(50);
});

test('the media of a clip can be replaced, with what speaks against it told first', async ({ page }) => {
  await project(page, 'Night Ferry');
  await page.getByRole('link', { name: 'Replace the media of B007C002_0311' }).click();
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('What B007C002_0311.mov may be replaced with.');
  await page.getByLabel('Look for files named').fill('D003C050');
  await page.getByRole('button', { name: 'Search', exact: true }).click();
  const row = page.getByRole('listitem').filter({ hasText: 'D003C050_0427.mov' });
  await expect(row.getByText('unlikely')).toBeVisible();
  await expect(row.getByText('it does not hold all that is used')).toBeVisible();
  await clean(page);
});
