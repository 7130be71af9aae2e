// What was once lost, or said and not so, each tried again at that very point.
import { execFileSync } from 'node:child_process';
import {
  appendFileSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  symlinkSync,
  unlinkSync,
  utimesSync,
  writeFileSync,
} from 'node:fs';
import net from 'node:net';
import path from 'node:path';
import { eq, isNotNull } from 'drizzle-orm';
import pino from 'pino';
import type { ArchiveId, CarrierId, FolderId, PlanId, ProjectId, VolumeId } from '#core/model.ts';
import { privateName } from '#disk/private-names.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { connect, disconnect, inTransaction } from '../db/connect.ts';
import { archiveCopies, copyFiles } from '../db/schema/archives.ts';
import { folders } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepItems } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { volumes, workerReach } from '../db/schema/stores.ts';
import { siteMark } from '../db/site-mark.ts';
import { currentPlan, runPlan } from '../plan/plan.ts';
import { enqueue } from '../runtime/queue.ts';
import { storesOfReading } from '../readings/reading-work.ts';
import { startWorker } from '../worker.ts';
import { addArchive } from './archive.ts';
import { addCacheRemoval } from './remove-caches.ts';
import { addOriginalsRemoval } from './remove-originals.ts';
import { addRestore } from './restore.ts';

let site: TestSite;
let volume: VolumeId;
let carriers: CarrierId[];
const FOG = 1 as ProjectId;
const at = (...parts: string[]) => path.join(site.root, ...parts);
const CLIPS = ['a', 'b', 'c'];

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  carriers = [await site.carrier('kd-1')];
});
afterEach(() => site.close());

async function run() {
  const plan = await currentPlan(site.db);
  const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: new Date() };
  expect(await runPlan(site.db, asked)).toMatchObject({ ok: true });
}
const ended = async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null);
async function work() {
  const worker = site.worker();
  await until(ended);
  await worker.stop();
}
async function archiveFog() {
  for (const clip of CLIPS) site.put(`media/fog/rushes/${clip}.mov`, clip.repeat(3000));
  site.put(
    'media/fog/fog.otio',
    otio(
      'Fog',
      CLIPS.map((clip) => `rushes/${clip}.mov`),
    ),
  );
  await site.read(volume);
  await addArchive(site.db, { projectId: FOG, carrierIds: carriers, folder: 'fog_1', now: new Date() });
  await run();
  await work();
  expect(await site.db.select({ state: archiveCopies.state }).from(archiveCopies)).toEqual(
    carriers.map(() => ({ state: 'good' })),
  );
}
const planOriginals = async () => {
  await addOriginalsRemoval(site.db, 1 as ArchiveId, new Date());
  await run();
};
const originals = () => CLIPS.filter((clip) => existsSync(at(`media/fog/rushes/${clip}.mov`)));
const bag = (...parts: string[]) => at('kd-1/fog_1', ...parts);
const flipped = (file: string) => {
  const bytes = readFileSync(file);
  bytes[bytes.length >> 1]! ^= 1;
  writeFileSync(file, bytes);
};

describe('originals go only where a copy reads back whole in that very step', () => {
  const damages: [what: string, damage: () => void][] = [
    ['a bit of the payload', () => flipped(bag('data/media/Rushes/b.mov'))],
    ['a line of the manifest', () => appendFileSync(bag('manifest-sha512.txt'), 'x\n')],
    ['a bit of a tag file', () => flipped(bag('bag-info.txt'))],
    ['the tag manifest', () => flipped(bag('tagmanifest-sha512.txt'))],
    ['a file deleted', () => unlinkSync(bag('data/media/Rushes/c.mov'))],
    ['a file added', () => writeFileSync(bag('data/media/Rushes/d.mov'), 'new')],
    [
      'a file made a link',
      () => {
        renameSync(bag('data/media/Rushes/a.mov'), at('elsewhere.mov'));
        symlinkSync(at('elsewhere.mov'), bag('data/media/Rushes/a.mov'));
      },
    ],
    ['the bag deleted', () => rmSync(bag(), { recursive: true })],
  ];
  test.each(damages)('%s: nothing is removed, and the copy is told as damaged', async (_what, damage) => {
    await archiveFog();
    damage();
    await planOriginals();
    await work();
    expect(originals()).toEqual(CLIPS);
    expect(await site.db.select({ state: archiveCopies.state }).from(archiveCopies)).toEqual([{ state: 'damaged' }]);
    const items = await site.db.select().from(stepItems).where(eq(stepItems.stepId, 2));
    expect(items.every((item) => item.state === 'held' && item.reason === 'copy damaged')).toBe(true);
    expect((await site.db.select().from(projects))[0]!.state).not.toBe('archived');
  });
  test('a carrier that is unplugged after the plan was run lets the work wait, and nothing goes', async () => {
    await archiveFog();
    await planOriginals();
    renameSync(at('kd-1'), at('kd-away'));
    const worker = site.worker();
    await new Promise((resolve) => setTimeout(resolve, 800));
    await worker.stop();
    expect(originals()).toEqual(CLIPS);
    renameSync(at('kd-away'), at('kd-1'));
    await work();
    expect(originals()).toEqual([]);
    expect((await site.db.select().from(projects))[0]!.state).toBe('archived');
  });
  test('of two copies the one that is whole counts, and the other is told', async () => {
    carriers.push(await site.carrier('kd-2'));
    await archiveFog();
    flipped(bag('data/media/Rushes/b.mov'));
    await planOriginals();
    await work();
    expect(originals()).toEqual([]);
    const states = await site.db.select({ state: archiveCopies.state }).from(archiveCopies).orderBy(archiveCopies.id);
    expect(states).toEqual([{ state: 'damaged' }, { state: 'good' }]);
    expect((await site.db.select().from(copyFiles).where(eq(copyFiles.state, 'damaged'))).length).toBe(1);
  });
});

describe('what lies in private folders is trusted only where it is ours', () => {
  const other = { site: '99999999-9999-4999-8999-999999999999', job: '88888888-8888-4888-8888-888888888888' };
  const lease = '77777777-7777-4777-8777-777777777777';
  test('half-built folders of another database are neither sealed nor restored, nor touched', async () => {
    const foreign = ['archive', 'restore'].map((use) => {
      const name = privateName({ use: use as 'archive', ...other, lease, item: 1 });
      const place = site.put(
        `${use === 'archive' ? 'kd-1' : 'media'}/.keramion/${name}/bag/data/media/Rushes/a.mov`,
        'foreign',
      );
      return place;
    });
    await archiveFog();
    await addRestore(site.db, {
      archiveId: 1 as ArchiveId,
      copyId: 1,
      volumeId: volume,
      folder: 'back',
      now: new Date(),
    });
    await run();
    await work();
    expect(readFileSync(bag('data/media/Rushes/a.mov'), 'utf8')).toBe('a'.repeat(3000));
    expect(readFileSync(at('media/back/media/Rushes/a.mov'), 'utf8')).toBe('a'.repeat(3000));
    for (const place of foreign) expect(readFileSync(place, 'utf8')).toBe('foreign');
  });
  test('a file that ended work left aside is put back by the next worker, with a receipt', async () => {
    utimesSync(site.put('media/peaks/x.frm', 'mine'), 1e9, 1e9);
    await site.read(volume);
    const all = await site.db.select({ id: folders.id }).from(folders);
    await addCacheRemoval(site.db, { folderIds: all.map((f) => f.id as FolderId), cutDay: 20_000, now: new Date() });
    await run();
    const [job] = await site.db.select().from(jobs);
    const [item] = await site.db.select().from(stepItems);
    const name = privateName({ use: 'out', site: await siteMark(site.db), job: job!.mark, lease, item: item!.id });
    renameSync(at('media/peaks/x.frm'), at('media/.keramion', name));
    await site.db.update(jobs).set({ state: 'cancelled', finishedAt: new Date() });
    const worker = site.worker();
    await until(async () => worker.isIdle() && (await ended()));
    await worker.stop();
    expect(readFileSync(at('media/peaks/x.frm'), 'utf8')).toBe('mine');
    expect(await site.db.select().from(receipts)).toMatchObject([{ action: 'left files put back', files: 1 }]);
  });
  test('a file between that was never ours lies in the way of nothing: x.mov.part is restored as itself', async () => {
    site.put('media/fog/rushes/x.mov', 'film');
    site.put('media/fog/rushes/x.mov.part', 'a film that is called so');
    site.put('media/fog/fog.otio', otio('Fog', ['rushes/x.mov', 'rushes/x.mov.part']));
    await site.read(volume);
    await addArchive(site.db, { projectId: FOG, carrierIds: carriers, folder: 'fog_1', now: new Date() });
    await run();
    await work();
    await addRestore(site.db, {
      archiveId: 1 as ArchiveId,
      copyId: 1,
      volumeId: volume,
      folder: 'back',
      now: new Date(),
    });
    await run();
    await work();
    expect(readFileSync(at('media/back/media/Rushes/x.mov'), 'utf8')).toBe('film');
    expect(readFileSync(at('media/back/media/Rushes/x.mov.part'), 'utf8')).toBe('a film that is called so');
  });
});

test('what else lies on a carrier does not fail an archive, and plain tools accept its lists', async () => {
  mkdirSync(at('kd-1/lost+found'), { mode: 0o000 });
  symlinkSync('/nowhere/at/all', at('kd-1/dangling'));
  await archiveFog();
  for (const list of ['manifest-sha512.txt', 'tagmanifest-sha512.txt'])
    execFileSync('sha512sum', ['--quiet', '--strict', '-c', list], { cwd: bag() });
  expect(execFileSync('xxhsum', ['-c', 'xxh64sum.txt'], { cwd: bag(), encoding: 'utf8' })).not.toMatch(/FAILED/);
});

test('a cache that a document began to name after the last reading stays', async () => {
  for (const name of ['a.mov', 'b.mov']) utimesSync(site.put(`media/fog/cache/${name}`), 1e9, 1e9);
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/x.mov']));
  await site.read(volume);
  const all = await site.db.select({ id: folders.id }).from(folders);
  await addCacheRemoval(site.db, { folderIds: all.map((f) => f.id as FolderId), cutDay: 20_000, now: new Date() });
  await run();
  site.put('media/fog/fog.otio', otio('Fog', ['cache/a.mov', 'rushes/x.mov']));
  await work();
  expect(existsSync(at('media/fog/cache/a.mov'))).toBe(true);
  expect(existsSync(at('media/fog/cache/b.mov'))).toBe(false);
});

test('a file that somebody deletes by hand while the work is interrupted is not counted as ours', async () => {
  for (const name of ['a', 'b']) utimesSync(site.put(`media/peaks/${name}.frm`), 1e9, 1e9);
  await site.read(volume);
  const all = await site.db.select({ id: folders.id }).from(folders);
  await addCacheRemoval(site.db, { folderIds: all.map((f) => f.id as FolderId), cutDay: 20_000, now: new Date() });
  await run();
  await site.db.update(stepItems).set({ state: 'started' });
  unlinkSync(at('media/peaks/a.frm'));
  await work();
  expect(await site.db.select().from(receipts)).toMatchObject([{ files: 1, held: 1, facts: { held: { gone: 1 } } }]);
});

test('a new version of a document is never written over or through anything of a person', async () => {
  const stray = `file://${site.put('media/stray/fog/a.mov', 'a'.repeat(900))}`;
  site.put('media/fog/fog.otio', otio('Fog', [stray]));
  site.put('media/fog/fog v2.otio.part', 'theirs');
  symlinkSync(site.put('media/precious.otio', 'precious'), at('media/fog/fog v2.otio'));
  await site.read(volume);
  const { setHome } = await import('../projects/homes.ts');
  const { addMoveHome } = await import('./moving-items.ts');
  const by = { who: 'Mara', now: new Date() };
  await setHome(site.db, FOG, { kind: 'source', volumeId: volume, folder: 'fog/camera' }, by);
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  await run();
  await work();
  expect(readFileSync(at('media/fog/fog v2.otio.part'), 'utf8')).toBe('theirs');
  expect(readFileSync(at('media/precious.otio'), 'utf8')).toBe('precious');
  expect(readdirSync(at('media/fog')).filter((name) => /v3\.otio$/.test(name))).toHaveLength(1);
});

const askToRead = () =>
  inTransaction(site.db, (tx) =>
    enqueue(
      tx,
      { kind: 'read volume', title: 'Read', params: { volumeId: volume }, who: 'x', stores: storesOfReading(volume) },
      new Date(),
    ),
  );

test('six readings of one volume asked for at once all end well, by three workers', async () => {
  for (let i = 0; i < 200; i++) site.put(`media/${i % 20}/${i}.mov`);
  for (let i = 0; i < 6; i++) await askToRead();
  const workers = [site.worker(), site.worker(), site.worker()];
  await until(ended);
  for (const worker of workers) await worker.stop();
  expect(
    (await site.db.select({ state: jobs.state, trouble: jobs.trouble }).from(jobs)).map((job) => [
      job.state,
      job.trouble,
    ]),
  ).toEqual(Array.from({ length: 6 }, () => ['done', null]));
});

test('a purge beside a reading leaves every sum what it sums', async () => {
  for (let i = 0; i < 1500; i++) utimesSync(site.put(`media/peaks/${i % 30}/${i}.frm`, 'x'.repeat(i % 9)), 1e9, 1e9);
  await site.read(volume);
  const all = await site.db.select({ id: folders.id }).from(folders);
  await addCacheRemoval(site.db, { folderIds: all.map((f) => f.id as FolderId), cutDay: 20_000, now: new Date() });
  await run();
  const worker = site.worker();
  // Readings that do not ask for the stores, as no worker does: the rows themselves keep the sums right.
  while (!(await ended())) await site.read(volume);
  await worker.stop();
  await site.read(volume);
  expect((await site.db.select().from(receipts))[0]).toMatchObject({ files: 1500, held: 0 });
});

test('each worker says what it reaches for itself, and takes only work on that', async () => {
  mkdirSync(at('empty mount point'));
  const log = pino({ level: 'silent' });
  const options = { leaseSeconds: 5, pollMs: 20, log, pools: site.pools };
  const blind = startWorker(site.db, {
    ...options,
    name: 'blind',
    paths: { media: at('empty mount point'), 'kd-1': at('nowhere') },
  });
  const seeing = startWorker(site.db, { ...options, name: 'seeing' });
  await until(async () => (await site.db.select().from(workerReach)).length === 4);
  for (let i = 0; i < 20; i++) {
    expect((await site.db.select().from(volumes))[0]!.state).toBe('reachable');
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
  const rows = await site.db.select().from(workerReach).orderBy(workerReach.workerId, workerReach.store);
  expect(rows.map((row) => row.state).sort()).toEqual(['reachable', 'reachable', 'swapped', 'unreachable']);
  site.put('media/a.mov');
  for (let i = 0; i < 4; i++) {
    await askToRead();
    await until(ended);
  }
  await blind.stop();
  await seeing.stop();
  expect((await site.db.select().from(jobs)).every((job) => job.state === 'done' && job.worker === 'seeing')).toBe(
    true,
  );
});

test('a database that goes away for seconds is waited for, and what was written is kept', async () => {
  for (let i = 0; i < 12; i++) site.put(`media/fog/rushes/${i}.mov`, Buffer.alloc(2_000_000, i + 1));
  site.put(
    'media/fog/fog.otio',
    otio(
      'Fog',
      Array.from({ length: 12 }, (_, i) => `rushes/${i}.mov`),
    ),
  );
  await site.read(volume);
  await addArchive(site.db, { projectId: FOG, carrierIds: carriers, folder: 'fog_1', now: new Date() });
  await run();
  const gate = await openGate(new URL(site.database.url));
  const db = connect(gate.url, 6, { patient: true });
  const worker = startWorker(db, {
    name: 'x',
    leaseSeconds: 2,
    pollMs: 20,
    log: pino({ level: 'silent' }),
    pools: site.pools,
  });
  await until(async () => (await site.db.select().from(copyFiles)).length > 0);
  gate.shut();
  await new Promise((resolve) => setTimeout(resolve, 3_000));
  gate.open();
  await until(ended);
  await worker.stop();
  await disconnect(db);
  await gate.end();
  expect(
    await site.db.select({ state: jobs.state, trouble: jobs.trouble }).from(jobs).where(isNotNull(jobs.stepId)),
  ).toEqual([{ state: 'done', trouble: null }]);
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd: bag() });
});

/** A way to the database that can be shut: what is open is cut off, and nobody new gets through. */
async function openGate(to: URL) {
  let isOpen = true;
  const open = new Set<net.Socket>();
  const server = net.createServer((socket) => {
    if (!isOpen) return void socket.destroy();
    const behind = net.connect(Number(to.port), to.hostname);
    for (const one of [socket, behind]) {
      open.add(one);
      one.on('error', () => undefined);
      one.on('close', () => {
        open.delete(one);
        socket.destroy();
        behind.destroy();
      });
    }
    socket.pipe(behind).pipe(socket);
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const url = new URL(to);
  url.hostname = '127.0.0.1';
  url.port = String((server.address() as net.AddressInfo).port);
  return {
    url: url.href,
    open: () => void (isOpen = true),
    shut: () => {
      isOpen = false;
      for (const socket of open) socket.destroy();
    },
    end: () => new Promise((resolve) => server.close(resolve)),
  };
}
