// Reading a tree into the catalogue beside `find` on the same tree: first reading, unchanged second reading, reading
// after one per cent changed. usage: npm run bench -- read [files] [plain | deep | flat]
import { execFileSync } from 'node:child_process';
import { mkdirSync, readdirSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { walk, walkPool } from '#disk/walk/walk.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { connect, disconnect } from '#server/db/connect.ts';
import { migrate } from '#server/db/migrate.ts';
import { readVolume } from '#server/readings/read-volume.ts';
import { addVolume } from '#server/stores/stores.ts';
import { startDatabase } from '../setup/mariadb.ts';
import { makeTree, type Shape, SHAPES } from './tree.ts';

const files = Number(process.argv[2] ?? 300_000);
const base = path.resolve('var/bench');
const shape: Shape = SHAPES.find((one) => one === process.argv[3]) ?? 'plain';
const root = path.join(base, shape === 'plain' ? `tree-${files}` : `tree-${shape}-${files}`);
mkdirSync(root, { recursive: true });
makeTree(root, files, shape);

const timed = async <T>(work: () => Promise<T> | T): Promise<[seconds: number, value: T]> => {
  const start = process.hrtime.bigint();
  const value = await work();
  return [Number(process.hrtime.bigint() - start) / 1e9, value];
};
const find = () => execFileSync('sh', ['-c', `find ${root} -printf '%s %T@ %p\\n' > /dev/null`]);
const median = (values: number[]) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)]!;

rmSync(path.join(base, 'db'), { recursive: true, force: true });
const server = await startDatabase(path.join(base, 'db'), { port: 0, durable: true });
const db = connect(server.url);
await migrate(db);
const volumeId = await addVolume(
  db,
  { station: 'bench', stationRole: 'server', name: 'bench', path: root, duty: 'none', quotaBytes: null },
  new Date(),
);
const pool = walkPool();
let peak = 0;
const watch = setInterval(() => (peak = Math.max(peak, process.memoryUsage().rss)), 50);
const read = () => readVolume(db, pool, volumeId, { stop: stopFlag(), now: () => new Date() });

const finds: number[] = [];
const seconds: number[] = [];
find();
// A worker starts its threads once and keeps them: how long that takes is told apart. An empty folder, walked by both.
const empty = path.join(base, 'empty');
mkdirSync(empty, { recursive: true });
const walkEmpty = () =>
  walk(
    pool,
    { root: empty, volumeId, duty: 'none', rules: [], ruleMark: '', exclude: [], stop: stopFlag() },
    { enter: () => ({ folderId: 1, projectId: null, known: null }), found: () => undefined },
  );
const [starting] = await timed(() => Promise.all([walkEmpty(), walkEmpty()]));
console.log('base', Math.round(process.memoryUsage().rss/1e6), peak/1e6|0); const [first, firstResult] = await timed(read); console.log('after first', peak/1e6|0, process.memoryUsage());
for (let i = 0; i < 5; i++) {
  finds.push((await timed(find))[0]);
  seconds.push((await timed(read))[0]);
}
console.log('after seconds', peak/1e6|0, process.memoryUsage());
const changed = Math.ceil(files / 100);
let touched = 0;
const walkFolders = (folder: string) => {
  for (const entry of readdirSync(folder, { withFileTypes: true })) {
    if (touched >= changed) return;
    const at = path.join(folder, entry.name);
    if (entry.isDirectory()) walkFolders(at);
    else if (entry.name.endsWith('7.dpx')) {
      writeFileSync(at, `${Date.now()} ${touched}`);
      touched++;
    }
  }
};
walkFolders(root);
const [afterChange, changeResult] = await timed(read);
clearInterval(watch);
await pool.end();
await disconnect(db);
await server.stop();
const f = median(finds);
const line = (what: string, s: number) =>
  console.log(
    `${what.padEnd(34)} ${s.toFixed(2).padStart(7)} s  ${Math.round(files / s)
      .toLocaleString('en-GB')
      .padStart(9)} files/s  ${(s / f).toFixed(2).padStart(6)} x find`,
  );
console.log(`${files.toLocaleString('en-GB')} files; medians of five for find and the second reading`);
line('find -printf', f);
line('first reading into MariaDB', first);
console.log(`its threads were started before, in ${starting.toFixed(2)} s`);
line('second reading, nothing changed', median(seconds));
line(`reading after ${touched} files changed`, afterChange);
console.log(
  `added ${firstResult.added}, then changed ${changeResult.changed}; most memory ${Math.round(peak / 1e6)} MB`,
);
