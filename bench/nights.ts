// Nights of projects in work beside general tools on the same tree: the first night beside rsync to an empty folder, one in which nothing
// changed beside find, and one after a part of it changed beside rsync again. Ours also reads back every byte that it wrote, from the
// medium: what that takes alone is told beside it, by xxhsum of what rsync wrote.
// usage: npm run bench -- nights [megabytes] [projects] [per cent changed] [files of each]
import { execFileSync, spawnSync } from 'node:child_process';
import { randomFillSync } from 'node:crypto';
import { mkdirSync, mkdtempSync, rmSync, utimesSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import pino from 'pino';
import type { CarrierId, ProjectId } from '#core/model.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { setProjectNight } from '#server/archives/project-nights.ts';
import { connect, disconnect } from '#server/db/connect.ts';
import { archives } from '#server/db/schema/archives.ts';
import { jobs } from '#server/db/schema/jobs.ts';
import { projects } from '#server/db/schema/projects.ts';
import { migrate } from '#server/db/migrate.ts';
import { archiveAtNight } from '#server/plan/night-projects.ts';
import { readDocuments } from '#server/readings/read-documents.ts';
import { readVolume } from '#server/readings/read-volume.ts';
import { addCarrier, addVolume } from '#server/stores/stores.ts';
import { endPools, newPools, startWorker } from '#server/worker.ts';
import { startDatabase } from '../setup/mariadb.ts';

const megabytes = Number(process.argv[2] ?? 2000);
const houses = Number(process.argv[3] ?? 40);
const EACH = Number(process.argv[5] ?? 50);
/** Files of every project that are written anew. */
const changed = Math.max(1, Math.round((EACH * Number(process.argv[4] ?? 2)) / 100));
const fileBytes = Math.max(4096, Math.floor((megabytes * 1e6) / houses / EACH));
const root = mkdtempSync(path.join(os.tmpdir(), 'bench-nights-'));
const at = (...parts: string[]) => path.join(root, ...parts);

const seconds = async (work: () => Promise<unknown> | unknown): Promise<number> => {
  spawnSync('sync');
  const began = performance.now();
  await work();
  return (performance.now() - began) / 1000;
};

const block = randomFillSync(Buffer.allocUnsafe(fileBytes));
let serial = 0;
const put = (project: number, name: string) => {
  block.writeUInt32LE(serial++);
  writeFileSync(at('media', `p${project}`, 'rushes', name), block);
};
const names = Array.from({ length: EACH }, (_, i) => `take${i}.mov`);
for (let p = 0; p < houses; p++) {
  mkdirSync(at('media', `p${p}`, 'rushes'), { recursive: true });
  for (const name of names) put(p, name);
  const clips = names.map((name) => ({
    OTIO_SCHEMA: 'Clip.1',
    media_reference: { OTIO_SCHEMA: 'ExternalReference.1', target_url: `rushes/${name}` },
  }));
  const tracks = {
    OTIO_SCHEMA: 'Stack.1',
    children: [{ OTIO_SCHEMA: 'Track.1', kind: 'Video', children: clips }],
  };
  writeFileSync(
    at('media', `p${p}`, `p${p}.otio`),
    JSON.stringify({ OTIO_SCHEMA: 'Timeline.1', name: `P${p}`, tracks }),
  );
}
mkdirSync(at('copy'));
mkdirSync(at('backup'));

const server = await startDatabase(at('db'), { port: 0, durable: true });
const db = connect(server.url);
const pools = newPools();
await migrate(db);
const by = { who: 'bench', now: new Date() };
const volume = await addVolume(
  db,
  { ...{ station: 'store', stationRole: 'server', name: 'media', path: at('media') }, duty: 'none', quotaBytes: null },
  by.now,
);
const settings = { folder: at('backup') };
const carrierId: CarrierId = await addCarrier(
  db,
  { name: 'backup', kind: 'disk', place: 'here', settings, capacityBytes: null },
  by.now,
);
async function read(): Promise<void> {
  const reading = await readVolume(db, pools.walk, volume, { stop: stopFlag(), now: () => new Date() });
  await readDocuments(db, pools.documents, volume, { now: () => new Date(), reading });
}
await read();
for (const { id } of await db.select().from(projects))
  await setProjectNight(
    db,
    {
      projectId: id as ProjectId,
      rule: { carrierId, anewDays: 30, keepDays: 0, mostMBps: 0, allDays: 0, weeklyDays: 0 },
    },
    by,
  );

/** Three in the morning, so many days from today; a worker has all the time it needs. */
const night = (days: number): Date => {
  const then = new Date(Date.now() + days * 86_400_000);
  then.setHours(3, 0, 0, 0);
  return then;
};
/** As in a house: a worker is there, and begins with the first project while the next ones are looked at. */
async function spend(days: number): Promise<number> {
  const log = pino({ level: 'error' });
  const worker = startWorker(db, {
    ...{ pools, name: 'bench', leaseSeconds: 30, pollMs: 20, assesses: false, log, clock: () => night(days) },
  });
  while (!worker.isIdle()) await new Promise((resolve) => setTimeout(resolve, 20));
  try {
    return await seconds(async () => {
      await read();
      await archiveAtNight(db, night(days));
      while ((await db.select().from(jobs)).some((job) => job.finishedAt === null))
        await new Promise((resolve) => setTimeout(resolve, 50));
      const failed = (await db.select().from(jobs)).filter((job) => job.state !== 'done');
      if (failed.length > 0) throw new Error(failed[0]!.trouble ?? failed[0]!.state);
    });
  } finally {
    await worker.stop();
  }
}
const rsync = () => {
  execFileSync('rsync', ['-a', '--delete', `${at('media')}/`, `${at('copy')}/`]);
  spawnSync('sync', ['-f', at('copy')]);
};
const find = () => execFileSync('sh', ['-c', `find ${at('media')} -printf '%s %T@ %p\\n' > /dev/null`]);
const tell = (what: string, ours: number, theirs: number, tool: string) =>
  console.log(
    `${what}: ${ours.toFixed(2)} s beside ${tool} ${theirs.toFixed(2)} s, ${(ours / Math.max(theirs, 1e-3)).toFixed(2)} times`,
  );

console.log(`${houses} projects, ${houses * EACH} media files of ${Math.round(fileBytes / 1000)} kB`);
tell('first night', await spend(1), await seconds(rsync), 'rsync');
await seconds(find);
tell('nothing changed', await spend(2), await seconds(find), 'find');
tell('nothing changed again', await spend(3), await seconds(find), 'find');
tell('and again', await spend(4), await seconds(rsync), 'rsync');
const anew = (p: number) => Array.from({ length: changed }, (_, i) => names[(p + i) % EACH]!);
/** What rsync wrote, read from its disk. */
const readBack = () => {
  const came = Array.from({ length: houses }, (_, p) =>
    anew(p).map((name) => at('copy', `p${p}`, 'rushes', name)),
  ).flat();
  for (const file of came) spawnSync('dd', [`if=${file}`, 'iflag=nocache', 'count=0', 'status=none']);
  execFileSync('xargs', ['-0', 'xxhsum', '-H1'], { input: came.join('\0'), stdio: ['pipe', 'ignore', 'inherit'] });
};
/** A disk's speed moves within minutes: one after the other several times, and the one in the middle counts. */
const ROUNDS = 5;
const times = { alone: [] as number[], proven: [] as number[] };
for (let round = 0; round < ROUNDS; round++) {
  for (let p = 0; p < houses; p++) {
    for (const name of anew(p)) put(p, name);
    utimesSync(at('media', `p${p}`, `p${p}.otio`), new Date(), new Date());
  }
  const ours = await spend(5 + round);
  const theirs = await seconds(rsync);
  const proven = theirs + (await seconds(readBack));
  times.alone.push(ours / theirs);
  times.proven.push(ours / proven);
  tell(`${changed} of ${EACH} files of every project changed`, ours, theirs, 'rsync');
  tell('  the same', ours, proven, 'rsync and what it wrote read back');
}
const middle = (all: number[]) => all.sort((a, b) => a - b)[Math.floor(all.length / 2)]!.toFixed(2);
console.log(`in the middle: ${middle(times.alone)} times rsync, ${middle(times.proven)} times rsync and reading back`);
const made = await db.select().from(archives);
console.log(`${made.length} nights of projects, ${made.filter((one) => one.state === 'sealed').length} sealed`);
await endPools(pools);
await disconnect(db);
await server.stop();
rmSync(root, { recursive: true, force: true });
