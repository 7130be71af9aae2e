// The catalogue of the shelf taken out as pages and tables, beside a dump of the same tables by the database's own tool.
// usage: npm run bench -- export [archives] [files of each]
import { execFileSync } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { sql } from 'drizzle-orm';
import { exportCatalogue } from '#server/archives/export.ts';
import { connect, disconnect } from '#server/db/connect.ts';
import { migrate } from '#server/db/migrate.ts';
import { startDatabase } from '../setup/mariadb.ts';
import { numbers, shelfRows } from './shelf-rows.ts';

const [archives = 100, files = 5000] = process.argv.slice(2).map(Number);
const root = mkdtempSync(path.join(os.tmpdir(), 'keramion-bench-'));
const server = await startDatabase(path.join(root, 'db'), { port: 0, durable: false });
const db = connect(server.url);
try {
  await migrate(db);
  await shelfRows(db, { archives, files });
  await db.execute(sql`INSERT INTO archive_files (archive_id, part_id, role, payload_path, volume_id, file_id, path, size_bytes, modified_us, sha512)
    SELECT a.id, a.id, 'media', CONCAT('media/Rushes/A', LPAD(x.n, 6, '0'), '.mov'), 1, x.n, CONCAT('project/camera/A', LPAD(x.n, 6, '0'), '.mov'), 1000000, 0, SHA2(x.n, 512)
    FROM archives a, ${numbers(files)} x`);
  const began = performance.now();
  const done = await exportCatalogue(db, path.join(root, 'shelf'), new Date());
  const own = (performance.now() - began) / 1000;
  const { hostname, port, username, password } = new URL(server.url);
  const then = performance.now();
  execFileSync(
    'sh',
    [
      '-c',
      `mariadb-dump -h ${hostname} -P ${port} -u ${username} --protocol=tcp keramion archives archive_files carriers > ${root}/dump.sql`,
    ],
    {
      env: { ...process.env, MYSQL_PWD: password },
    },
  );
  const theirs = (performance.now() - then) / 1000;
  console.log(
    `${done.archives} archives, ${done.files} files: ${own.toFixed(1)} s; mariadb-dump of the same rows ${theirs.toFixed(1)} s, ${(own / theirs).toFixed(1)} times; ${Math.round(process.memoryUsage().rss / 1e6)} MB at the end`,
  );
} finally {
  await disconnect(db);
  await server.stop();
  rmSync(root, { recursive: true, force: true });
}
