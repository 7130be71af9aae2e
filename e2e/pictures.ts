// Takes the pictures of docs/screenshots anew: fresh demo data, one project archived, 1280x800.
// usage: npm run pictures
import path from 'node:path';
import { chromium, type Page } from '@playwright/test';
import { freePort } from '../setup/mariadb.ts';
import { startAll } from '../setup/start.ts';
import { choose } from './test.ts';

const started = await startAll({
  home: path.resolve('var/pictures'),
  demo: true,
  fresh: true,
  host: '127.0.0.1',
  port: await freePort(),
  databasePort: await freePort(),
  databaseUrl: null,
  leaseSeconds: 10,
  quiet: true,
});
const browser = await chromium.launch({
  executablePath: '/usr/bin/chromium',
  chromiumSandbox: false,
  args: [
    '--disable-gpu',
    '--disable-dev-shm-usage',
    '--disable-quic',
    '--no-first-run',
    '--disable-background-networking',
    '--disable-component-update',
    '--disable-sync',
  ],
});

async function open(colorScheme: 'light' | 'dark'): Promise<Page> {
  return (
    await browser.newContext({ baseURL: started.address, viewport: { width: 1280, height: 800 }, colorScheme })
  ).newPage();
}
async function take(page: Page, address: string | null, name: string): Promise<void> {
  if (address !== null) await page.goto(address);
  await page.waitForTimeout(800);
  await page.mouse.move(640, 2);
  await page.screenshot({ path: `docs/screenshots/${name}.png` });
}

/** Waits in the list of work until the newest piece of this name is done. */
const done = (page: Page, title: string) =>
  page
    .getByRole('dialog', { name: 'Work' })
    .locator('.rows > div')
    .filter({ hasText: title })
    .first()
    .getByText('done', { exact: true })
    .waitFor({ timeout: 180_000 });

try {
  const page = await open('light');
  await take(page, '/', 'site');
  await take(await open('dark'), '/', 'site-dark');
  await page.getByRole('link', { name: 'Lamp Keepers', exact: true }).click();
  await page.getByRole('heading', { name: 'Lamp Keepers', level: 1 }).waitFor();
  // The pictures of its clips are made when they are first looked at.
  await page.waitForTimeout(6000);
  await page.locator('main').evaluate((main) => main.scrollTo(0, 0));
  await take(page, null, 'project');
  await page.getByRole('link', { name: /^find / }).click();
  await page.getByRole('button', { name: /^lighthouse_model_02/ }).click();
  await take(page, null, 'missing');
  await page.goto('/projects');
  await page.getByRole('link', { name: 'Tide Tables', exact: true }).click();
  await page.getByRole('link', { name: /^All clips/ }).click();
  await page.locator('nav[aria-label="Bins"] [aria-current="true"]', { hasText: 'All clips' }).waitFor();
  await page.getByRole('link', { name: 'as a picture' }).click();
  await page.getByRole('region', { name: 'What uses what' }).waitFor();
  await take(page, null, 'uses');
  await page.goto('/projects');
  await page.getByRole('link', { name: 'Gannet Rock', exact: true }).click();
  await page.getByRole('link', { name: 'report' }).click();
  await page.getByRole('button', { name: 'Print' }).waitFor();
  await take(page, null, 'report');
  await take(page, '/space?by=project', 'space');
  await take(page, '/storage', 'storage');
  await take(page, '/settings', 'settings');
  await page.goto('/archive');
  await page.getByRole('link', { name: 'Shape an archive of Night Ferry' }).click();
  await page.getByRole('button', { name: /^Add (the|an) archive/ }).waitFor();
  await take(page, null, 'archive');
  await page.getByRole('link', { name: 'Hand it over' }).click();
  await page.getByLabel(/^For/).fill('Ida Holm, grading');
  await choose(page.getByLabel('How much of each file'), 'used');
  await page.getByText(/cut without encoding anew/).waitFor();
  await take(page, null, 'hand-over');
  await page.getByRole('link', { name: 'Archive it' }).click();
  // Only to the disk: what is proposed beside it is a tape, which takes as long as a tape does.
  const carriers = page.getByRole('group', { name: 'Carriers' });
  await carriers.waitFor();
  for (const other of await carriers.getByRole('checkbox').all()) await other.uncheck();
  await carriers.getByRole('checkbox', { name: /KD-0001/ }).check();
  await page.getByRole('button', { name: /^Add (the|an) archive/ }).click();
  await page.getByText(/Added an archive/).waitFor();
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Run one step' }).click();
  await done(page, 'Archive Night Ferry');
  await take(page, '/shelf', 'shelf');
  await take(page, '/reclaim', 'reclaim');
  await take(page, '/reclaim?work=1&free=60&on=3&level=1', 'goal');
  await take(page, '/reclaim/rules?by=cap&volumeId=3&cap=30&projectId=&except=', 'rules');
  await page.goto('/reclaim/caches');
  await page.getByRole('button', { name: /^Add .* to the plan/ }).click();
  await page.getByText(/Nothing goes before/).waitFor();
  await page.goto('/shelf');
  await page.getByRole('link', { name: 'Release the originals of Night Ferry' }).click();
  await page.getByRole('heading', { name: 'Release', exact: true }).waitFor();
  await take(page, null, 'archive-page');
  for (const other of await page.getByRole('checkbox', { name: /goes for good|set aside/ }).all())
    await other.uncheck();
  await page.getByRole('button', { name: 'Add the release to the plan' }).click();
  await page.getByText(/in 1 step to the plan/).waitFor();
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Run two steps' }).waitFor();
  await take(page, null, 'plan');
  await page.getByRole('button', { name: 'Run two steps' }).click();
  await done(page, 'Remove caches last changed');
  await done(page, 'Remove originals of Night Ferry');
  await take(page, '/ledger', 'ledger');
  await take(page, '/nights', 'nights');
} finally {
  await browser.close();
  await started.stop();
}
