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
import { sumFile } from '#disk/content/content.ts';
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

/** A worker that has looked around and whose threads have begun, as one of a house has. */
async function working(db: Database, work: () => Promise<void>): Promise<void> {
  const worker = startWorker(db, {
    name: 'bench',
    leaseSeconds: 30,
    pollMs: 250,
    log: pino({ level: 'error' }),
    pools,
    assesses: false,
  });
  await work();
  await worker.stop();
}

async function ended(db: Database): Promise<void> {
  for (;;) {
    const open = await db.select({ id: jobs.id }).from(jobs).where(isNull(jobs.finishedAt));
    if (open.length === 0) return;
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
}

const workOff = (db: Database): Promise<void> => working(db, () => ended(db));

async function run(db: Database): Promise<void> {
  const { planId, version, steps } = await currentPlan(db);
  const typed = size(byLevel(steps)[3]);
  const ran = await runPlan(db, { planId: planId!, version, who: 'bench', now: new Date(), typed });
  if (!ran.ok) throw new Error(`The plan did not run: ${ran.trouble.code}.`);
  await workOff(db);
}

async function summedOnce(file: string): Promise<void> {
  writeFileSync(file, 'first');
  await Promise.all(
    Array.from({ length: 2 * pools.content.size }, () => sumFile(pools.content, file, { sha512: false })),
  );
}

/** A third are one of a pair, a third of one size with other ends, a third of one size that differ in the middle. */
function ofOneSize(files: number, put: Put): void {
  const bytes = Buffer.alloc(48_000);
  for (let i = 0; i < files / 3; i++) {
    put(i, `pair${i}.mov`, (bytes.fill(0).writeUInt32LE(Math.floor(i / 2), 24_000), bytes));
    put(i, `ends${i}.mov`, (bytes.fill(1).writeUInt32LE(i, 0), bytes));
    put(i, `middle${i}.mov`, (bytes.fill(2).writeUInt32LE(i, 24_000), bytes));
  }
}

/** Of many sizes, 8 kB to 88 kB by 4 bytes, so that most share theirs with others; every tenth is there twice. */
function ofManySizes(files: number, put: Put): void {
  const bytes = Buffer.alloc(88_000, 7);
  for (let i = 0; i < files; i++) {
    const which = i % 10 === 9 ? i - 9 : i;
    bytes.writeUInt32LE(which, 4000);
    put(i, `${i}.mov`, bytes.subarray(0, 8000 + 4 * ((which * 7919) % 20_000)));
  }
}

type Put = (i: number, name: string, bytes: Uint8Array) => void;

async function twins(files: number, of: (files: number, put: Put) => void): Promise<void> {
  const volumes = [`${of.name}-one`, `${of.name}-two`];
  for (const volume of volumes) mkdirSync(path.join(root, volume), { recursive: true });
  // Pairs lie on both volumes.
  of(files, (i, name, bytes) => {
    const folder = path.join(root, volumes[i % 2]!, String(i % 400));
    mkdirSync(folder, { recursive: true });
    writeFileSync(path.join(folder, name), bytes);
  });
  const { db } = await fresh(of.name, volumes);
  const tool = ['-dryrun', 'true', '-makeresultsfile', 'false', ...volumes.map((volume) => path.join(root, volume))];
  const theirs = await seconds(() => execFileSync('rdfind', tool, { stdio: 'ignore' }));
  await working(db, async () => {
    const compared = () =>
      seconds(async () => {
        await askToCompare(db, { who: 'bench', now: new Date() });
        await ended(db);
      });
    // Something small first, so that the threads have begun.
    await summedOnce(path.join(root, 'first'));
    tell(
      `the same file twice, ${files} files ${of === ofOneSize ? 'of one size' : 'of many sizes'}`,
      await compared(),
      'rdfind',
      theirs,
    );
    tell('again, nothing changed', await compared(), 'rdfind', theirs);
  });
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
  if (what === 'twins' || what === 'all')
    for (const of of [ofManySizes, ofOneSize]) await twins(Number(given ?? 60_000), of);
  if (what === 'purge' || what === 'all') await purge(Number(given ?? 100_000));
  if (what === 'aside' || what === 'all') await aside(Number(given ?? 100_000));
  if (what === 'goal' || what === 'all') await goal(Number(given ?? 1_000_000));
} finally {
  await endPools(pools);
  for (const server of servers) await server.stop();
  rmSync(root, { recursive: true, force: true });
}
process.exit(0);
