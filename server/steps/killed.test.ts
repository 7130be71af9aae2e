// The worker is a real process here and is killed with SIGKILL in the middle of its work. Started again, each piece of
// work ends as if nothing had happened, and no half file ever stood under a final name.
import { type ChildProcess, spawn } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { existsSync, readdirSync, readFileSync, utimesSync } from 'node:fs';
import path from 'node:path';
import { eq, sql } from 'drizzle-orm';
import type { ArchiveId, CarrierId, FolderId, PlanId, ProjectId, VolumeId } from '#core/model.ts';
import { plainWorker } from '#test/faults/plain.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { archiveCopies, copyFiles } from '../db/schema/archives.ts';
import { folders } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepItems } from '../db/schema/plans.ts';
import { receipts } from '../db/schema/receipts.ts';
import { currentPlan, runPlan } from '../plan/plan.ts';
import { addArchive } from './archive.ts';
import { addCacheRemoval } from './remove-caches.ts';
import { addRestore } from './restore.ts';
import { setHome } from '../projects/homes.ts';
import { projectRows } from '../projects/projects.ts';
import { addMoveHome } from './moving-items.ts';

const PROGRAM = plainWorker('killed');
let site: TestSite;
let volume: VolumeId;
let workers: ChildProcess[] = [];

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
});
afterEach(async () => {
  for (const worker of workers) worker.kill('SIGKILL');
  workers = [];
  await site.close();
});

function startWorker(): ChildProcess {
  const worker = spawn(process.execPath, [PROGRAM], {
    env: { ...process.env, KERAMION_DATABASE: site.database.url, KERAMION_LEASE_SECONDS: '2' },
    stdio: 'ignore',
  });
  workers.push(worker);
  return worker;
}
const killed = (worker: ChildProcess) =>
  new Promise<void>((resolve) => {
    if (worker.exitCode !== null || worker.signalCode !== null) return resolve();
    worker.once('exit', () => resolve());
    worker.kill('SIGKILL');
  });
async function run() {
  const plan = await currentPlan(site.db);
  expect(
    await runPlan(site.db, { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: new Date() }),
  ).toMatchObject({ ok: true });
}
const ended = async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null);
const names = (folder: string): string[] =>
  existsSync(folder)
    ? readdirSync(folder, { recursive: true, withFileTypes: true })
        .filter((e) => e.isFile())
        .map((e) => path.relative(folder, path.join(e.parentPath, e.name)))
        .sort()
    : [];

/** Kills the worker as soon as `begun` is true, again and again, then lets it finish. */
async function killWhile(begun: () => Promise<boolean>, check: () => void) {
  for (let round = 0; round < 3; round++) {
    const worker = startWorker();
    const before = await progress();
    await until(async () => (await ended()) || ((await begun()) && (await progress()) > before), 60);
    await killed(worker);
    check();
    if (await ended()) break;
  }
  startWorker();
  await until(ended, 90);
}
/** How much the journals say is done, whatever kind of work it is. */
async function progress(): Promise<number> {
  const [items] = await site.db
    .select({ n: sql`COUNT(*)`.mapWith(Number) })
    .from(stepItems)
    .where(sql`${stepItems.state} IN ('done', 'held')`);
  const [copied] = await site.db.select({ n: sql`COUNT(*)`.mapWith(Number) }).from(copyFiles);
  return items!.n + copied!.n;
}

const CLIPS = 60;
const CLIP_BYTES = 3_000_000;
function putProject(): Map<string, string> {
  const sums = new Map<string, string>();
  const urls = Array.from({ length: CLIPS }, (_, i) => `rushes/c${String(i).padStart(3, '0')}.mov`);
  for (const url of urls) {
    const content = Buffer.alloc(CLIP_BYTES, randomBytes(997));
    site.put(`media/fog/${url}`, content);
    sums.set(url.split('/')[1]!, createHash('sha512').update(content).digest('hex'));
  }
  site.put('media/fog/fog.otio', otio('Fog', urls));
  return sums;
}
const sumOf = (file: string) => createHash('sha512').update(readFileSync(file)).digest('hex');

test('a purge killed in its middle removes each file once and says so once', async () => {
  for (let i = 0; i < 3000; i++) utimesSync(site.put(`media/peaks/${i % 5}/${i}.frm`, 'x'.repeat(i % 50)), 1e9, 1e9);
  const kept = site.put('media/rushes/a.mov');
  await site.read(volume);
  const all = await site.db.select({ id: folders.id }).from(folders);
  await addCacheRemoval(site.db, { folderIds: all.map((f) => f.id as FolderId), cutDay: 20_000, now: new Date() });
  await run();
  await killWhile(
    async () => true,
    () => expect(existsSync(kept)).toBe(true),
  );
  expect(names(path.join(site.root, 'media/peaks'))).toEqual([]);
  expect(names(path.join(site.root, 'media/.keramion'))).toEqual(['identity.json']);
  expect(
    await site.db.select({ files: receipts.files, held: receipts.held, bytes: receipts.bytes }).from(receipts),
  ).toEqual([{ files: 3000, held: 0, bytes: 60 * ((49 * 50) / 2) }]);
}, 240_000);

test('an archive and a restore killed in their middle end whole, with no half file under a final name', async () => {
  const sums = putProject();
  const carrier: CarrierId = await site.carrier('kd-1');
  await site.read(volume);
  await addArchive(site.db, { projectId: 1 as ProjectId, carrierIds: [carrier], folder: 'fog_1', now: new Date() });
  await run();
  const bag = path.join(site.root, 'kd-1/fog_1');
  // Until it is sealed there is nothing under its name; what is sealed is whole.
  const whole = (folder: string) => () => {
    if (!existsSync(folder)) return;
    const rushes = names(folder).filter((name) => name.includes('Rushes'));
    expect(rushes).toHaveLength(CLIPS);
    for (const name of rushes) expect(sumOf(path.join(folder, name))).toBe(sums.get(path.basename(name)));
  };
  await killWhile(async () => true, whole(bag));
  expect(
    await site.db.select({ state: jobs.state, trouble: jobs.trouble }).from(jobs).where(eq(jobs.quiet, false)),
  ).toEqual([{ state: 'done', trouble: null }]);
  expect(existsSync(bag)).toBe(true);
  whole(bag)();
  expect(names(path.join(site.root, 'kd-1/.keramion'))).toEqual(['identity.json']);

  const [copy] = await site.db.select().from(archiveCopies);
  await addRestore(site.db, {
    archiveId: 1 as ArchiveId,
    copyId: copy!.id,
    volumeId: volume,
    folder: 'back',
    now: new Date(),
  });
  await run();
  const back = path.join(site.root, 'media/back');
  for (const worker of workers.splice(0)) await killed(worker);
  await killWhile(async () => true, whole(back));
  expect(
    await site.db.select({ state: jobs.state, trouble: jobs.trouble }).from(jobs).where(eq(jobs.quiet, false)),
  ).toEqual([
    { state: 'done', trouble: null },
    { state: 'done', trouble: null },
  ]);
  whole(back)();
  expect(names(path.join(site.root, 'media/.keramion'))).toEqual(['identity.json']);
  expect((await projectRows(site.db))[0]).toMatchObject({ name: 'Fog', missing: 0 });
  expect((await site.db.select({ action: receipts.action }).from(receipts)).map((r) => r.action)).toEqual([
    'archive sealed',
    'project restored',
  ]);
}, 300_000);

test('a move home killed in its middle leaves every file in one place, whole, and says so once', async () => {
  const away: VolumeId = await site.volume('system');
  const sums = new Map<string, string>();
  const urls: string[] = [];
  for (let i = 0; i < 80; i++) {
    // Half of them strayed on the volume of their home, half on another.
    const place = i % 2 === 0 ? `media/stray/fog/c${i}.mov` : `system/Desktop/fog/c${i}.mov`;
    const content = Buffer.alloc(1_500_000, randomBytes(991));
    urls.push(`file://${site.put(place, content)}`);
    sums.set(`c${i}.mov`, createHash('sha512').update(content).digest('hex'));
  }
  site.put('media/fog/fog.otio', otio('Fog', urls));
  await site.read(volume, away);
  const FOG = 1 as ProjectId;
  await setHome(
    site.db,
    FOG,
    { kind: 'source', volumeId: volume, folder: 'fog/camera' },
    { who: 'Mara', now: new Date() },
  );
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  await run();
  const everyOne = () => {
    // Whatever is under a name of its own is whole; nothing is nowhere.
    for (const folder of ['media/stray', 'media/fog/camera', 'system/Desktop'])
      for (const name of names(path.join(site.root, folder)))
        expect(sumOf(path.join(site.root, folder, name))).toBe(sums.get(path.basename(name)));
    const seen = new Set(
      ['media', 'system'].flatMap((top) => names(path.join(site.root, top))).map((name) => path.basename(name)),
    );
    const taking = ['media', 'system'].flatMap((top) => names(path.join(site.root, top, '.keramion'))).length;
    expect([...sums.keys()].filter((name) => !seen.has(name)).length).toBeLessThanOrEqual(taking);
  };
  await killWhile(async () => true, everyOne);
  expect(
    await site.db.select({ state: jobs.state, trouble: jobs.trouble }).from(jobs).where(eq(jobs.quiet, false)),
  ).toEqual([{ state: 'done', trouble: null }]);
  expect(names(path.join(site.root, 'media/fog/camera'))).toHaveLength(80);
  everyOne();
  for (const folder of ['media/stray', 'system/Desktop']) expect(names(path.join(site.root, folder))).toEqual([]);
  for (const top of ['media', 'system'])
    expect(names(path.join(site.root, top, '.keramion'))).toEqual(['identity.json']);
  expect(names(path.join(site.root, 'media/fog')).filter((name) => name.endsWith('.otio'))).toEqual([
    'fog v2.otio',
    'fog.otio',
  ]);
  expect(
    await site.db.select({ action: receipts.action, files: receipts.files, held: receipts.held }).from(receipts),
  ).toEqual([
    { action: 'home changed', files: 0, held: 0 },
    { action: 'files moved', files: 80, held: 0 },
  ]);
  expect((await projectRows(site.db))[0]).toMatchObject({ media: 80, missing: 0 });
}, 240_000);
