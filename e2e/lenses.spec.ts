// Every lens: found clean by axe in light and in dark, walked by keyboard alone, narrow and wide, quick on the server.
import AxeBuilder from '@axe-core/playwright';
import { isOfToday } from '../test/of-today.ts';
import { PORT } from './place.ts';
import { choose, expect, type Page, test } from './test.ts';

const LENSES = [
  '/',
  '/nights',
  '/projects',
  '/projects/1',
  '/projects/3/missing',
  '/projects/3/back',
  '/projects/3/report',
  '/space',
  '/space?v=3',
  '/reclaim',
  '/reclaim?group=unused media',
  '/reclaim?work=1&free=60&on=3&level=1',
  '/reclaim?left=1',
  '/reclaim?project=3&group=caches',
  '/reclaim?group=same twice',
  '/reclaim/caches',
  '/reclaim/aside',
  '/reclaim/rules?by=cap&volumeId=3&cap=30&projectId=&except=',
  '/archive',
  '/archive/1',
  '/archive/3?for=hand-over',
  '/shelf',
  '/shelf/3',
  '/shelf?worry=1',
  '/shelf/carrier/4',
  '/shelf/labels',
  '/settings?show=removing',
  '/settings?show=snapshots',
  '/settings?show=post',
  '/settings?show=house',
  '/settings?show=hours',
  '/space?folder=7',
  '/ledger',
  '/ledger/2',
  '/parts',
  '/space?by=kind',
  '/space?by=project&list=deepest',
  '/space?project=0&list=largest',
  '/settings',
  '/settings?show=templates',
  '/storage',
  '/storage?edit=1',
  '/storage?edit=carrier',
];

/** Made of the same parts as another: looked at once. */
const ALIKE = new Set([
  '/space?v=3',
  '/shelf?worry=1',
  '/reclaim?group=unused media',
  '/reclaim?project=3&group=caches',
  '/space?by=project&list=deepest',
  '/space?project=0&list=largest',
]);

/** In the dark only colours differ. */
const clean = async (page: Page, where: string, dark: boolean) => {
  const axe = new AxeBuilder({ page });
  // The frame around it is the same on every lens.
  if (where.startsWith('/') && !where.startsWith('/ ')) axe.include('main');
  // A control is called what it shows, and can be hit; a small tile of the map is in the list beside it as well.
  if (!dark)
    axe
      .options({ rules: { 'label-content-name-mismatch': { enabled: true }, 'target-size': { enabled: true } } })
      .exclude('[aria-label="Map of area by size"] a');
  const { violations } = await (dark ? axe.withRules('color-contrast') : axe).analyze();
  expect(
    violations.map((v) => `${where}: ${v.id} ${v.nodes.map((n) => n.target.join(' ')).join(', ')}`),
    where,
  ).toEqual([]);
};

/** Both looks of what is on the screen, one after the other; in the dark without what a lens is asked for. */
async function cleanInBoth(page: Page, where: string): Promise<void> {
  await clean(page, where, false);
  if (where.includes('?')) return;
  const html = page.locator('html');
  await page.emulateMedia({ colorScheme: 'dark' });
  await expect(html).toHaveAttribute('data-theme', 'dark');
  await clean(page, `${where} dark`, true);
  await page.emulateMedia({ colorScheme: 'light' });
  await expect(html).toHaveAttribute('data-theme', 'light');
}

const LOOKED_AT = LENSES.filter((one) => !ALIKE.has(one));
/** What of them is looked at by axe: another half every day, and half of that in the dark as well. */
const isLookedAt = (lens: string): boolean => isOfToday(LOOKED_AT.indexOf(lens), 2);
const inTheDark = (lens: string): boolean => isOfToday(LOOKED_AT.indexOf(lens), 4);

/** Wider than what there is room for. */
const over = (page: Page) =>
  page.evaluate(() => {
    const main = document.querySelector('main')!;
    return { page: document.documentElement.scrollWidth - innerWidth, main: main.scrollWidth - main.clientWidth };
  });

test('on no lens anything is cut off from 600 to 2560 wide, and axe finds nothing on those of today, nor in the sheets', async ({
  page,
}) => {
  // Forty pages, each looked through more than once: by far the longest of all.
  test.setTimeout(900_000);
  for (const lens of LENSES) {
    await page.setViewportSize({ width: 1280, height: 800 });
    await page.goto(lens);
    await expect(page.getByRole('heading', { level: 1 })).toBeVisible();
    if (LOOKED_AT.includes(lens) && isLookedAt(lens))
      await (inTheDark(lens) ? cleanInBoth(page, lens) : clean(page, lens, false));
    for (const width of [600, 1024, 2560]) {
      await page.setViewportSize({ width, height: 800 });
      await expect.poll(() => over(page), { message: `${lens} at ${width}` }).toEqual({ page: 0, main: 0 });
    }
  }
  await page.setViewportSize({ width: 1280, height: 800 });
  await page.goto('/reclaim/caches?v=4');
  await page.getByRole('button', { name: /^Add .* to the plan/ }).click();
  await page.getByRole('button', { name: 'Review plan' }).click();
  await expect(page.getByRole('button', { name: 'Run one step' })).toBeVisible();
  await cleanInBoth(page, 'plan');
  await page.getByRole('button', { name: 'Empty the plan' }).click();
  await expect(page.getByRole('heading', { name: 'The plan is empty.' })).toBeVisible();
  await page.keyboard.press('Escape');
  await page.getByRole('button', { name: 'Work', exact: true }).click();
  await cleanInBoth(page, 'work');
  await page.keyboard.press('Escape');
  await page.getByRole('button', { name: /name and colours/ }).click();
  await cleanInBoth(page, 'person');
});

test('the keyboard alone: lenses by number, search, rack, staging, review, emptying', async ({ page }) => {
  await page.goto('/');
  await page.locator('body').press('4');
  await expect(page).toHaveURL(/\/reclaim/);
  await page.locator('body').press('2');
  await expect(page).toHaveURL(/\/projects/);
  await page.locator('body').press('/');
  await expect(page.getByRole('combobox', { name: /Find a file/ })).toBeFocused();
  await page.keyboard.type('D003C002');
  await expect(page.getByRole('listbox').getByRole('option').first()).toBeVisible();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('ArrowUp');
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/\/projects\/\d+\?bin=all/);
  await page.goto('/reclaim/caches');
  const volume = page.getByRole('navigation', { name: 'Storage' }).getByRole('link', { name: /loft-1 system/ });
  await volume.focus();
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/v=4/);
  const stage = page.getByRole('button', { name: /^Add .* to the plan/ });
  await stage.focus();
  await page.keyboard.press('Enter');
  await expect(page.getByRole('status')).toContainText('Added');
  await page.getByRole('button', { name: 'Review plan' }).focus();
  await page.keyboard.press('Enter');
  const empty = page.getByRole('button', { name: 'Empty the plan' });
  await empty.focus();
  await page.keyboard.press('Enter');
  await expect(page.getByTestId('plan-summary')).toHaveText('nothing in the plan');
});

test('the map of a volume is walked by arrow keys, and an area opened by Enter', async ({ page }) => {
  await page.goto('/space');
  const map = page.getByRole('group', { name: /Map of area/ });
  const largest = map.getByRole('link').first();
  await largest.focus();
  await page.keyboard.press('ArrowRight');
  await expect(largest).not.toBeFocused();
  await expect(map.locator('a:focus')).toHaveCount(1);
  await page.keyboard.press('ArrowLeft');
  await expect(largest).toBeFocused();
  // At the edge it stays.
  await page.keyboard.press('ArrowLeft');
  await expect(largest).toBeFocused();
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/folder=/);
});

test('a table that is drawn anew keeps the focus, and the half of a click', async ({ page }) => {
  await page.goto('/reclaim?left=1');
  const ticks = page.getByRole('region', { name: 'What may go' }).getByRole('checkbox');
  await ticks.nth(1).focus();
  await page.keyboard.press('Space');
  await expect(ticks.nth(1)).toBeChecked();
  await expect(ticks.nth(1)).toBeFocused();
  await page.goto('/space');
  const link = page.getByRole('region', { name: 'Folders' }).getByRole('link').first();
  const { x, y, width, height } = (await link.boundingBox())!;
  await page.mouse.move(x + width / 2, y + height / 2);
  await page.mouse.down();
  // Pointing at the map draws the table anew between pressing and letting go.
  await page
    .getByRole('group', { name: /Map of area/ })
    .getByRole('link')
    .first()
    .dispatchEvent('pointerover');
  await page.mouse.up();
  await expect(page).toHaveURL(/folder=/);
});

test('600 wide: one column that axe finds nothing on; the rack is a sheet, of which a volume is chosen', async ({
  browser,
}) => {
  const page = await (await browser.newContext({ viewport: { width: 600, height: 800 } })).newPage();
  for (const lens of ['/', '/projects/1', '/space', '/reclaim', '/archive/1', '/shelf/3', '/storage']) {
    await page.goto(lens);
    await expect(page.getByRole('heading', { level: 1 })).toBeVisible();
    await clean(page, `${lens} narrow`, false);
  }
  await page.goto('/space');
  await expect(page.getByRole('navigation', { name: 'Storage' })).toBeHidden();
  await page.getByRole('button', { name: 'Storage' }).click();
  const rack = page.getByRole('dialog', { name: 'Storage' });
  await clean(page, 'rack narrow', false);
  await rack.getByRole('link', { name: /loft-1 system/ }).click();
  await expect(page).toHaveURL(/v=4/);
  await expect(rack).toBeHidden();
  // A strip where there is room for one: names stay, and how full each is.
  await page.setViewportSize({ width: 1024, height: 800 });
  const strip = page.getByRole('navigation', { name: 'Storage' });
  await expect(strip.getByRole('link', { name: /loft-1 system/ })).toHaveAttribute('aria-current', 'true');
  expect((await strip.boundingBox())!.width).toBeLessThan(110);
  await strip.getByRole('button', { name: 'Storage' }).click();
  await page.keyboard.press('Escape');
  await expect(strip.getByRole('button', { name: 'Storage' })).toBeFocused();
});

test('parts of an archive go in and stay out by a tick, and every figure follows', async ({ page }) => {
  await page.goto('/projects');
  await page.getByRole('link', { name: 'Night Ferry', exact: true }).click();
  await page.getByRole('link', { name: 'Shape an archive' }).click();
  const renders = page.getByRole('checkbox', { name: /^Renders/ });
  const sentence = page.getByRole('heading', { level: 1 });
  await expect(page.getByRole('checkbox', { name: /^Deliveries/ })).toBeChecked();
  const before = await sentence.textContent();
  await renders.check();
  await expect(page).toHaveURL(/in=delivery%2Crender/);
  await expect(sentence).not.toHaveText(before!);
  await renders.uncheck();
  await expect(sentence).toHaveText(before!);
  await page.goto(`${page.url().split('?')[0]}?in=nonsense&versions=some`);
  await expect(page.getByRole('checkbox', { name: /^Deliveries/ })).not.toBeChecked();
});

test('the rack is narrowed by a word, put by how soon full, and folded by station; a new page knows', async ({
  page,
}) => {
  await page.goto('/space');
  const rack = page.getByRole('navigation', { name: 'Storage' });
  const volumes = rack.getByRole('link').filter({ hasText: /B of / });
  const all = await volumes.count();
  await rack.getByLabel('Find a volume').fill('loft-2');
  await expect(volumes).toHaveCount(2);
  await rack.getByLabel('Find a volume').fill('attic');
  await expect(rack.getByText('No volume has “attic” in its name.')).toBeVisible();
  await rack.getByLabel('Find a volume').fill('');
  await choose(rack.getByLabel('Order of the volumes'), 'soonest full');
  await expect(volumes.first()).toContainText('loft-1 scratch');
  await expect(rack.getByRole('button', { expanded: true })).toHaveCount(0);
  await page.reload();
  await expect(rack.getByLabel('Order of the volumes')).toHaveText(/soonest full/);
  await choose(rack.getByLabel('Order of the volumes'), 'by station');
  await rack.getByRole('button', { name: /^loft-1/ }).click();
  await expect(volumes).toHaveCount(all - 2);
  await expect(rack.getByRole('button', { name: /^loft-1/ })).toContainText('2 volumes');
  await clean(page, 'rack folded', false);
  // What a lens is narrowed to stays in sight.
  await page.goto('/space?v=4');
  await expect(volumes).toHaveCount(all - 1);
  await rack.getByRole('button', { name: /^loft-1/ }).click();
  await expect(volumes).toHaveCount(all);
});

test('a theme and a name that were chosen stay', async ({ page }) => {
  await page.goto('/');
  await page.getByRole('button', { name: /name and colours/ }).click();
  await page.getByRole('radio', { name: 'dark' }).click();
  await expect(page.locator('html')).toHaveAttribute('data-theme', 'dark');
  await page.getByLabel('Receipts are signed').fill('Mara Odd');
  await page.getByLabel('Receipts are signed').press('Enter');
  await expect(page.getByRole('button', { name: 'Mara Odd: name and colours' })).toBeVisible();
  await page.reload();
  await expect(page.locator('html')).toHaveAttribute('data-theme', 'dark');
  await expect(page.getByRole('button', { name: 'Mara Odd: name and colours' })).toBeVisible();
});

test('nonsense in a form is answered with a sentence and changes nothing', async ({ page, request }) => {
  await page.goto('/projects');
  await page.getByRole('link', { name: 'Lamp Keepers', exact: true }).click();
  await page.getByRole('link', { name: 'Shape an archive' }).click();
  await page.getByRole('group', { name: 'Carriers' }).getByRole('checkbox').first().check();
  await page.getByLabel('Name on the carrier').fill('../../etc');
  await page.getByRole('button', { name: /^Add (the archive|an archive with 2 copies) to the plan$/ }).click();
  await expect(page.getByRole('alert')).toContainText('is not a folder inside the volume');
  await expect(page.getByTestId('plan-summary')).toHaveText('nothing in the plan');
  const foreign = await request.post('/plan', {
    form: { intent: 'empty' },
    headers: { origin: 'http://elsewhere.example' },
  });
  expect(foreign.status()).toBe(403);
  expect(await foreign.text()).toContain('came from another site');
  const large = await request.post('/plan', {
    form: { intent: 'empty', padding: 'x'.repeat(1_000_001) },
    headers: { origin: `http://127.0.0.1:${PORT}` },
  });
  expect(large.status()).toBe(413);
  expect(await large.text()).toContain('larger than 1 MB');
  const rebound = await request.get('/', { headers: { host: 'rebound.example' } });
  expect(rebound.status()).toBe(403);
  const own = await request.get('/');
  expect(own.headers()['content-security-policy']).toMatch(/script-src 'self' 'nonce-/);
  expect(own.headers()['x-request-id']).toMatch(/^[0-9a-f]{8}$/);
  const nowhere = await page.goto('/projects/999');
  expect(nowhere!.status()).toBe(404);
  expect((await request.get('/no-such-page')).status()).toBe(404);
  await expect(page.getByText('There is no such project.')).toBeVisible();
});

test('opening any lens is quick on the server, and its figures are kept', async ({ request }) => {
  const took: Record<string, number> = {};
  for (const lens of LENSES) {
    const start = performance.now();
    expect((await request.get(lens)).ok()).toBe(true);
    took[lens] = Math.round(performance.now() - start);
  }
  // Told, not judged: a busy machine is no fault of the lens. The aim is 300 ms.
  console.log('ms:', JSON.stringify(took));
});

test('what removing files may rely on is off until the house says so, and the ledger has it', async ({ page }) => {
  await page.goto('/settings?show=removing');
  await expect(page.getByLabel('Hours for which an earlier read-back counts')).toHaveValue('0');
  await clean(page, 'removing', false);
  await page.getByLabel('Hours for which an earlier read-back counts').fill('12');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('status').filter({ hasText: 'The ledger has what it was before' })).toBeVisible();
  await page.getByLabel('Hours for which an earlier read-back counts').fill('0');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('status').filter({ hasText: 'is read back from its copy before it goes' })).toBeVisible();
  await page.goto('/ledger');
  const receipts = page.getByRole('region', { name: 'Receipts' });
  await expect(receipts.getByText('house rules changed').first()).toBeVisible();
});

test('the policy on scripts and fonts refuses nothing of our own', async ({ page }) => {
  const refused: string[] = [];
  page.on('console', (message) => {
    if (/Content Security Policy/.test(message.text())) refused.push(message.text().slice(0, 200));
  });
  for (const lens of ['/', '/projects/1', '/space', '/reclaim', '/ledger', '/settings', '/nowhere']) {
    await page.goto(lens);
    await page.getByRole('heading', { level: 1 }).first().waitFor();
  }
  expect(refused).toEqual([]);
});
