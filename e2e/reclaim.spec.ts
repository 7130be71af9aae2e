// Reclaim as people use it: a goal in a few clicks, files set aside and taken back, by mouse and by keyboard alone.
import { existsSync, readdirSync, readFileSync, statSync } from 'node:fs';
import path from 'node:path';
import AxeBuilder from '@axe-core/playwright';
import { choose, expect, type Page, test } from './test.ts';
import { HOME, PORT } from './place.ts';

const SITE = path.join(HOME, 'site');
const CLIPS = path.join(SITE, 'loft-2-system/Downloads/lens tests');

const bytesBelow = (folder: string): number =>
  readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .reduce(
      (sum, entry) => sum + (statSync(path.join(entry.parentPath, entry.name), { throwIfNoEntry: false })?.size ?? 0),
      0,
    );

async function workEnds(page: Page): Promise<void> {
  await expect(page.getByText('Nothing running')).toBeVisible({ timeout: 120_000 });
}

test('60 GB are freed in at most five clicks, and the receipt says so', async ({ page }) => {
  await page.goto('/reclaim');
  const before = bytesBelow(path.join(SITE, 'loft-1-scratch'));
  await page.getByRole('checkbox', { name: 'also projects in work' }).click();
  await expect(page).toHaveURL(/work=1/);
  await choose(page.getByLabel('On', { exact: true }), { label: 'loft-1 scratch' });
  await page.getByRole('button', { name: 'Find the least regretful' }).click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('all of it rebuilds itself');
  const add = page.getByRole('button', { name: /^Add 6\d\.\d.GB to the plan$/ });
  await add.click();
  await expect(page.getByRole('status')).toContainText('Nothing goes before the plan is run.');
  expect(bytesBelow(path.join(SITE, 'loft-1-scratch'))).toBe(before);
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: /^Run one step/ }).click();
  // Earlier work may be listed as done already: what counts is the disk, and that nothing runs any more.
  await expect.poll(() => bytesBelow(path.join(SITE, 'loft-1-scratch')), { timeout: 120_000 }).toBeLessThan(before);
  await page.keyboard.press('Escape');
  await workEnds(page);
  await page.goto('/ledger');
  await expect(page.getByRole('row').nth(1)).toContainText('Remove caches');

  // Its receipt has a page with every file, and all of them as a table to take away.
  await page
    .getByRole('row')
    .nth(1)
    .getByRole('link', { name: /Remove caches/ })
    .click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('Remove caches');
  await expect(page.getByRole('region', { name: 'Files of this receipt' }).getByRole('row').nth(1)).toContainText(
    'done',
  );
  const csv = await page.request.get((await page.getByRole('link', { name: 'CSV' }).getAttribute('href'))!);
  const lines = (await csv.text()).trimEnd().split('\r\n');
  expect(lines[0]).toBe('volume,path,bytes,state,why,detail,new path,xxh64');
  expect(lines.length).toBeGreaterThan(5000);
});

test('what nobody owns is set aside with its size typed; one file is taken back, by keyboard alone', async ({
  page,
}) => {
  const names = readdirSync(CLIPS).sort();
  const first = readFileSync(path.join(CLIPS, names[0]!));
  await page.goto('/reclaim?group=nobody’s');
  await page.getByRole('checkbox', { name: 'Choose Downloads/lens tests' }).focus();
  await page.keyboard.press('Space');
  const add = page.getByRole('button', { name: /^Add .*GB to the plan$/ });
  await expect(add).toBeEnabled();
  await add.focus();
  await page.keyboard.press('Enter');
  await expect(page.getByRole('status')).toContainText('Nothing goes before the plan is run.');
  await page.getByRole('button', { name: 'Review plan' }).focus();
  await page.keyboard.press('Enter');
  const run = page.getByRole('button', { name: /^Run one step/ });
  await expect(page.getByRole('heading', { name: /has no other copy/ })).toBeVisible();
  const typed = page.getByLabel(/^The only copy of/);
  await typed.focus();
  await page.keyboard.type('1 GB');
  await page.keyboard.press('Enter');
  await expect(page.getByRole('alert')).toContainText('Type that size to run it. Nothing was run.');
  expect(readdirSync(CLIPS).sort()).toEqual(names);
  const size = /The only copy of ([\d.]+).GB/.exec((await page.getByText(/^The only copy of/).textContent())!)![1]!;
  await typed.fill(`${size} GB`);
  await run.focus();
  await page.keyboard.press('Enter');
  await page.keyboard.press('Escape');
  await expect.poll(() => readdirSync(CLIPS), { timeout: 60_000 }).toEqual([]);
  await workEnds(page);

  // It takes its space still, and says so; one of them comes back.
  await page.goto('/reclaim/aside');
  await expect(page.getByRole('heading', { level: 1 })).toContainText('It still takes its space.');
  await page.getByRole('checkbox', { name: `Choose Downloads/lens tests/${names[0]}` }).focus();
  await page.keyboard.press('Space');
  await page.getByRole('button', { name: 'Take back 1 file' }).focus();
  await page.keyboard.press('Enter');
  await expect(page.getByRole('status')).toContainText('Begun');
  await workEnds(page);
  await expect.poll(() => readdirSync(CLIPS)).toEqual([names[0]]);
  expect(readFileSync(path.join(CLIPS, names[0]!)).equals(first)).toBe(true);
  // The rest goes back by one click.
  await page.goto('/reclaim/aside');
  await page.getByRole('list', { name: 'Set aside by' }).getByRole('link').first().click();
  await page.getByRole('button', { name: /^Take back all/ }).click();
  await expect.poll(() => readdirSync(CLIPS).sort(), { timeout: 60_000 }).toEqual(names);
  await workEnds(page);
  await page.goto('/reclaim/aside');
  await expect(page.getByRole('list', { name: 'Set aside by' }).getByRole('listitem')).toHaveCount(1);
  expect(existsSync(path.join(SITE, 'loft-2-system/.keramion/aside'))).toBe(true);
});

test('nonsense in a goal is answered with a sentence', async ({ page }) => {
  for (const asked of ['free=-4&on=3', 'free=many&on=3', 'free=10&on=999']) {
    await page.goto(`/reclaim?${asked}`);
    await expect(page.getByRole('alert')).toContainText('Nothing was worked out.');
  }
  const refused = await page.request.post('/reclaim', {
    form: { intent: 'stage', lines: 'x', cutDay: '3' },
    headers: { origin: `http://127.0.0.1:${PORT}` },
  });
  expect(refused.status()).toBe(422);
});

test('the unused media of a project are parked on another volume; the step is looked through first, and most of it left out', async ({
  page,
}) => {
  await page.goto('/projects');
  await page.getByRole('link', { name: 'Gannet Rock', exact: true }).click();
  await page.getByRole('button', { name: 'Move its media' }).click();
  const sheet = page.getByRole('dialog', { name: 'Move the media of Gannet Rock' });
  await sheet.getByRole('radio', { name: /What no timeline uses/ }).check();
  await choose(sheet.getByLabel('Volume'), { label: /^Carry 04/ });
  await sheet.getByRole('button', { name: 'Add the parking to the plan' }).click();
  await expect(sheet.getByRole('status')).toContainText('Added to the plan');
  await page.keyboard.press('Escape');
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('link', { name: /^Show the \d+ files of: Park/ }).click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText(
    'Park the unused media of Gannet Rock on Carry 04',
  );
  const rows = page.getByRole('region', { name: 'Files of the step' }).getByRole('checkbox');
  const names = await rows.evaluateAll((boxes) => boxes.map((box) => box.getAttribute('aria-label')!));
  expect(names.length).toBeGreaterThan(1);
  for (const name of names.slice(1)) await page.getByRole('checkbox', { name, exact: true }).click();
  await page.getByRole('button', { name: new RegExp(`^Leave out ${names.length - 1} files?,`) }).click();
  await expect(page.getByRole('status')).toContainText('They stay where they are.');
  await expect(rows).toHaveCount(1);
  expect((await new AxeBuilder({ page }).analyze()).violations.map((v) => v.id)).toEqual([]);
  const kept = names[0]!.replace('Choose ', '');
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Run one step' }).click();
  const left = path.join(SITE, 'ropewalk-media', kept);
  await expect.poll(() => existsSync(left), { timeout: 120_000 }).toBe(false);
  await page.keyboard.press('Escape');
  await workEnds(page);
  expect(readdirSync(path.join(SITE, 'carry-04/parked/gannet-rock'), { recursive: true })).toContain(
    path.basename(kept),
  );
  await page.goto('/projects');
  await page.getByRole('link', { name: 'Gannet Rock', exact: true }).click();
  await page.getByRole('button', { name: 'Move its media' }).click();
  await expect(page.getByRole('heading', { name: 'Parked' })).toBeVisible();
  await expect(page.getByRole('button', { name: 'Add bringing it back to the plan' })).toBeVisible();
});

test('what may go is chosen by eye, with the pointer and by keyboard; table and effect follow', async ({ page }) => {
  await page.goto('/reclaim?left=1');
  const plot = page.getByRole('group', { name: /by age and size/ });
  const add = page.getByRole('button', { name: /to the plan$/ }).first();
  await expect(add).toBeDisabled();
  await plot.focus();
  await page.keyboard.press('Space');
  await expect(page.getByRole('checkbox', { name: 'Choose every line' })).toBeChecked();
  await expect(add).toBeEnabled();
  const all = await add.textContent();
  for (let i = 0; i < 40; i++) await page.keyboard.press('Shift+ArrowLeft');
  await expect(add).not.toHaveText(all!);
  await page.keyboard.press('Escape');
  await expect(add).toBeDisabled();
  const box = (await plot.boundingBox())!;
  await page.mouse.move(box.x + 60, box.y + 4);
  await page.mouse.down();
  await page.mouse.move(box.x + box.width - 2, box.y + box.height - 2, { steps: 4 });
  await page.mouse.up();
  await expect(add).toHaveText(all!);
  const ages = page.getByRole('group', { name: 'Choose by age' }).getByRole('button');
  await expect(ages.first()).toContainText('days ·');
  await ages.last().click();
  await expect(add).toBeEnabled();
});

test('what can go is told in a folder, on a file and for a search, and goes from there', async ({ page }) => {
  await page.goto('/');
  const field = page.getByRole('combobox', { name: /Find a file/ });
  await field.fill('D003C');
  await page.getByRole('option', { name: /What can go of files with/ }).click();
  await expect(page).toHaveURL(/find=D003C/);
  await expect(page.getByText('Caches and empty folders go folder by folder')).toBeVisible();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('with “D003C” in the name');
  await page.getByRole('link', { name: /^Unused media/ }).click();
  const lines = page.getByRole('region', { name: 'What may go' });
  await lines.getByRole('checkbox').nth(1).click();
  const add = page.getByRole('button', { name: /^Add .* to the plan/ }).first();
  const amount = /Add (.*) to the plan/.exec((await add.textContent())!)![1]!;
  await add.click();
  await expect(page.getByRole('status')).toContainText(`Added ${amount}`);
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Empty the plan' }).click();
  await expect(page.getByTestId('plan-summary')).toHaveText('nothing in the plan');
  // From the line to its folder, and one file of it.
  await page.goto('/reclaim?work=1&group=unused%20media');
  await page.getByRole('region', { name: 'What may go' }).getByRole('link').first().click();
  await expect(page.getByRole('link', { name: /of unused media$/ })).toBeVisible();
  await page.getByRole('link', { name: /of unused media$/ }).click();
  await expect(page).toHaveURL(/folder=\d+.*group=unused/);
  await expect(page.getByRole('link', { name: /^No longer only in / })).toBeVisible();
  await page.goBack();
  await page.getByRole('region', { name: 'Files' }).getByRole('link').first().click();
  await expect(page.getByText('Lies in')).toBeVisible();
  await page.getByRole('button', { name: 'Add to the plan' }).click();
  await expect(page.getByRole('status')).toContainText('Nothing goes before the plan is run');
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Empty the plan' }).click();
  await expect(page.getByTestId('plan-summary')).toHaveText('nothing in the plan');
});
