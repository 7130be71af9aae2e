// What watching documents takes while nothing changes: the worker as it runs in a house, 200 documents of projects in work on one volume,
// snapshots to another at most every minute. Its time of a core by /proc, beside that of find asking the same files for their times once
// a minute, and of the database.
// usage: npm run bench -- watching [documents] [seconds]
import { spawn, spawnSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, utimesSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { snapshotRule } from '#core/snapshots/snapshots.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { connect, disconnect } from '#server/db/connect.ts';
import { migrate } from '#server/db/migrate.ts';
import { snapshots } from '#server/db/schema/snapshots.ts';
import { readDocuments } from '#server/readings/read-documents.ts';
import { readVolume } from '#server/readings/read-volume.ts';
import { setSnapshotRule } from '#server/snapshots/rule.ts';
import { addVolume } from '#server/stores/stores.ts';
import { endPools, newPools } from '#server/worker.ts';
import { startDatabase } from '../setup/mariadb.ts';

const many = Number(process.argv[2] ?? 200);
const seconds = Number(process.argv[3] ?? 180);
const TICK_MS = 10;
const root = mkdtempSync(path.join(os.tmpdir(), 'bench-watching-'));
const at = (...parts: string[]) => path.join(root, ...parts);

const long = Array.from({ length: 200 }, (_, i) => ({
  OTIO_SCHEMA: 'Clip.1',
  name: `take ${i}`,
  media_reference: { OTIO_SCHEMA: 'ExternalReference.1', target_url: `rushes/take${i}.mov` },
}));
for (let n = 0; n < many; n++) {
  const folder = at('media', `p${Math.floor(n / 5)}`);
  mkdirSync(folder, { recursive: true });
  const tracks = { OTIO_SCHEMA: 'Stack.1', children: [{ OTIO_SCHEMA: 'Track.1', kind: 'Video', children: long }] };
  const file = path.join(folder, `cut ${'abcde'[n % 5]}.otio`);
  writeFileSync(file, JSON.stringify({ OTIO_SCHEMA: 'Timeline.1', name: `Cut ${n}`, tracks }));
  utimesSync(file, Date.now() / 1000 - 3600, Date.now() / 1000 - 3600);
}
mkdirSync(at('safe'));

const server = await startDatabase(at('db'), { port: 0, durable: true });
const db = connect(server.url);
await migrate(db);
const now = () => new Date();
const volume = (name: string) =>
  addVolume(
    db,
    { ...{ station: 'store', stationRole: 'server', name, path: at(name) }, duty: 'none', quotaBytes: null },
    now(),
  );
const [media, safe] = [await volume('media'), await volume('safe')];
const pools = newPools();
const reading = await readVolume(db, pools.walk, media, { stop: stopFlag(), now });
await readDocuments(db, pools.documents, media, { now, reading });
await endPools(pools);
await setSnapshotRule(db, snapshotRule.parse({ volumeId: safe, everyMinutes: 1 }), { who: 'bench', now: now() });

/** Milliseconds of a core that a process and all its threads have had. */
function coreMs(pid: number): number {
  const fields = readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1]!.split(' ');
  return (Number(fields[11]) + Number(fields[12])) * TICK_MS;
}

const worker = spawn(process.execPath, [path.join(process.env.KERAMION_THREADS!, 'server/worker-process.mjs')], {
  env: { ...process.env, NODE_ENV: 'production', KERAMION_DATABASE: server.url },
  stdio: 'ignore',
});
const kept = () => db.$count(snapshots);
while ((await kept()) < many) await sleep(1000);
// What it has to do once a house begins is over.
await sleep(90_000);
const database = Number(readFileSync(at('db', 'mariadb.pid'), 'utf8'));
const before = [coreMs(worker.pid!), coreMs(database)];
const began = performance.now();
await sleep(seconds * 1000);
const over = performance.now() - began;
const [ours, its] = [coreMs(worker.pid!) - before[0]!, coreMs(database) - before[1]!];
const find = () => spawnSync('find', [at('media'), '-name', '*.otio', '-printf', '%s %T@ %p\\n'], { stdio: 'ignore' });
find();
const clock = performance.now();
for (let i = 0; i < 20; i++) find();
const finding = (performance.now() - clock) / 20;
const per = (ms: number) => `${((ms / over) * 100).toFixed(2)} %`;
console.log(`${await kept()} documents watched for ${Math.round(over / 1000)} s, nothing changed`);
console.log(`the worker: ${ours} ms of a core, ${per(ours)}; the database with it: ${its} ms, ${per(its)}`);
console.log(`find once a minute: ${finding.toFixed(1)} ms each, ${((finding / 60_000) * 100).toFixed(3)} % of a core`);
worker.kill('SIGTERM');
await new Promise((resolve) => worker.once('exit', resolve));
await disconnect(db);
await server.stop();
rmSync(root, { recursive: true, force: true });
