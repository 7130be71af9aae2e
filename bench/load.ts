// A house at work: fifty people who each open a lens every two seconds, at three million files, while a volume is read again and again.
// Beside it the same people asking the same server for its plainest answer. usage: npm run bench -- load [people] [seconds]
import { spawn } from 'node:child_process';
import { mkdirSync } from 'node:fs';
import path from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { eq } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { stopFlag } from '#disk/threads/serve.ts';
import { walkPool } from '#disk/walk/walk.ts';
import { disconnect } from '#server/db/connect.ts';
import { volumes } from '#server/db/schema/stores.ts';
import { currentAssessment } from '#server/db/worth.ts';
import { assess } from '#server/reclaim/assess.ts';
import { readVolume } from '#server/readings/read-volume.ts';
import { addVolume } from '#server/stores/stores.ts';
import { build } from '../setup/build.ts';
import { freePort } from '../setup/mariadb.ts';
import { largeCatalogue } from './catalogue.ts';
import { makeTree } from './tree.ts';

const people = Number(process.argv[2] ?? 50);
const seconds = Number(process.argv[3] ?? 60);
const EVERY_MS = 2000;
const LENSES = [
  '/',
  '/projects',
  '/projects/7',
  '/space',
  '/space?v=4',
  '/reclaim',
  '/archive',
  '/shelf',
  '/ledger',
  '/storage',
];

const { server, db } = await largeCatalogue();
if ((await currentAssessment(db)) === null) await assess(db);
build();
const port = await freePort();
const web = spawn(process.execPath, ['--import', 'tsx', 'server/web.ts'], {
  env: { ...process.env, NODE_ENV: 'production', KERAMION_DATABASE: server.url, KERAMION_PORT: String(port) },
  stdio: ['ignore', 'ignore', 'inherit'],
});
const address = `http://127.0.0.1:${port}`;
for (let tries = 0; tries < 300 && !(await fetch(`${address}/health`).catch(() => null))?.ok; tries++) await sleep(100);

const root = path.resolve('var/bench/tree-60000');
mkdirSync(root, { recursive: true });
makeTree(root, 60_000, 'plain');
const NAME = 'read while others look';
const [known] = await db.select({ id: volumes.id }).from(volumes).where(eq(volumes.name, NAME));
const volumeId =
  known?.id ??
  (await addVolume(
    db,
    { station: 'bench', stationRole: 'server', name: NAME, path: root, duty: 'none', quotaBytes: null },
    new Date(),
  ));
// The catalogue's folders were numbered by hand: readings go on behind them.
const [[last]] = await db.$pool.query<RowDataPacket[]>('SELECT MAX(id) AS id FROM folders');
await db.$pool.query(`SELECT SETVAL(folder_ids, ${Number(last!.id) + 1000})`);
const pool = walkPool();
let isReading = true;
let readings = 0;
const reading = (async () => {
  for (; isReading; readings++) {
    await readVolume(db, pool, volumeId as never, { stop: stopFlag(), now: () => new Date() });
    await sleep(500);
  }
})();

/** Everybody asks for one thing after the other, in an order of their own, each at a moment of their own. */
async function ask(pages: readonly string[]): Promise<{ took: number[]; errors: string[] }> {
  const [took, errors]: [number[], string[]] = [[], []];
  const until = performance.now() + seconds * 1000;
  await Promise.all(
    Array.from({ length: people }, async (_, who) => {
      await sleep((who * EVERY_MS) / people);
      for (let n = who; performance.now() < until; n++) {
        const page = pages[n % pages.length]!;
        const began = performance.now();
        try {
          const answer = await fetch(`${address}${page}`);
          await answer.text();
          if (!answer.ok) errors.push(`${page}: ${answer.status}`);
        } catch (error) {
          errors.push(`${page}: ${(error as Error).message}`);
        }
        took.push(performance.now() - began);
        await sleep(Math.max(0, EVERY_MS - (performance.now() - began)));
      }
    }),
  );
  return { took: took.sort((a, b) => a - b), errors };
}

const at = (all: readonly number[], share: number) =>
  Math.round(all[Math.min(all.length - 1, Math.floor(all.length * share))] ?? 0);
const tell = (what: string, { took, errors }: { took: number[]; errors: string[] }) =>
  console.log(
    `${what.padEnd(20)} ${took.length} answers, median ${at(took, 0.5)} ms, p95 ${at(took, 0.95)} ms, slowest ${at(took, 1)} ms, ${errors.length} errors ${errors[0] ?? ''}`,
  );

// Each alone first, as somebody would wait who is the first to ask.
for (const lens of LENSES) {
  const took: number[] = [];
  let bytes = 0;
  for (let i = 0; i < 3; i++) {
    const began = performance.now();
    bytes = (await (await fetch(`${address}${lens}`)).text()).length;
    took.push(performance.now() - began);
    await sleep(4_100);
  }
  console.log(`${lens.padEnd(14)} ${Math.round(took.sort((a, b) => a - b)[1]!)} ms, ${Math.round(bytes / 1000)} kB`);
}
const lenses = await ask(LENSES);
const plain = await ask(['/health']);
isReading = false;
await reading;
console.log(
  `${people} people, one lens each every ${EVERY_MS / 1000} s for ${seconds} s, at 3,000,000 files; ${readings} readings of 60,000 files meanwhile`,
);
tell('lenses', lenses);
tell('its plainest answer', plain);
console.log(`p95 ${(at(lenses.took, 0.95) / Math.max(1, at(plain.took, 0.95))).toFixed(1)} times as long`);
web.kill('SIGTERM');
await pool.end();
await disconnect(db);
await server.stop();
