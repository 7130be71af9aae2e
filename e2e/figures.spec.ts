// Figures that two views share agree with each other, with the command and with SQL over the file rows: what is on disk,
// what is unused, what is found, for every project of the demo.
import { execFileSync } from 'node:child_process';
import { expect, type Page, test } from './test.ts';
import mysql from 'mysql2/promise';
import { size } from '../core/wording/amounts.ts';

interface Told {
  projectId: number;
  onDisk: string;
  unused: string;
  found: string;
}

const flat = (text: string | null) => (text ?? '').replace(/\s+/g, ' ').trim();

/** A row of a table by the name in its first cell, as texts by the titles of its columns. */
async function rowsOf(page: Page, label: string): Promise<Map<string, Record<string, string>>> {
  const table = page.getByRole('region', { name: label, exact: true }).getByRole('table');
  await table.waitFor();
  const titles = (await table.getByRole('columnheader').allTextContents()).map(flat);
  const rows = new Map<string, Record<string, string>>();
  for (const row of await table.getByRole('row').all()) {
    const cells = (await row.getByRole('cell').allTextContents()).map(flat);
    if (cells.length > 0)
      rows.set(
        cells[0]!,
        Object.fromEntries(titles.map((title, i) => [title.replace(/[▲▼↑↓]/g, '').trim(), cells[i] ?? ''])),
      );
  }
  return rows;
}

async function fact(page: Page, name: string): Promise<string> {
  const term = page.locator('dt', { hasText: new RegExp(`^${name}$`) }).first();
  return flat(await term.locator('xpath=following-sibling::dd[1]').textContent());
}

test('what is on disk, unused and found is the same wherever it is told', async ({ page }) => {
  const db = await mysql.createConnection(process.env.KERAMION_E2E_DATABASE!);
  try {
    const ask = async <T>(sql: string): Promise<T[]> => (await db.query(sql))[0] as T[];
    const bySql = new Map<string, Told>();
    const rows = await ask<{
      id: number;
      name: string;
      bytes: string | null;
      unused: string | null;
      media: number;
      missing: number;
    }>(`
      SELECT p.id, p.name,
        (SELECT SUM(f.size_bytes) FROM files f WHERE f.project_id = p.id AND f.gone_at IS NULL) AS bytes,
        (SELECT SUM(f.size_bytes) FROM files f WHERE f.project_id = p.id AND f.gone_at IS NULL AND f.kind IN ('source', 'audio') AND NOT EXISTS (
          SELECT 1 FROM media_targets t JOIN media m ON m.id = t.media_id AND m.used JOIN documents o ON o.id = m.document_id JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL WHERE t.file_id = f.id)) AS unused,
        (SELECT COUNT(*) FROM media m JOIN documents o ON o.id = m.document_id AND o.superseded_by IS NULL JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL WHERE m.project_id = p.id) AS media,
        (SELECT COUNT(*) FROM media m JOIN documents o ON o.id = m.document_id AND o.superseded_by IS NULL JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL WHERE m.project_id = p.id AND m.found < GREATEST(m.targets, 1)) AS missing
      FROM projects p`);
    for (const row of rows)
      bySql.set(row.name, {
        projectId: Number(row.id),
        onDisk: size(Number(row.bytes ?? 0)),
        unused: size(Number(row.unused ?? 0)),
        found: `${Number(row.media) - Number(row.missing)} of ${row.media}`,
      });
    expect(bySql.size).toBeGreaterThan(5);

    await page.goto('/projects');
    const listed = await rowsOf(page, 'Projects');
    await page.goto('/archive');
    const archived = await rowsOf(page, 'Projects to archive');
    const command = JSON.parse(
      execFileSync('bin/keramion', ['projects', '--json'], {
        encoding: 'utf8',
        env: { ...process.env, KERAMION_DATABASE: process.env.KERAMION_E2E_DATABASE },
      }),
    ) as { name: string; bytes: number; unusedBytes?: number; media: number; missing: number }[];
    for (const [name, told] of bySql) {
      expect(listed.get(name), name).toMatchObject({
        'On disk': told.onDisk,
        Unused: told.unused,
        'Media found': told.found,
      });
      expect(archived.get(name), name).toMatchObject({ 'On disk': told.onDisk });
      const own = command.find((row) => row.name === name)!;
      expect([size(own.bytes), `${own.media - own.missing} of ${own.media}`], name).toEqual([told.onDisk, told.found]);

      await page.goto(`/projects/${told.projectId}`);
      expect([await fact(page, 'On disk'), await fact(page, 'Unused')], name).toEqual([told.onDisk, told.unused]);
      expect(await fact(page, 'Media found'), name).toContain(told.found);

      await page.goto(`/archive/${told.projectId}`);
      const parts = page.getByRole('list', { name: 'From what is on disk to what is written' });
      if ((await parts.count()) === 0) continue;
      // Old and new names as a file: what the table has.
      const inTable = await page
        .getByRole('region', { name: 'Files that go in' })
        .getByRole('table')
        .getAttribute('aria-rowcount');
      const names = await page.request.get(`/archive/${told.projectId}/names`);
      const lines = (await names.text()).trimEnd().split('\r\n');
      expect(lines[0], name).toBe('inside,volume,path,bytes,exact,renamed,in the earlier archive,stays whole because');
      if (!(await page.getByText(/^What [\d,]+ of/).isVisible())) expect(lines, name).toHaveLength(Number(inTable));
      else expect(lines.length, name).toBeGreaterThan(Number(inTable));
      const bars = (await parts.getByRole('listitem').allTextContents()).map(flat);
      expect(bars[0], name).toContain(told.onDisk);
      const unused = bars.find((bar) => bar.endsWith('Unused media'));
      expect(unused ?? `−${size(0)}Unused media`, name).toBe(`−${told.unused}Unused media`);
    }

    // A headline and the page that it leads to give the same amount.
    await page.goto('/');
    const caches = /([\d.]+ [kMGT]?B) across the site can go/.exec(
      flat(await page.getByRole('heading', { level: 1 }).textContent()),
    )?.[1];
    await page.goto('/reclaim/caches');
    expect(caches).toBeDefined();
    await expect(page.getByRole('heading', { level: 1 })).toContainText(caches!);

    // An address that narrows to a volume which is not there never means all of them.
    for (const lens of ['/', '/projects', '/space', '/reclaim']) {
      const response = await page.goto(`${lens}?v=9999`);
      expect(response!.status(), lens).toBe(404);
      await expect(page.getByText('narrows to a volume that is not registered')).toBeVisible();
    }
  } finally {
    await db.end();
  }
});
