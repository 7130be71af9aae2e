// What may go, at size: the same file twice beside rdfind, removing beside rm, setting aside beside mv, and the goal.
// usage: npm run bench -- reclaim [twins | purge | aside | goal | all] [files]
import { execFileSync } from 'node:child_process';
import { cpSync, mkdirSync, mkdtempSync, rmSync, utimesSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { isNull, sql } from 'drizzle-orm';
import pino from 'pino';
import type { FolderId, Level, VolumeId } from '#core/model.ts';
import { byLevel } from '#core/plan/plan.ts';
import { reach } from '#core/reclaim/goal.ts';
import { GROUPS } from '#core/reclaim/worth.ts';
import { size } from '#core/wording/amounts.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { connect, type Database, disconnect } from '#server/db/connect.ts';
import { folders } from '#server/db/schema/catalogue.ts';
import { jobs } from '#server/db/schema/jobs.ts';
import { migrate } from '#server/db/migrate.ts';
import { currentPlan, runPlan } from '#server/plan/plan.ts';
import { readVolume } from '#server/readings/read-volume.ts';
import { askToCompare, twinPairs } from '#server/reclaim/twins.ts';
import { assess } from '#server/reclaim/assess.ts';
import { currentAssessment } from '#server/db/worth.ts';
import { addCacheRemoval } from '#server/steps/remove-caches.ts';
import { addSettingAside } from '#server/steps/set-aside.ts';
import { lookAtStores, signIn, signOut } from '#server/stores/reach.ts';
import { addVolume } from '#server/stores/stores.ts';
import { endPools, newPools, startWorker } from '#server/worker.ts';
import { type OwnDatabase, startDatabase } from '../setup/mariadb.ts';

const [what = 'all', given] = process.argv.slice(2);
const root = mkdtempSync(path.join(os.tmpdir(), 'keramion-bench-'));
const servers: OwnDatabase[] = [];
const pools = newPools();

const seconds = async (work: () => Promise<unknown> | unknown): Promise<number> => {
  const began = performance.now();
  await work();
  return (performance.now() - began) / 1000;
};
const tell = (name: string, own: number, tool: string, theirs: number) =>
  console.log(`${name}: ${own.toFixed(2)} s, ${tool} ${theirs.toFixed(2)} s, ${(own / theirs).toFixed(2)} times`);

async function fresh(name: string, volumes: readonly string[]): Promise<{ db: Database; ids: VolumeId[] }> {
  const server = await startDatabase(path.join(root, `db-${name}`), { port: 0, durable: true });
  servers.push(server);
  const db = connect(server.url);
  await migrate(db);
  const ids: VolumeId[] = [];
  for (const volume of volumes) {
    const at = path.join(root, volume);
    const facts = {
      station: 'store',
      stationRole: 'server' as const,
      name: volume,
      path: at,
      duty: 'none' as const,
      quotaBytes: null,
    };
    ids.push(await addVolume(db, facts, new Date()));
  }
  for (const id of ids) await readVolume(db, pools.walk, id, { stop: stopFlag(), now: () => new Date() });
  const looking = await signIn(db, { name: 'bench', machine: 'bench' });
  await lookAtStores(db, looking, {});
  await signOut(db, looking);
  return { db, ids };
}

async function workOff(db: Database): Promise<void> {
  const worker = startWorker(db, {
    name: 'bench',
    leaseSeconds: 30,
    pollMs: 250,
    log: pino({ level: 'error' }),
    pools,
    assesses: false,
  });
  for (;;) {
    const open = await db.select({ id: jobs.id }).from(jobs).where(isNull(jobs.finishedAt));
    if (open.length === 0) break;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
  await worker.stop();
}

async function run(db: Database): Promise<void> {
  const { planId, version, steps } = await currentPlan(db);
  const typed = size(byLevel(steps)[3]);
  const ran = await runPlan(db, { planId: planId!, version, who: 'bench', now: new Date(), typed });
  if (!ran.ok) throw new Error(`The plan did not run: ${ran.trouble.code}.`);
  await workOff(db);
}

/** 20,000 files that are one of a pair, 20,000 of one size with other ends, 20,000 of one size that differ in the middle. */
async function twins(files: number): Promise<void> {
  const third = Math.floor(files / 3);
  const bytes = Buffer.alloc(48_000);
  for (const volume of ['one', 'two']) mkdirSync(path.join(root, volume), { recursive: true });
  for (let i = 0; i < third; i++) {
    const folder = path.join(root, i % 2 === 0 ? 'one' : 'two', String(i % 400));
    mkdirSync(folder, { recursive: true });
    const put = (name: string, set: () => void) => {
      set();
      writeFileSync(path.join(folder, name), bytes);
    };
    // Pairs lie on both volumes.
    put(`pair${i}.mov`, () => bytes.fill(0).writeUInt32LE(Math.floor(i / 2), 24_000));
    put(`ends${i}.mov`, () => bytes.fill(1).writeUInt32LE(i, 0));
    put(`middle${i}.mov`, () => bytes.fill(2).writeUInt32LE(i, 24_000));
  }
  const { db } = await fresh('twins', ['one', 'two']);
  const tool = ['-dryrun', 'true', '-makeresultsfile', 'false', path.join(root, 'one'), path.join(root, 'two')];
  const theirs = await seconds(() => execFileSync('rdfind', tool, { stdio: 'ignore' }));
  await askToCompare(db, { who: 'bench', now: new Date() });
  const own = await seconds(() => workOff(db));
  tell(`the same file twice, ${third * 3} files`, own, 'rdfind', theirs);
  await askToCompare(db, { who: 'bench', now: new Date() });
  tell('again, nothing changed', await seconds(() => workOff(db)), 'rdfind', theirs);
  await assess(db);
  const pairs = await twinPairs(db, (await currentAssessment(db))!.run, 1_000_000);
  console.log(`${pairs.length} pairs told`);
  await disconnect(db);
}

function tree(volume: string, files: number, folder: string): void {
  for (let i = 0; i < files; i++) {
    const at = path.join(root, volume, folder, String(Math.floor(i / 200)));
    if (i % 200 === 0) mkdirSync(at, { recursive: true });
    const file = path.join(at, `${i}.frm`);
    writeFileSync(file, 'frame');
    utimesSync(file, 1e9, 1e9);
  }
}

async function purge(files: number): Promise<void> {
  tree('purge', files, 'cache');
  cpSync(path.join(root, 'purge'), path.join(root, 'purge-again'), { recursive: true });
  const { db } = await fresh('purge', ['purge']);
  const all = await db.select({ id: folders.id }).from(folders);
  await addCacheRemoval(db, { folderIds: all.map((row) => row.id as FolderId), cutDay: 20_000, now: new Date() });
  const own = await seconds(() => run(db));
  const theirs = await seconds(() => execFileSync('rm', ['-rf', path.join(root, 'purge-again')]));
  tell(`removing ${files} caches with journal and receipt`, own, 'rm -rf', theirs);
  await disconnect(db);
}

async function aside(files: number): Promise<void> {
  tree('aside', files, 'left');
  cpSync(path.join(root, 'aside'), path.join(root, 'aside-again'), { recursive: true });
  const { db } = await fresh('aside', ['aside']);
  await addSettingAside(db, {
    params: { what: 'what is left', reason: 'bench', level: 3 },
    chosen: sql`TRUE`,
    now: new Date(),
  });
  const own = await seconds(() => run(db));
  const target = path.join(root, 'moved');
  mkdirSync(target);
  // One call of mv for each folder, file by file into another folder: what setting aside does.
  const script = `cd "$1" && for d in left/*; do mkdir -p "$2/$d" && mv "$d"/* "$2/$d"/; done`;
  const theirs = await seconds(() => execFileSync('sh', ['-c', script, 'sh', path.join(root, 'aside-again'), target]));
  tell(`setting ${files} files aside with journal and receipt`, own, 'mv', theirs);
  await disconnect(db);
}

async function goal(candidates: number): Promise<void> {
  const all = Array.from({ length: candidates }, (_, i) => ({
    key: String(i),
    volumeId: 1,
    group: GROUPS[i % GROUPS.length]!,
    level: (i % 4) as Level,
    bytes: ((i * 7919) % 10_000) * 1e5 + 1,
    costSeconds: (i * 31) % 1000,
    day: 19_000 + (i % 1000),
  }));
  const own = await seconds(() => reach(all, { wantedBytes: 1e14, highest: 2 }));
  const theirs = await seconds(() => [...all].sort((a, b) => a.bytes - b.bytes));
  tell(`the goal among ${candidates} candidates`, own, 'a plain sort', theirs);
}

try {
  if (what === 'twins' || what === 'all') await twins(Number(given ?? 60_000));
  if (what === 'purge' || what === 'all') await purge(Number(given ?? 100_000));
  if (what === 'aside' || what === 'all') await aside(Number(given ?? 100_000));
  if (what === 'goal' || what === 'all') await goal(Number(given ?? 1_000_000));
} finally {
  await endPools(pools);
  for (const server of servers) await server.stop();
  rmSync(root, { recursive: true, force: true });
}
process.exit(0);
