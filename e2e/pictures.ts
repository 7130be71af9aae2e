// Takes the pictures of docs/screenshots anew: fresh demo data, one project archived, 1280x800.
// usage: npm run pictures
import path from 'node:path';
import { chromium, type Page } from '@playwright/test';
import { freePort } from '../setup/mariadb.ts';
import { startAll } from '../setup/start.ts';

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

try {
  const page = await open('light');
  await take(page, '/', 'site');
  await take(await open('dark'), '/', 'site-dark');
  await take(page, '/projects/1', 'project');
  await take(page, '/space?v=1', 'space');
  await take(page, '/storage', 'storage');
  await take(page, '/archive/2', 'archive');
  await page.getByRole('button', { name: 'Stage archive' }).click();
  await page.getByText(/Staged an archive/).waitFor();
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Run one step' }).click();
  await page
    .getByRole('dialog', { name: 'Work' })
    .getByText('done', { exact: true })
    .first()
    .waitFor({ timeout: 180_000 });
  await take(page, '/shelf', 'shelf');
  await take(page, '/reclaim', 'reclaim');
  await page.getByRole('button', { name: /^Stage / }).click();
  await page.getByText(/Nothing goes before/).waitFor();
  await page.goto('/shelf');
  await page.getByRole('button', { name: /Stage the removal/ }).click();
  await page.getByText(/of originals in/).waitFor();
  await page.getByRole('button', { name: 'Review plan' }).click();
  await page.getByRole('button', { name: 'Run two steps' }).waitFor();
  await take(page, null, 'plan');
  await page.getByRole('button', { name: 'Run two steps' }).click();
  await page
    .getByRole('dialog', { name: 'Work' })
    .getByText('done', { exact: true })
    .nth(2)
    .waitFor({ timeout: 180_000 });
  await take(page, '/ledger', 'ledger');
} finally {
  await browser.close();
  await started.stop();
}
