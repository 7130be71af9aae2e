// Keramion's own backup: whole, open to plain tools, proven in a database of its own, thinned, and brought back; and what it says
// where it cannot be made.
import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, utimesSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { sql } from 'drizzle-orm';
import { otio, TestSite } from '#test/site.ts';
import { connect, disconnect } from '../db/connect.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { backUpAtNight } from '../plan/at-night.ts';
import {
  askToBackUp,
  backupTrouble,
  lastOwnBackup,
  ownBackupRule,
  restoreCatalogue,
  setOwnBackupRule,
} from './own-backup.ts';

let site: TestSite;
let folder: string;
const by = { who: 'Mara', now: new Date() };
beforeEach(async () => {
  site = await TestSite.open();
  folder = path.join(site.root, 'backups');
  site.put('media/fog/a.mov', 'a'.repeat(5000));
  site.put('media/fog/fog.otio', otio('Fog', ['a.mov']));
  await site.read(await site.volume('media'));
});
afterEach(async () => {
  delete process.env.KERAMION_BACKUP_PASSPHRASE;
  await site.close();
});

const rule = { newest: 2, days: 3, weeks: 0, months: 0 };
async function backedUp() {
  await askToBackUp(site.db, { ...by, folder });
  const job = await site.workOff();
  return { job, last: await lastOwnBackup(site.db) };
}
/** An empty database beside the site's. */
async function withEmpty<T>(use: (db: ReturnType<typeof connect>) => Promise<T>): Promise<T> {
  const name = `keramion_back_${Date.now()}`;
  await site.db.$pool.query(`CREATE DATABASE ${name}`);
  const db = connect(site.database.url.replace(/\/[^/]*$/, `/${name}`), 2);
  try {
    return await use(db);
  } finally {
    await db.$pool.query(`DROP DATABASE ${name}`);
    await disconnect(db);
  }
}
const count = async (db: ReturnType<typeof connect>, table: string) => {
  const [rows] = (await db.execute(sql.raw(`SELECT COUNT(*) AS n FROM ${table}`))) as unknown as [{ n: number }[]];
  return Number(rows[0]!.n);
};
const names = () => readdirSync(folder).sort();

test('whole, proven, open to plain tools, and brought back into an empty database', async () => {
  const { job, last } = await backedUp();
  expect([job.state, job.trouble]).toEqual(['done', null]);
  expect(last).toMatchObject({ kept: 1, wrong: [], trouble: null });
  expect(last!.provenMs).toBe(last!.atMs);
  const [file] = names();
  execFileSync('sha256sum', ['-c', `${file}.sha256`], { cwd: folder });
  expect(execFileSync('gunzip', ['-c', file!], { cwd: folder, maxBuffer: 1 << 28 }).toString()).toContain(
    'CREATE TABLE `receipts`',
  );
  const databases = (await site.db.execute(sql`SHOW DATABASES LIKE 'keramion_proof%'`)) as unknown as [unknown[]];
  expect(databases[0]).toEqual([]);
  await withEmpty(async (db) => {
    expect(await restoreCatalogue(db, last!.file)).toEqual({ wrong: [] });
    // The backup's own work, which was under way when it was made, is not gone on with.
    expect(await db.select({ state: jobs.state, lease: jobs.lease }).from(jobs)).toEqual([
      { state: 'failed', lease: null },
    ]);
    for (const table of ['files', 'folders', 'projects', 'documents'])
      expect(await count(db, table)).toBe(await count(site.db, table));
    await expect(restoreCatalogue(db, last!.file)).rejects.toThrow(
      'This database holds something already, and nothing is ever written over. Nothing was changed.',
    );
  });
  expect(await site.db.select({ action: receipts.action }).from(receipts)).toContainEqual({
    action: 'catalogue backed up',
  });
});

test('locked with a passphrase it opens by openssl and by ours, and by no other; what was empty stays so', async () => {
  process.env.KERAMION_BACKUP_PASSPHRASE = 'salt and fog';
  const { last } = await backedUp();
  expect(last!.file).toMatch(/\.sql\.gz\.enc$/);
  const opened = execFileSync(
    'openssl',
    [
      'enc',
      '-d',
      '-aes-256-cbc',
      '-pbkdf2',
      '-iter',
      '600000',
      '-in',
      last!.file,
      '-pass',
      'env:KERAMION_BACKUP_PASSPHRASE',
    ],
    { maxBuffer: 1 << 28, env: { ...process.env } },
  );
  expect(opened.subarray(0, 2)).toEqual(Buffer.from([0x1f, 0x8b]));
  await withEmpty(async (db) => {
    delete process.env.KERAMION_BACKUP_PASSPHRASE;
    await expect(restoreCatalogue(db, last!.file)).rejects.toThrow('The backup is locked.');
    process.env.KERAMION_BACKUP_PASSPHRASE = 'another';
    await expect(restoreCatalogue(db, last!.file)).rejects.toThrow('cannot be read with this passphrase');
    process.env.KERAMION_BACKUP_PASSPHRASE = 'salt and fog';
    const damaged = path.join(site.root, 'damaged');
    const bytes = readFileSync(last!.file);
    bytes[Math.floor(bytes.length / 2)]! ^= 1;
    writeFileSync(damaged, bytes);
    await expect(restoreCatalogue(db, damaged)).rejects.toThrow(/cannot be read|ended with an error/);
    await expect(restoreCatalogue(db, path.join(site.root, 'none'))).rejects.toThrow(
      'cannot be read (ENOENT). Nothing was changed.',
    );
    // What of the damaged one was read is gone again.
    expect(await restoreCatalogue(db, last!.file)).toEqual({ wrong: [] });
  });
});

test('what does not fit in the catalogue is found in the backup, and told', async () => {
  site.checked = false;
  await site.db.execute(sql`UPDATE volume_holdings SET bytes = bytes + 7 LIMIT 1`);
  const { job, last } = await backedUp();
  expect(job.state).toBe('done');
  expect(last!.wrong.length).toBeGreaterThan(0);
  const said = backupTrouble({ ...rule, folder }, last, 0);
  expect(said).toMatchObject({ what: 'The last backup of the catalogue does not check out' });
});

test('thinned by the rule, and nothing of others is touched', async () => {
  await setOwnBackupRule(site.db, { ...rule, folder }, by);
  const { last } = await backedUp();
  const [, mark] = /keramion_([0-9a-f]{8})_/.exec(last!.file)!;
  const foreign = [
    'keramion_00000000_2020-01-01T03-00-00Z.sql.gz',
    'notes.txt',
    `.keramion_${mark}_2020-01-01T03-00-00Z.sql.gz.unfinished`,
  ];
  for (const name of foreign) writeFileSync(path.join(folder, name), 'x');
  writeFileSync(path.join(folder, `${foreign[0]}.sha256`), 'x');
  const old = new Date(Date.now() - 3 * 86_400_000);
  utimesSync(path.join(folder, foreign[2]!), old, old);
  for (let hours = 1; hours < 200; hours += 6) {
    const at = new Date(Date.now() - hours * 3_600_000);
    const name = `keramion_${mark}_${at.toISOString().slice(0, 19).replaceAll(':', '-')}Z.sql.gz`;
    for (const one of [name, `${name}.sha256`]) {
      writeFileSync(path.join(folder, one), 'x');
      utimesSync(path.join(folder, one), at, at);
    }
  }
  const second = await backedUp();
  expect(second.job.state).toBe('done');
  const left = names().filter((name) => name.includes(mark!) && !name.endsWith('.sha256'));
  // The newest two, and the first of each of three days: shortly after midnight one of them is among the newest.
  const days = new Set(left.map((name) => /_(\d{4}-\d\d-\d\d)T/.exec(name)![1]));
  expect(days.size).toBe(3);
  expect([4, 5]).toContain(left.length);
  expect(second.last!.kept).toBe(left.length);
  expect(existsSync(second.last!.file)).toBe(true);
  for (const name of foreign.slice(0, 2)) expect(existsSync(path.join(folder, name))).toBe(true);
  expect(existsSync(path.join(folder, foreign[2]!))).toBe(false);
});

test('where it cannot be made it says so, keeps the last, and is a decision until one is made', async () => {
  const first = await backedUp();
  writeFileSync(path.join(site.root, 'file'), 'x');
  await askToBackUp(site.db, { ...by, folder: path.join(site.root, 'file/backups') });
  const job = await site.workOff();
  expect(job).toMatchObject({ state: 'failed', trouble: expect.stringContaining('cannot be opened (ENOTDIR)') });
  const last = await lastOwnBackup(site.db);
  expect(last).toMatchObject({ file: first.last!.file, trouble: job.trouble });
  expect(backupTrouble({ ...rule, folder }, last, 0)).toMatchObject({
    what: 'The catalogue could not be backed up',
  });
  await askToBackUp(site.db, { ...by, folder });
  await site.workOff();
  expect(backupTrouble({ ...rule, folder }, await lastOwnBackup(site.db), 0)).toBeNull();
  expect(backupTrouble({ ...rule, folder }, await lastOwnBackup(site.db), Date.now() + 1000)).toMatchObject({
    what: 'The catalogue was not backed up twice in a row',
  });
  expect(names().some((name) => name.includes('unfinished'))).toBe(false);
});

test('once a night where the house has a place for it', async () => {
  const night = new Date();
  night.setHours(3, 0, 0, 0);
  expect(await backUpAtNight(site.db, night)).toBe(false);
  await expect(askToBackUp(site.db, by)).rejects.toThrow(
    'There is no folder for backups of the catalogue. Nothing was begun.',
  );
  await expect(setOwnBackupRule(site.db, { ...rule, folder: 'backups' }, by)).rejects.toThrow('beginning with /');
  mkdirSync(folder);
  await setOwnBackupRule(site.db, { ...rule, folder }, by);
  expect(await ownBackupRule(site.db)).toEqual({ ...rule, folder });
  const next = new Date(night.getTime() + 86_400_000);
  expect([await backUpAtNight(site.db, next), await backUpAtNight(site.db, next)]).toEqual([true, false]);
  expect(await site.db.select({ kind: jobs.kind }).from(jobs)).toEqual([{ kind: 'own backup' }]);
});
