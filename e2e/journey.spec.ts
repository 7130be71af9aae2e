// The whole path in one go, on real files: read, look, purge, archive with a read-back, remove the originals, restore.
import { execFileSync } from 'node:child_process';
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { ofToday } from '../test/of-today.ts';
import { choose, expect, type Page, test } from './test.ts';
import { HOME } from './place.ts';

const SITE = path.join(HOME, 'site');
test.describe.configure({ mode: 'serial' });

/** Runs the staged plan and waits until its work has ended. */
async function runPlan(page: Page, steps: string, title: string | RegExp) {
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: `Run ${steps}` }).click();
  const work = page.getByRole('dialog', { name: 'Work' });
  await expect(work).toBeVisible();
  const row = work.locator('.rows > div').filter({ hasText: title }).first();
  await expect(row.getByText('done', { exact: true })).toBeVisible({ timeout: 180_000 });
  await page.keyboard.press('Escape');
  await expect(work).toBeHidden();
}

const countFiles = (folder: string): number =>
  readdirSync(folder, { recursive: true, withFileTypes: true }).filter((entry) => entry.isFile()).length;

test('one project travels the whole way and comes back with all its media', async ({ page }) => {
  test.setTimeout(600_000);
  await page.goto('/');
  await expect(page.getByRole('heading', { level: 1 })).toContainText('loft-1 scratch is full in');

  // Its disks are read again but for the one that is away; the newest pieces of work are shown.
  await page.getByRole('button', { name: 'Work', exact: true }).click();
  await page.getByRole('button', { name: 'Read all volumes' }).click();
  const work = page.getByRole('dialog', { name: 'Work' });
  const read = work.locator('.rows > div').filter({ hasText: /^Read / });
  await expect(read.filter({ hasText: 'done' })).toHaveCount(8, { timeout: 180_000 });
  await page.keyboard.press('Escape');

  // The manager sees where it lives, and narrows the rack to one disk.
  await page.getByRole('link', { name: 'Night Ferry', exact: true }).click();
  await expect(page.getByText('38 of 38')).toBeVisible();
  await page.goto('/reclaim/caches?v=5');
  await expect(page.getByRole('heading', { level: 1 })).toContainText('Nothing in it is irreplaceable.');

  // It purges the caches of that disk that are older than a month.
  const before = countFiles(path.join(SITE, 'loft-2-scratch/cache'));
  await page.getByRole('button', { name: /^Add .* to the plan/ }).click();
  await expect(page.getByRole('status')).toContainText('Nothing goes before the plan is run.');
  expect(countFiles(path.join(SITE, 'loft-2-scratch/cache'))).toBe(before);
  const staged = Number(/in ([\d,]+) files/.exec(await page.getByRole('status').innerText())![1]!.replace(',', ''));
  await runPlan(page, 'one step', 'Remove caches last changed');
  expect(countFiles(path.join(SITE, 'loft-2-scratch/cache'))).toBe(before - staged);

  // It archives the delivered project on a carrier; the small one is refused with a reason.
  await page.goto('/archive');
  await page.getByRole('link', { name: 'Shape an archive of Night Ferry' }).click();
  const carriers = page.getByRole('group', { name: 'Carriers' });
  await expect(carriers).toBeVisible();
  for (const other of await carriers.getByRole('checkbox').all()) await other.uncheck();
  await page.getByRole('checkbox', { name: /KD-0002/ }).check();
  await page.getByRole('button', { name: 'Add the archive to the plan' }).click();
  await page.getByRole('button', { name: 'Review plan' }).click();
  await expect(page.getByText('KD-0002 is too small')).toBeVisible();
  await expect(page.getByRole('button', { name: 'Run one step' })).toBeDisabled();
  await page.getByRole('button', { name: /^Take out/ }).click();
  await expect(page.getByRole('heading', { name: 'The plan is empty.' })).toBeVisible();
  await page.keyboard.press('Escape');
  await page.getByRole('checkbox', { name: /KD-0002/ }).uncheck();
  await page.getByRole('checkbox', { name: /KD-0001/ }).check();
  await page.getByLabel('Name on the carrier').fill('night-ferry_test');
  // What was delivered stays where it is: the two largest files of all.
  await page.getByRole('checkbox', { name: /^Deliveries/ }).uncheck();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('becomes a 5.');
  await page.getByRole('button', { name: 'Add the archive to the plan' }).click();
  await expect(page.getByText(/Added an archive of/)).toBeVisible();
  await runPlan(page, 'one step', 'Archive Night Ferry on KD-0001');

  // The bag is true for plain tools too.
  const bag = path.join(SITE, 'carriers/kd-0001/night-ferry_test');
  const manifest = readFileSync(path.join(bag, 'manifest-sha512.txt'), 'utf8').trim().split('\n');
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', '-'], {
    ...{ cwd: bag, encoding: 'utf8', input: `${ofToday(manifest, 4).join('\n')}\n` },
  });
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'tagmanifest-sha512.txt'], { cwd: bag });
  expect(readFileSync(path.join(bag, 'bagit.txt'), 'utf8')).toBe(
    'BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n',
  );

  // Then, and only then, the originals may go.
  await page.goto('/shelf');
  await page.getByRole('link', { name: 'Release the originals of Night Ferry' }).click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('One good copy, read back whole');
  for (const other of await page.getByRole('checkbox', { name: /goes for good|set aside/ }).all())
    await other.uncheck();
  await page.getByRole('button', { name: 'Add the release to the plan' }).click();
  await expect(page.getByRole('status')).toContainText('in 1 step to the plan');
  const original = path.join(SITE, 'ropewalk-media/night-ferry/camera/B007C001_0311.mov');
  expect(existsSync(original)).toBe(true);
  await runPlan(page, 'one step', 'Remove originals of Night Ferry');
  expect(existsSync(original)).toBe(false);

  // It comes back under another name, and finds all its media.
  await page.goto('/shelf');
  await page.getByRole('button', { name: 'Restore Night Ferry' }).click();
  await choose(page.getByLabel('To the volume'), { label: /^Ropewalk media/ });
  await page.getByLabel('In a folder named').fill('night-ferry again');
  await page.getByRole('button', { name: 'Add the restore to the plan' }).click();
  await expect(page.getByText(/Added the restore/)).toBeVisible();
  await page.getByRole('button', { name: 'Close', exact: true }).click();
  await runPlan(page, 'one step', 'Restore Night Ferry to Ropewalk media');
  await page.goto('/projects');
  await page.getByRole('link', { name: 'Night Ferry', exact: true }).click();
  await expect(page.getByText('38 of 38')).toBeVisible();
  const back = path.join(SITE, 'ropewalk-media/night-ferry again/media/Reels/Deck/B007C001_0311.mov');
  const probed = execFileSync(
    'ffprobe',
    ['-v', 'error', '-show_entries', 'stream=codec_name,nb_frames', '-of', 'csv=p=0', back],
    { encoding: 'utf8' },
  );
  expect(probed).toContain('mjpeg');
  const document = JSON.parse(
    readFileSync(path.join(SITE, 'ropewalk-media/night-ferry again/documents/night-ferry_final.otio'), 'utf8'),
  ) as unknown;
  const urls = JSON.stringify(document).match(/file:\/\/[^"]*night-ferry%20again[^"]*/g) ?? [];
  expect(urls.length).toBeGreaterThan(20);
  for (const url of new Set(urls)) expect(existsSync(decodeURIComponent(url.slice('file://'.length)))).toBe(true);

  // The ledger holds a receipt for each.
  await page.goto('/ledger');
  const receipts = page.getByRole('region', { name: 'Receipts' });
  for (const words of ['caches removed', 'archive sealed', 'originals removed', 'project restored'])
    await expect(receipts.getByText(words, { exact: true }).first()).toBeVisible();
});
