// Shaping an archive in the real interface: used ranges with handles, some timelines, a shape that is kept, and a plan that
// says what will be written; then the copies of an archive are read back from the shelf.
import { readdirSync, readFileSync, renameSync } from 'node:fs';
import path from 'node:path';
import AxeBuilder from '@axe-core/playwright';
import mysql from 'mysql2/promise';
import { HOME } from './place.ts';
import { choose, expect, test } from './test.ts';

/** The folder of a piece of media of the newest step. */
async function folderOfStep(): Promise<string> {
  const db = await mysql.createConnection(process.env.KERAMION_E2E_DATABASE!);
  const [[row]] = await db.query<mysql.RowDataPacket[]>(
    `SELECT CONCAT(v.path, '/', i.path) AS at FROM step_items i JOIN volumes v ON v.id = i.volume_id JOIN step_parts p ON p.step_id = i.step_id AND p.file_id = i.file_id
     WHERE i.step_id = (SELECT MAX(id) FROM steps) ORDER BY i.id LIMIT 1`,
  );
  await db.end();
  return path.dirname(row!.at as string);
}

const bytes = (text: string): number => {
  const [, number, unit] = /([\d.]+)\s*(B|kB|MB|GB)/.exec(text)!;
  return Number(number) * { B: 1, kB: 1e3, MB: 1e6, GB: 1e9 }[unit as 'B']!;
};

test('an archive is shaped to what some timelines use, kept as a shape, and weighed in the plan', async ({ page }) => {
  await page.goto('/archive/3');
  const sentence = page.getByRole('heading', { level: 1 });
  const becomes = async () => bytes((await sentence.textContent())!.split('becomes a ')[1]!);
  const whole = await becomes();
  await choose(page.getByLabel('How much of each file'), 'used');
  await expect(page.getByText(/\d+ files? cut without encoding anew, \d+ whole/)).toBeVisible();
  await expect(page.getByText(/_f\d{6}\.mov/).first()).toBeVisible();
  const used = await becomes();
  expect(used).toBeLessThan(whole / 2);
  // Longer handles weigh more.
  await page.getByLabel('Handles', { exact: true }).fill('4');
  await page.getByLabel('Handles', { exact: true }).press('Enter');
  await expect.poll(becomes).toBeGreaterThan(used);

  // One timeline alone weighs less; by keyboard, and by mouse back again.
  await page.getByText('of all 5 timelines').click();
  const boxes = page.getByRole('list', { name: 'Timelines' }).getByRole('checkbox');
  const all = await becomes();
  await boxes.first().focus();
  await page.keyboard.press('Space');
  await expect(page.getByText('1 timeline of 5')).toBeVisible();
  await expect.poll(becomes).toBeLessThan(all);
  // A bin comes as a whole, beside what the timeline uses.
  await page.getByText('and of no bin as a whole').click();
  const one = await becomes();
  await page
    .getByRole('list', { name: 'Bins' })
    .getByRole('checkbox', { name: 'Episode 3/Drone', exact: true })
    .check();
  await expect(page.getByText(/^1 bin of \d+/)).toBeVisible();
  await expect.poll(becomes).toBeGreaterThan(one);
  await page
    .getByRole('list', { name: 'Bins' })
    .getByRole('checkbox', { name: 'Episode 3/Drone', exact: true })
    .uncheck();
  await boxes.first().click();
  await expect(page.getByText('of all 5 timelines')).toBeVisible();

  await page.getByLabel('Save this shape as').fill('Documentaries');
  await page.getByLabel('Save this shape as').press('Enter');
  await expect(page.getByRole('status')).toContainText('Saved the shape Documentaries.');
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);

  // It is offered for another project, and makes the same of it.
  await page.goto('/archive/4');
  await choose(page.getByLabel('Shape', { exact: true }), 'Documentaries');
  await expect(page.getByLabel('How much of each file')).toHaveText(/used ranges/);
  await expect(page.getByLabel('Handles', { exact: true })).toHaveValue('4');

  await page.goto('/archive/3?handles=1s&gap=2');
  // Not the two that the house's rule proposes.
  for (const name of ['Far shore', 'KD-0006']) await page.getByRole('checkbox', { name: new RegExp(name) }).uncheck();
  await page.getByRole('checkbox', { name: /KD-0001/ }).check();
  await page.getByRole('button', { name: 'Add the archive to the plan' }).click();
  await expect(page.getByRole('status')).toContainText('Added an archive of');
  await page.getByRole('button', { name: 'Review plan' }).click();
  // Told about at first; to the byte once a worker has read where the frames lie.
  await expect(page.getByText('not weighed yet')).toHaveCount(0, { timeout: 120_000 });
  await page.getByRole('button', { name: 'Take out: Archive Lamp Keepers on KD-0001' }).click();
  await expect(page.getByText('Archive Lamp Keepers on KD-0001')).toHaveCount(0);
});

test('the copies of an archive are read back from the shelf', async ({ page }) => {
  await page.goto('/shelf');
  await page.getByRole('button', { name: /^Read back now: Brine Road/ }).click();
  await expect(page.getByRole('status')).toContainText('Reading back what is on KD-0001 begins');
  await expect(async () => {
    await page.goto('/ledger');
    await expect(page.getByText(/Brine Road.* on KD-0001: .*all as sealed/)).toBeVisible({ timeout: 2000 });
  }).toPass({ timeout: 60_000 });
});

test('one timeline is handed over on a volume that can be carried away, and the receipt says to whom', async ({
  page,
}) => {
  await page.goto('/archive/3');
  await page.getByRole('link', { name: 'Hand it over' }).click();
  const sentence = page.getByRole('heading', { level: 1 });
  await expect(sentence).toContainText('Somebody gets');
  await page.getByText('of all 5 timelines').click();
  await page
    .getByRole('list', { name: 'Timelines' })
    .getByRole('checkbox', { name: /teaser 30s/ })
    .click();
  await expect(page.getByText('1 timeline of 5')).toBeVisible();
  await choose(page.getByLabel('How much of each file'), 'used');
  await page.getByLabel(/^For/).fill('Ida Holm, grading');
  await expect(sentence).toContainText('Ida Holm, grading gets');
  await choose(page.getByLabel('All of it is written'), 'zip');
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);
  await page.getByRole('checkbox', { name: /^Go on without media/ }).click();
  await page.getByRole('button', { name: 'Add the hand-over to the plan' }).click();
  await expect(page.getByRole('status')).toContainText('for Ida Holm, grading to the plan.');
  // A folder of its media is somewhere else when it is their turn.
  const folder = await folderOfStep();
  renameSync(folder, `${folder} away`);
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Run one step' }).click();
  const again = page.getByRole('button', { name: /^Try again: Hand over Lamp Keepers/ });
  await expect(again).toBeVisible({ timeout: 120_000 });
  renameSync(`${folder} away`, folder);
  await expect(page.getByText('Work waits for an answer')).toBeVisible();
  await again.click();
  await expect(page.getByRole('status').filter({ hasText: 'It is tried again' })).toBeVisible();
  await page.goto('/ledger');
  await expect(page.getByText(/^Hand over Lamp Keepers to Ida Holm, grading on Carry 04/).first()).toBeVisible({
    timeout: 120_000,
  });
  // It is no archive, and is told where the next is shaped.
  await page.goto('/shelf');
  await expect(page.getByText('Ida Holm')).toHaveCount(0);
  await page.goto('/archive/3?for=hand-over');
  await expect(page.getByText('Handed over before')).toBeVisible();
  await expect(page.getByText(/on Carry 04$/)).toBeVisible();
});

test('an archive has a page: what it holds, another copy of it, what it lets go of, and what is built on it', async ({
  page,
}) => {
  await page.goto('/shelf');
  await page.getByRole('link', { name: /winter-pilots_used-ranges/ }).click();
  const sentence = page.getByRole('heading', { level: 1 });
  await expect(sentence).toContainText('One good copy, read back whole');
  await expect(page.getByText('1 of 2 copies')).toBeVisible();
  // Of a project in work nothing is let go of unasked.
  await expect(page.getByRole('checkbox', { name: /Originals/ })).not.toBeChecked();
  await expect(page.getByRole('button', { name: 'Add the release to the plan' })).toBeDisabled();
  await page.getByLabel('Find in this archive').fill('W001C003');
  await page.getByLabel('Find in this archive').press('Enter');
  const files = page.getByRole('region', { name: 'Files of this archive' });
  await expect(files.getByText(/W001C003_f\d+\.mov/)).toBeVisible();
  await expect(files.getByText(/W001C001/)).toHaveCount(0);
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);

  await page
    .getByRole('list', { name: 'Carriers for another copy' })
    .getByRole('checkbox', { name: /KD-0001/ })
    .check();
  await page.getByRole('button', { name: 'Add a copy to the plan' }).click();
  await expect(page.getByRole('status')).toContainText('Added a copy of');
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Run one step' }).click();
  await expect(async () => {
    await page.goto('/shelf/6');
    await expect(sentence).toContainText('Two good copies', { timeout: 2000 });
  }).toPass({ timeout: 60_000 });
  await expect(page.getByText('1 of 2 copies')).toHaveCount(0);
  await expect(page.getByRole('link', { name: /^copy written/ })).toBeVisible();

  // The next archive of it can build on an earlier one.
  await page.getByRole('link', { name: 'Project Winter Pilots' }).click();
  await page.waitForURL(/\/projects\/\d+/);
  const projectId = /\/projects\/(\d+)/.exec(page.url())![1]!;
  await page.goto(`/archive/${projectId}`);
  await choose(page.getByLabel('Builds on'), { label: 'winter-pilots_before-the-mix' });
  await expect(page.getByText('4 files lie there as now')).toBeVisible();
  await expect(page.getByText('in the earlier archive').first()).toBeVisible();
  expect(bytes((await sentence.textContent())!.split('becomes a ')[1]!)).toBeLessThan(100_000);
});

test('one timeline of an archive is brought back in six clicks, and a file that was ticked', async ({ page }) => {
  await page.goto('/shelf/4');
  await page.getByRole('button', { name: /^Restore / }).click();
  const dialog = page.getByRole('dialog');
  await dialog.getByRole('radio', { name: 'By timeline' }).click();
  await expect(dialog.getByRole('button', { name: 'Add the restore to the plan' })).toBeDisabled();
  const offered = dialog.getByRole('list', { name: 'Offered' });
  await expect(offered.getByText('2 pieces of its media are not in this archive')).toBeVisible();
  await offered.getByRole('checkbox', { name: 'reel 1' }).click();
  await expect(dialog.getByText(/^[\d.]+ .B, about /)).toBeVisible();
  const { violations } = await new AxeBuilder({ page }).include('[role=dialog]').analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);
  await choose(dialog.getByLabel('Of its media', { exact: true }), { label: /^used ranges alone, [\d.]+ MB$/ });
  await expect(dialog.getByText(/^About [\d.]+ MB, about /)).toBeVisible();
  await dialog.getByLabel('In a folder named').fill('one timeline');
  await choose(dialog.getByLabel('To the volume'), { label: /^Ropewalk media/ });
  await dialog.getByRole('button', { name: 'Add the restore to the plan' }).click();
  await expect(dialog.getByRole('status')).toContainText('Added the restore of');
  await dialog.getByRole('button', { name: 'Close' }).click();
  await page.getByRole('button', { name: 'Review plan' }).click();
  await expect(
    page.getByText(/Restore the timeline reel 1, used ranges alone, of Winter Pilots to Ropewalk media/).first(),
  ).toBeVisible();
  await page.getByRole('button', { name: 'Run one step' }).click();
  await expect(async () => {
    await page.goto('/ledger');
    await expect(page.getByRole('link', { name: /^Restore the timeline/ }).first()).toBeVisible({ timeout: 2000 });
  }).toPass({ timeout: 60_000 });
  await page.goto('/shelf/4');
  await page
    .getByRole('region', { name: 'Files of this archive' })
    .getByRole('checkbox', { name: /W001C002/ })
    .click();
  await page.getByRole('button', { name: 'Restore 1 file' }).click();
  await expect(page.getByRole('radio', { name: '1 file' })).toBeChecked();
  // It is where it was, so that there is nothing to put back.
  await dialog.getByRole('radio', { name: 'Where it was' }).click();
  await expect(dialog.getByText('1 file of it is there already.')).toBeVisible();
  await expect(dialog.getByRole('button', { name: 'Add putting it back to the plan' })).toBeDisabled();
});

test('what is gone goes back where it was', async ({ page }) => {
  await page.goto('/shelf/9');
  const files = page.getByRole('region', { name: 'Files of this archive' });
  await files.getByRole('checkbox', { name: /\.otio\.original/ }).click();
  await page.getByRole('button', { name: 'Restore 1 file' }).click();
  const dialog = page.getByRole('dialog');
  await dialog.getByRole('radio', { name: 'Where it was' }).click();
  await expect(dialog.getByRole('list', { name: 'What comes back to which volume' })).toContainText('1 file');
  const { violations } = await new AxeBuilder({ page }).include('[role=dialog]').analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);
  await dialog.getByRole('button', { name: 'Add putting it back to the plan' }).click();
  await dialog.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Run one step' }).click();
  await expect(async () => {
    await page.goto('/ledger');
    await expect(page.getByRole('link', { name: 'Put 1 file of Zinc Shore back where it was' }).first()).toBeVisible({
      timeout: 2000,
    });
  }).toPass({ timeout: 60_000 });
});

test('a carrier is found by its number, comes back from whom it was lent to, and its label is printed', async ({
  page,
}) => {
  await page.goto('/shelf');
  await page.getByRole('link', { name: /^damaged, full or lent/ }).click();
  const jars = page.getByRole('list', { name: 'Carriers', exact: true }).getByRole('listitem');
  await expect(page.getByText(/lent to Jon Vik/).first()).toBeVisible();
  await expect(jars.filter({ hasText: 'KD-0002' })).toHaveCount(0);
  await choose(page.getByLabel('Carriers and archives of a project'), { label: 'Winter Pilots' });
  await expect(jars.filter({ hasText: 'Far shore' })).toHaveCount(0);
  await expect(jars.filter({ hasText: 'KD-0002' })).toContainText(/read back .*, \d years old/);
  const shown = page.getByRole('region', { name: 'Archives and their copies' }).getByRole('row');
  await expect(shown.filter({ hasText: 'winter-pilots_reel-1' }).first()).toBeVisible();
  await expect(shown.filter({ hasText: 'Undertow' })).toHaveCount(0);
  // As a scanner does it: the number, and Enter.
  await page.locator('body').press('/');
  await page.keyboard.type('KD-0004');
  await expect(page.getByRole('option', { name: /KD-0004/ }).first()).toBeVisible();
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/\/shelf\/carrier\/\d+/);
  const sentence = page.getByRole('heading', { level: 1 });
  await expect(sentence).toContainText('lent to Jon Vik, grading, due back on');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByRole('alert')).toContainText('That is what is known of KD-0004 already');
  await page.getByLabel('Lent to').fill('');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByRole('alert')).toContainText('due back is lent to somebody');
  await page.getByLabel('Due back on').fill('');
  await page.getByLabel('Kept in').fill('Bank, box 12');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(sentence).toContainText('It is in Bank, box 12');
  await expect(page.getByRole('link', { name: /KD-0004 back from Jon Vik, grading and from Cabinet/ })).toBeVisible();
  await page.getByRole('link', { name: 'Print its label' }).click();
  await expect(page.getByRole('img', { name: 'QR code of KD-0004' })).toBeVisible();
  await expect(page.getByRole('list', { name: 'Labels' }).getByRole('listitem')).toHaveCount(1);
});

test('an archive is found on the shelf by its client, its year, or what somebody remembers of it', async ({ page }) => {
  await page.goto('/shelf');
  const rows = page.getByRole('region', { name: 'Archives and their copies' }).getByRole('row');
  await expect(rows.filter({ hasText: 'Undertow' })).toHaveCount(1);
  await choose(page.getByLabel('Client'), 'Haff & Söhne');
  await expect(rows.filter({ hasText: 'Undertow' })).toHaveCount(0);
  await expect(rows.filter({ hasText: 'Brine Road' })).toHaveCount(1);
  await page.goto('/shelf');
  await page.getByLabel('Find an archive').fill('storm');
  await page.getByLabel('Find an archive').press('Enter');
  await expect(page).toHaveURL(/q=storm/);
  await expect(rows).toHaveCount(2);
  await expect(rows.nth(1)).toContainText('Brine Road');
  await page.getByLabel('Find an archive').fill('nobody remembers');
  await page.getByLabel('Find an archive').press('Enter');
  await expect(page.getByText('No archive fits that.')).toBeVisible();
  await expect(page.getByText('Nothing that lies in these archives has that in its name.')).toBeVisible();
  // A name inside: which archive, which carrier, where that is.
  await page.getByLabel('Find an archive').fill('W001C001');
  await page.getByLabel('Find an archive').press('Enter');
  const inside = page.getByRole('region', { name: 'Found inside archives' }).getByRole('row');
  await expect(inside.filter({ hasText: 'winter-pilots_reel-1' })).toContainText('KD-0002');
  await choose(page.getByLabel('Kind'), 'deliveries');
  await expect(page.getByText('Nothing that lies in these archives has that in its name.')).toBeVisible();
  await choose(page.getByLabel('Kind'), 'media');
  await expect(page).toHaveURL(/q=W001C001.*kind=media/);
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);
  await inside.filter({ hasText: 'winter-pilots_reel-1' }).getByRole('link').first().click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('Winter Pilots');
});

test('a tape is registered by its barcode, and what its library does not have is refused in a sentence', async ({
  page,
}) => {
  const ports = JSON.parse(readFileSync(path.join(HOME, 'stand-ins.json'), 'utf8')) as { library: number };
  await page.goto('/storage?edit=carrier');
  await page.getByLabel('Name', { exact: true }).fill('KD-0009');
  await choose(page.getByLabel('Kind'), 'tape');
  await page.getByLabel('Where it is kept').fill('Tape library');
  await page.getByLabel('Address of the library').fill(`http://127.0.0.1:${ports.library}`);
  await page.getByLabel('Barcode of the tape').fill('KD0999L8');
  await page.getByRole('button', { name: 'Register it' }).click();
  await expect(page.getByRole('alert')).toContainText('There is no tape KD0999L8 in the library');
  await page.getByLabel('Barcode of the tape').fill('KD0009L8');
  await page.getByRole('button', { name: 'Register it' }).click();
  await expect(page.getByRole('row', { name: /KD-0009/ })).toContainText('tape');
  await page.goto('/shelf');
  await page.getByRole('link', { name: 'KD-0009' }).click();
  await expect(page.getByText('Loaded')).toBeVisible();
  await expect(page.getByText(/before the first byte/)).toBeVisible();
});

test('the morning goes out by mail; a test says whether mails arrive, and what makes no sense is told', async ({
  page,
}) => {
  await page.goto('/settings?show=post');
  await page.getByRole('button', { name: 'Send a test mail' }).click();
  await expect(page.getByRole('status').filter({ hasText: 'The mail server took the test.' })).toBeVisible();
  const mails = path.join(HOME, 'stand-ins', 'mails');
  const taken = readdirSync(mails).map((name) => readFileSync(path.join(mails, name), 'utf8'));
  expect(taken.filter((raw) => /^Subject: Saltpan House: a test from Keramion/m.test(raw))).toHaveLength(1);
  await page.getByRole('textbox', { name: /^To / }).fill('media');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByRole('alert')).toContainText('An address is like media@house.example.');
  await page.getByRole('textbox', { name: /^To / }).fill('media@saltpan.example, night@saltpan.example');
  await page.getByLabel('After this hour of the day').fill('6');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(
    page.getByRole('status').filter({ hasText: 'The morning goes to media@saltpan.example and' }),
  ).toBeVisible();
  await page.reload();
  await expect(page.getByRole('textbox', { name: /^To / })).toHaveValue('media@saltpan.example, night@saltpan.example');
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);
});

test('the catalogue is backed up to a folder of the house, and proven', async ({ page }) => {
  await page.goto('/settings?show=backup');
  await expect(page.getByText('none was made yet')).toBeVisible();
  await page.getByLabel(/^Folder on the server/).fill('backups');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByRole('alert')).toContainText('Say the whole path of the folder, beginning with /.');
  await page.getByLabel(/^Folder on the server/).fill(path.join(HOME, 'backups'));
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByRole('status').filter({ hasText: 'Saved. The next goes to' })).toBeVisible();
  await page.getByRole('button', { name: 'Back up now' }).click();
  await expect(async () => {
    await page.goto('/settings?show=backup');
    await expect(page.getByText(/^proven/)).toBeVisible({ timeout: 1000 });
  }).toPass({ timeout: 90_000 });
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);
});

test('what was delivered is looked at while its archive is on the shelf', async ({ page }) => {
  await page.goto('/shelf');
  await page
    .getByRole('link', { name: /^Undertow undertow/ })
    .first()
    .click();
  const film = page.getByLabel('Viewing copy of undertow_master.mp4');
  await expect(film).toBeVisible();
  const plays = (to: number) =>
    film.evaluate(async (video: HTMLVideoElement, second) => {
      video.currentTime = second;
      await new Promise((resolve, reject) => {
        video.addEventListener('seeked', resolve, { once: true });
        video.addEventListener('error', () => reject(new Error(video.error?.message ?? 'no film')), { once: true });
      });
      return [Math.round(video.duration), Math.round(video.currentTime), video.videoHeight];
    }, to);
  expect(await plays(9)).toEqual([12, 9, 270]);
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html}`)).toEqual([]);
});
