// Finding what lies in archives by parts of its name, beside the database looking through the same rows.
// usage: npm run bench -- where [archives] [files of each]
import { mkdtempSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { sql } from 'drizzle-orm';
import { noteBins } from '#server/archives/contents.ts';
import { connect, disconnect, inTransaction } from '#server/db/connect.ts';
import { migrate } from '#server/db/migrate.ts';
import { nameIndex } from '#server/search/names.ts';
import { search } from '#server/search/search.ts';
import { whereStored } from '#server/search/where.ts';
import { startDatabase } from '../setup/mariadb.ts';
import { numbers, shelfRows } from './shelf-rows.ts';

const [archives = 500, files = 10_000] = process.argv.slice(2).map(Number);
const root = mkdtempSync(path.join(os.tmpdir(), 'keramion-bench-'));
const server = await startDatabase(path.join(root, 'db'), { port: 0, durable: false });
const db = connect(server.url);
const names = nameIndex(server.url);
const at = (list: number[], part: number) => [...list].sort((a, b) => a - b)[Math.floor((list.length - 1) * part)]!;
const ms = async (work: () => Promise<unknown>): Promise<number> => {
  const began = performance.now();
  await work();
  return performance.now() - began;
};
try {
  await migrate(db);
  await shelfRows(db, { archives, files });
  for (let first = 1; first <= archives; first += 50)
    await db.execute(sql`INSERT INTO archive_files (archive_id, part_id, role, payload_path, volume_id, file_id, path, size_bytes, modified_us)
      SELECT a.id, a.id, 'media', CONCAT('media/Rushes/', CHAR(65 + a.id % 26), LPAD(a.id, 3, '0'), 'C', LPAD(x.n, 5, '0'), '.mov'), 1, a.id * 100000 + x.n,
        CONCAT('project/camera/', CHAR(65 + a.id % 26), LPAD(a.id, 3, '0'), 'C', LPAD(x.n, 5, '0'), IF(x.n % 100 = 0, '_master', ''), '.mov'), 1000000, 0
      FROM archives a, ${numbers(files)} x WHERE a.id BETWEEN ${first} AND ${first + 49}`);
  // Clips of their documents, in twenty bins each.
  for (let first = 1; first <= archives; first += 50)
    await db.execute(sql`INSERT INTO archive_clips (archive_id, document_file_id, bin, name)
      SELECT a.id, 1, CONCAT('Rushes/Day ', x.n % 20), CONCAT(CHAR(65 + a.id % 26), LPAD(a.id, 3, '0'), 'C', LPAD(x.n, 5, '0'), ' take ', x.n % 7)
      FROM archives a, ${numbers(Math.ceil(files / 4))} x WHERE a.id BETWEEN ${first} AND ${first + 49}`);
  await inTransaction(db, (tx) => noteBins(tx));
  const all = archives * files;
  const filling = await ms(async () => {
    for (const table of ['archive_files', 'archive_clips', 'archive_bins'] as const)
      while (!(await names.find(table, ['zzz'], 1)).ready) await new Promise((go) => setTimeout(go, 100));
  });
  console.log(
    `${all.toLocaleString('en')} names, clips of a quarter of them and their bins read in ${(filling / 1000).toFixed(1)} s`,
  );
  const asked = Array.from({ length: 200 }, (_, i) => {
    const archive = (i * 37) % archives;
    return [
      `${String(archive).padStart(3, '0')}c0${i % 10}`,
      `c0${String((i * 71) % files).padStart(4, '0')}`,
      'master',
      '.mov',
      'nothing like it',
    ][i % 5]!;
  });
  const times: number[] = [];
  for (const word of asked)
    times.push(
      await ms(async () => {
        const { ids } = await names.find('archive_files', [word], 2000);
        await whereStored(db, { words: [word], ids, most: 6 });
      }),
    );
  const whole: number[] = [];
  for (const word of asked) whole.push(await ms(() => search(db, word, names)));
  const rows = await ms(() => whereStored(db, { words: ['c04711_m'], ids: null, most: 6 }));
  const { ids } = await names.find('archive_files', ['c04711'], 6);
  console.log(
    `where something is: median ${at(times, 0.5).toFixed(0)} ms, p95 ${at(times, 0.95).toFixed(0)} ms; with everything else that the search field looks for: median ${at(whole, 0.5).toFixed(0)} ms, p95 ${at(whole, 0.95).toFixed(0)} ms; the database alone, a part of a name ${rows.toFixed(0)} ms; found ${ids.length}; most memory ${Math.round(process.resourceUsage().maxRSS / 1024)} MB`,
  );
} finally {
  await names.end();
  await disconnect(db);
  await server.stop();
  rmSync(root, { recursive: true, force: true });
}
