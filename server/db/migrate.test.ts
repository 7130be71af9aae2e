// The tables are brought up to date on a database that is filled, and nothing of it is lost: copies, their states and their
// files, plans that wait, jobs that were running, the ledger's chain.
import { mkdtempSync, readdirSync, readFileSync, rmSync, copyFileSync, mkdirSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import mysql from 'mysql2/promise';
import { randomBytes } from 'node:crypto';
import { migrate as run } from 'drizzle-orm/mysql2/migrator';
import { drizzle } from 'drizzle-orm/mysql2';
import { kindAndParams } from '#core/steps/registry.ts';
import { connect, type Database, disconnect } from './connect.ts';
import { migrate } from './migrate.ts';
import { archiveCopies, archiveFiles, archiveParts, copyFiles, copyParts } from './schema/archives.ts';
import { jobs } from './schema/jobs.ts';
import { steps } from './schema/plans.ts';
import { receipts } from './schema/receipts.ts';
import { carriers } from './schema/stores.ts';
import { siteMark } from './site-mark.ts';

const MIGRATIONS = path.resolve('server/db/migrations');
/** The last migration before archives had parts and copies. */
const BEFORE = 13;

let db: Database;
let drop: () => Promise<void>;

/** The migrations up to and with one of them, in a folder of their own. */
function migrationsUpTo(last: number): string {
  const folder = mkdtempSync(path.join(os.tmpdir(), 'migrations-'));
  mkdirSync(path.join(folder, 'meta'));
  const journal = JSON.parse(readFileSync(path.join(MIGRATIONS, 'meta/_journal.json'), 'utf8')) as {
    entries: { idx: number }[];
  };
  journal.entries = journal.entries.filter((entry) => entry.idx <= last);
  writeFileSync(path.join(folder, 'meta/_journal.json'), JSON.stringify(journal));
  for (const name of readdirSync(MIGRATIONS).filter((one) => one.endsWith('.sql')))
    copyFileSync(path.join(MIGRATIONS, name), path.join(folder, name));
  return folder;
}

beforeEach(async () => {
  const base = process.env.KERAMION_TEST_DATABASE!;
  const admin = await mysql.createConnection(base);
  const name = `keramion_${randomBytes(6).toString('hex')}`;
  await admin.query(`CREATE DATABASE ${name}`);
  db = connect(base.replace(/\/keramion$/, `/${name}`), 3);
  drop = async () => {
    await disconnect(db);
    await admin.query(`DROP DATABASE ${name}`);
    await admin.end();
  };
  const folder = migrationsUpTo(BEFORE);
  await run(drizzle(db.$pool), { migrationsFolder: folder });
  rmSync(folder, { recursive: true });
});
afterEach(() => drop());

const FILL = [
  `INSERT INTO stations (id, name, role) VALUES (1, 's', 'server')`,
  `INSERT INTO volumes (id, station_id, name, path, duty, capacity_bytes, quota) VALUES (1, 1, 'v', '/v', 'none', 100, 0)`,
  `INSERT INTO carriers (id, name, type, place, path, capacity_bytes, identity, state) VALUES (7, 'KD-1', 'disk', 'shelf', '/kd', 1000, 'abc', 'reachable')`,
  `INSERT INTO folders (id, volume_id, name, path, path_hash) VALUES (1, 1, '', '', UNHEX(REPEAT('0', 32)))`,
  `INSERT INTO files (id, volume_id, folder_id, name, size_bytes, modified_us, kind) VALUES (5, 1, 1, 'a.mov', 10, 1000, 'source')`,
  `INSERT INTO projects (id, name, slug, state, state_since) VALUES (3, 'Fog', 'fog', 'delivered', NOW())`,
  `INSERT INTO plans (id, state, draft, created_at) VALUES (1, 'done', NULL, NOW()), (2, 'draft', 1, NOW())`,
  `INSERT INTO steps (id, plan_id, what, title, files, bytes, job_id) VALUES
     (1, 1, '{"kind":"archive","projectId":3,"carrierId":7,"folder":"fog_1"}', 'Archive Fog', 1, 10, 1),
     (2, 2, '{"kind":"remove caches","level":0,"cutDay":20000}', 'Remove caches', 1, 10, NULL),
     (3, 2, '{"kind":"remove originals","level":2,"archiveId":4,"archiveName":"Fog"}', 'Remove originals', 1, 10, NULL)`,
  `INSERT INTO step_items (step_id, volume_id, file_id, path, size_bytes, modified_us, state, reason) VALUES (2, 1, 5, 'a.mov', 10, 1000, 'waiting', NULL), (1, 1, 5, 'a.mov', 10, 1000, 'held', 'changed')`,
  `INSERT INTO jobs (id, kind, title, params, step_id, who, state, created_at) VALUES
     (1, 'archive', 'Archive Fog', '{"archiveId":4}', 1, 'Mara', 'done', NOW()), (2, 'read volume', 'Read v', '{"volumeId":1}', NULL, 'Mara', 'queued', NOW())`,
  `INSERT INTO job_stores (job_id, store, store_id) VALUES (1, 'carrier', 7), (2, 'volume', 1)`,
  `INSERT INTO archives (id, project_id, name, folder, state, files, bytes, sealed_at, manifest_sha512, job_id) VALUES (4, 3, 'Fog', 'fog_1', 'sealed', 2, 20, NOW(), REPEAT('a', 128), 1)`,
  `INSERT INTO archive_copies (id, archive_id, carrier_id, state, written_at, read_back_at) VALUES (6, 4, 7, 'good', NOW(), NOW())`,
  `INSERT INTO archive_files (archive_id, role, payload_path, volume_id, file_id, path, size_bytes, modified_us, payload_bytes, sha512, xxh128, state) VALUES
     (4, 'media', 'media/a.mov', 1, 5, 'a.mov', 10, 1000, 10, REPEAT('b', 128), REPEAT('c', 32), 'read back'),
     (4, 'document', 'documents/f.otio', 1, 6, 'f.otio', 10, 1000, 12, REPEAT('d', 128), REPEAT('e', 32), 'read back')`,
  `INSERT INTO receipts (at, who, action, title, files, bytes, held, facts, items_sha256, chain_sha256) VALUES (NOW(), 'Mara', 'archive sealed', 't', 1, 10, 0, '{}', REPEAT('1', 64), REPEAT('2', 64))`,
];

test('what was there before is there after, in its new place', async () => {
  for (const statement of FILL) await db.$pool.query(statement);
  await migrate(db);
  expect(await db.select().from(carriers)).toMatchObject([
    { id: 7, kind: 'disk', settings: { folder: '/kd' }, identity: 'abc' },
  ]);
  const [part] = await db.select().from(archiveParts);
  expect(part).toMatchObject({ archiveId: 4, ord: 1, folder: 'fog_1', manifestSha512: 'a'.repeat(128), bytes: 20 });
  expect(await db.select().from(archiveCopies)).toMatchObject([{ id: 6, state: 'good' }]);
  const [copy] = await db.select().from(copyParts);
  expect(copy).toMatchObject({ copyId: 6, partId: part!.id, carrierId: 7, state: 'good' });
  expect((await db.select().from(archiveFiles)).map((file) => [file.partId, file.sha512, file.xxh64])).toEqual([
    [part!.id, 'b'.repeat(128), null],
    [part!.id, 'd'.repeat(128), null],
  ]);
  expect((await db.select().from(copyFiles)).map((row) => [row.copyPartId, row.state])).toEqual([
    [copy!.id, 'read back'],
    [copy!.id, 'read back'],
  ]);
  const all = await db.select().from(jobs).orderBy(jobs.id);
  expect(all.map((job) => [job.kind, job.state, job.mark.length])).toEqual([
    ['archive', 'done', 36],
    ['read volume', 'queued', 36],
  ]);
  // Steps from before are still understood, one carrier becoming a list of one.
  const understood = (await db.select().from(steps).orderBy(steps.id)).map((step) => kindAndParams(step.what).params);
  expect(understood).toEqual([
    {
      projectId: 3,
      carrierIds: [7],
      copies: [],
      baseId: null,
      night: false,
      folder: 'fog_1',
      scope: {
        parts: [],
        versions: 'all',
        handles: null,
        timelines: [],
        bins: [],
        files: [],
        layout: 'bins',
        names: '{file}',
        goOn: false,
        pack: 'folder',
        rest: 'stays',
        originals: true,
        encode: {},
      },
    },
    { cutDay: 20_000 },
    { archiveId: 4, archiveName: 'Fog' },
  ]);
  expect(await db.select().from(receipts)).toHaveLength(1);
  await expect(db.update(receipts).set({ bytes: 0 })).rejects.toThrow();
  expect(await siteMark(db)).toMatch(/^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/);
  // Run once more, nothing is left to do.
  await migrate(db);
});
