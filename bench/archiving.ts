// Two copies of an archive written and read back, beside cp twice and xxhsum three times on the same bytes, as a folder and as
// one tar; then a copy read back beside xxhsum, and restored beside cp and xxhsum. Prints seconds, ratios and the most memory. usage: npm run bench -- archiving [megabytes]
import { execFileSync, spawn, spawnSync } from 'node:child_process';
import { once } from 'node:events';
import {
  closeSync,
  fstatSync,
  mkdirSync,
  mkdtempSync,
  openSync,
  readdirSync,
  readFileSync,
  rmSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { randomFillSync } from 'node:crypto';
import os from 'node:os';
import path from 'node:path';
import pino from 'pino';
import { type PackedAs, USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, PlanId, ProjectId } from '#core/model.ts';
import { factsOf } from '#disk/facts.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { connect, disconnect } from '#server/db/connect.ts';
import { jobs } from '#server/db/schema/jobs.ts';
import { migrate } from '#server/db/migrate.ts';
import { currentPlan, runPlan } from '#server/plan/plan.ts';
import { readDocuments } from '#server/readings/read-documents.ts';
import { readVolume } from '#server/readings/read-volume.ts';
import { askToReadBackAll } from '#server/archives/read-back.ts';
import { addArchive } from '#server/steps/archive.ts';
import { addRestore } from '#server/steps/restore.ts';
import { lookAtStores, signIn, signOut } from '#server/stores/reach.ts';
import { addCarrier, addVolume } from '#server/stores/stores.ts';
import { endPools, newPools, startWorker } from '#server/worker.ts';
import { startDatabase } from '../setup/mariadb.ts';

const megabytes = Number(process.argv[2] ?? 2000);
const LARGE = 4;
const SMALL = 200;
const root = mkdtempSync(path.join(os.tmpdir(), 'bench-archiving-'));
const at = (...parts: string[]) => path.join(root, ...parts);

const made = (name: string): string => {
  mkdirSync(at(name));
  return at(name);
};

const seconds = async (work: () => Promise<unknown> | unknown): Promise<number> => {
  spawnSync('sync');
  const began = performance.now();
  await work();
  return (performance.now() - began) / 1000;
};

/** A few recordings and many small files: two thirds of the bytes in the large ones. */
function record(): string[] {
  mkdirSync(at('media/fog/rushes'), { recursive: true });
  const block = randomFillSync(Buffer.allocUnsafe(1 << 20));
  const put = (name: string, blocks: number) => {
    const fd = openSync(at('media/fog/rushes', name), 'w');
    for (let i = 0; i < blocks; i++) {
      block.writeUInt32LE(i);
      writeSync(fd, block);
    }
    closeSync(fd);
    return `rushes/${name}`;
  };
  const third = Math.floor(megabytes / 3);
  return [
    ...Array.from({ length: LARGE }, (_, i) => put(`large${i}.mov`, Math.floor((2 * third) / LARGE))),
    ...Array.from({ length: SMALL }, (_, i) => put(`small${i}.mov`, Math.max(1, Math.floor(third / SMALL)))),
  ];
}

const document = (urls: readonly string[]) => ({
  OTIO_SCHEMA: 'Timeline.1',
  name: 'Fog',
  tracks: {
    OTIO_SCHEMA: 'Stack.1',
    children: [
      {
        OTIO_SCHEMA: 'Track.1',
        kind: 'Video',
        children: urls.map((target_url) => ({
          OTIO_SCHEMA: 'Clip.1',
          media_reference: { OTIO_SCHEMA: 'ExternalReference.1', target_url },
        })),
      },
    ],
  },
});

writeFileSync(
  (mkdirSync(at('media/fog'), { recursive: true }), at('media/fog/fog.otio')),
  JSON.stringify(document(record())),
);
const server = await startDatabase(at('db'), { port: 0, durable: true });
const db = connect(server.url);
const pools = newPools();
await migrate(db);
const volume = await addVolume(
  db,
  {
    ...{ station: 'store', stationRole: 'server', name: 'media', path: at('media'), duty: 'none', quotaBytes: null },
  },
  new Date(),
);
const carriers: CarrierId[] = [];
for (const name of ['a', 'b']) {
  mkdirSync(at(name));
  const settings = { folder: at(name) };
  carriers.push(await addCarrier(db, { name, kind: 'disk', place: 'here', settings, capacityBytes: null }, new Date()));
}
const reading = await readVolume(db, pools.walk, volume, { stop: stopFlag(), now: () => new Date() });
await readDocuments(db, pools.documents, volume, { now: () => new Date(), reading });
const looking = await signIn(db, { name: 'bench', machine: 'bench' });
await lookAtStores(db, looking, {});
await signOut(db, looking);

/** The threads have begun, as a worker's have. */
async function warm(): Promise<void> {
  writeFileSync(at('warm'), 'warm');
  const fd = openSync(at('warm'), 'r');
  const asked = { do: 'write' as const, from: fd, expected: factsOf(fstatSync(fd)), part: null, to: [] };
  await Promise.all(Array.from({ length: 2 * pools.carriers.size }, () => pools.carriers.ask(asked)));
  closeSync(fd);
}
await warm();

/** Before anything of the archive is read: what the program and its threads take. */
const before = process.memoryUsage().rss;

/** A worker as it runs in a house: it has looked around before work comes. */
const worker = startWorker(db, {
  ...{ pools, name: 'bench', leaseSeconds: 30, pollMs: 20, assesses: false },
  log: pino({ level: 'error' }),
});
while (!worker.isIdle()) await new Promise((resolve) => setTimeout(resolve, 50));

/** Until the worker has done all there is. */
async function workedOff(): Promise<void> {
  for (;;) {
    const all = await db.select().from(jobs);
    if (all.every((job) => job.finishedAt !== null)) break;
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
  const last = (await db.select().from(jobs)).at(-1)!;
  if (last.state !== 'done') throw new Error(last.trouble ?? last.state);
}

/** The plan, from the press of the button to its last receipt; seconds. */
async function ran(): Promise<number> {
  const plan = await currentPlan(db);
  const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'bench', now: new Date() };
  return seconds(async () => {
    const outcome = await runPlan(db, asked);
    if (!outcome.ok) throw new Error(`The plan did not run: ${outcome.trouble.code}.`);
    await workedOff();
  });
}

async function archived(pack: PackedAs): Promise<number> {
  const scope = { ...USUAL_SCOPE, pack };
  await addArchive(db, {
    ...{ projectId: 1 as ProjectId, carrierIds: carriers, folder: `fog-${pack}`, scope, now: new Date() },
  });
  return ran();
}

/** From the medium, as reading back does it: what memory still has of a file is dropped. */
function fresh(folder: string): void {
  for (const entry of readdirSync(folder, { recursive: true, withFileTypes: true }))
    if (entry.isFile())
      spawnSync('dd', [`if=${path.join(entry.parentPath, entry.name)}`, 'iflag=nocache', 'count=0', 'status=none']);
}

const files = ['-c', 'find "$0" -type f -print0 | xargs -0 "$@" > /dev/null'];
const all = (folder: string, ...command: string[]) => execFileSync('sh', [...files, folder, ...command]);
/** Two copies, and all of it read once more; then only what SHA-512 takes. */
async function byOthers(): Promise<{ plain: number; strong: number }> {
  const plain = await seconds(() => {
    for (const copy of ['c', 'd']) {
      execFileSync('cp', ['-r', at('media/fog'), at(copy)]);
      execFileSync('sync', ['-f', at(copy)]);
    }
    fresh(at('c'));
    fresh(at('d'));
    for (const copy of ['media/fog', 'c', 'd']) all(at(copy), 'xxhsum', '-H1');
  });
  const strong = await seconds(() => all(at('media/fog'), 'sha512sum'));
  for (const copy of ['c', 'd']) rmSync(at(copy), { recursive: true });
  return { plain, strong };
}
for (const pack of ['folder', 'tar'] as const) {
  // Right before, as the disk's own time moves within the hour.
  const { plain, strong } = await byOthers();
  const own = await archived(pack);
  console.log(
    `${pack}: two copies of ${megabytes} MB written and read back ${own.toFixed(2)} s; cp twice and xxhsum three times ${plain.toFixed(2)} s, ${(own / plain).toFixed(2)} times; with sha512sum once more ${(own / (plain + strong)).toFixed(2)} times`,
  );
}

// The way back, and the proof that it is there: of the copy that lies as a folder.
const median = (list: number[]) => [...list].sort((a, b) => a - b)[Math.floor(list.length / 2)]!;
const times = { summed: [] as number[], readBack: [] as number[], copied: [] as number[], restored: [] as number[] };
const back = await addVolume(
  db,
  { ...{ station: 'store', stationRole: 'server', name: 'back', path: made('back'), duty: 'none', quotaBytes: null } },
  new Date(),
);
for (let i = 0; i < 3; i++) {
  fresh(at('a/fog-folder'));
  times.summed.push(await seconds(() => all(at('a/fog-folder'), 'xxhsum', '-H1')));
  times.readBack.push(
    await seconds(async () => {
      await askToReadBackAll(db, 1, { who: 'bench', now: new Date(), on: 'a' });
      await workedOff();
    }),
  );
  fresh(at('a/fog-folder'));
  times.copied.push(
    await seconds(() => {
      execFileSync('cp', ['-r', at('a/fog-folder/data'), at('e')]);
      execFileSync('sync', ['-f', at('e')]);
      all(at('e'), 'xxhsum', '-H1');
    }),
  );
  rmSync(at('e'), { recursive: true });
  const looked = await signIn(db, { name: 'bench', machine: 'bench' });
  await lookAtStores(db, looked, {});
  await signOut(db, looked);
  await addRestore(db, {
    ...{ archiveId: 1 as ArchiveId, copyId: 1, volumeId: back, folder: `fog${i}`, now: new Date() },
  });
  times.restored.push(await ran());
  rmSync(at('back', `fog${i}`), { recursive: true });
}
const [summed, readBack, copied, restored] = Object.values(times).map(median) as [number, number, number, number];
console.log(
  `read back ${readBack.toFixed(2)} s, xxhsum -H1 ${summed.toFixed(2)} s: ${(summed / readBack).toFixed(2)} of its rate; restored ${restored.toFixed(2)} s, cp and xxhsum ${copied.toFixed(2)} s: ${(restored / copied).toFixed(2)} times`,
);
console.log(
  `most memory of this process ${Math.round(process.resourceUsage().maxRSS / 1024)} MB, ${Math.round(before / 1e6)} MB of it before anything was copied`,
);

/** The most memory that a worker took, started as the product starts it: of two copies once more, as one tar, in MB. */
async function workerMemory(): Promise<number> {
  const built = path.join(process.env.KERAMION_THREADS!, 'server/worker-process.mjs');
  const env = { ...process.env, KERAMION_DATABASE: server.url, KERAMION_LEASE_SECONDS: '30', NODE_ENV: 'production' };
  const worker = spawn(process.execPath, [built], { env, stdio: ['ignore', 'ignore', 'inherit'] });
  try {
    const scope = { ...USUAL_SCOPE, pack: 'tar' as const };
    const asked = { projectId: 1 as ProjectId, carrierIds: carriers, folder: 'fog-memory', scope, now: new Date() };
    await addArchive(db, asked);
    const plan = await currentPlan(db);
    await runPlan(db, { planId: plan.planId as PlanId, version: plan.version, who: 'bench', now: new Date() });
    while ((await db.select().from(jobs)).some((job) => job.finishedAt === null))
      await new Promise((resolve) => setTimeout(resolve, 200));
    const [, kilobytes] = /VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${worker.pid}/status`, 'utf8'))!;
    return Math.round(Number(kilobytes) / 1024);
  } finally {
    worker.kill();
    await once(worker, 'exit');
  }
}
await worker.stop();
console.log(`most memory of a worker ${await workerMemory()} MB`);
await endPools(pools);
await disconnect(db);
await server.stop();
rmSync(root, { recursive: true });
