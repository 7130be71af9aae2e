// What one changed file costs in the sums, beside summing the file rows anew in plain SQL; and how often two jobs get one
// carrier when many workers ask at once. usage: npm run bench -- sums [folders] [rounds]
import { rmSync } from 'node:fs';
import path from 'node:path';
import { connect, disconnect, inTransaction, withConnection } from '#server/db/connect.ts';
import { lockFolders, refreshHoldings } from '#server/db/holdings.ts';
import { migrate } from '#server/db/migrate.ts';
import { carriers, stations, volumes } from '#server/db/schema/stores.ts';
import { claimJob, endJob, enqueue, type StoreNeed } from '#server/runtime/queue.ts';
import { startDatabase } from '../setup/mariadb.ts';

const folderCount = Number(process.argv[2] ?? 40_000);
const rounds = Number(process.argv[3] ?? 500);
const base = path.resolve('var/bench/sums');
rmSync(base, { recursive: true, force: true });
const server = await startDatabase(base, { port: 0, durable: true });
const db = connect(server.url, 8);
await migrate(db);
const median = (values: number[]) => [...values].sort((a, b) => a - b)[values.length >> 1]!;
const ms = async (work: () => Promise<unknown>) => {
  const start = process.hrtime.bigint();
  await work();
  return Number(process.hrtime.bigint() - start) / 1e6;
};

await db.insert(stations).values({ name: 's', role: 'server' });
const volume = { stationId: 1, name: 'v', path: '/v', duty: 'none' as const, capacityBytes: 1e15, quota: false };
await db.insert(volumes).values(volume);
await db
  .insert(carriers)
  .values({ name: 'c', kind: 'disk', place: 'p', settings: { folder: '/c' }, capacityBytes: 1e15 });
// Ten days in each folder: ten rollup rows a folder.
await withConnection(db, async (connection) => {
  await connection.query(
    "INSERT INTO folders (id, volume_id, name, path, path_hash) VALUES (1, 1, '', '', UNHEX(MD5('')))",
  );
  await connection.query(
    `INSERT INTO folders (id, volume_id, parent_id, name, path, path_hash) SELECT seq, 1, 1, CONCAT('f', seq), CONCAT('f', seq), UNHEX(MD5(seq)) FROM seq_2_to_${folderCount + 1}`,
  );
  await connection.query(
    `INSERT INTO files (volume_id, folder_id, name, size_bytes, modified_us, kind) SELECT 1, d.id, CONCAT(s.seq, '.frm'), 1000 + s.seq, (18000 + d.id % 2000 + s.seq) * 86400000000, 'cache' FROM folders d JOIN seq_1_to_10 s WHERE d.id > 1`,
  );
});
const ids = Array.from({ length: folderCount }, (_, i) => i + 2);
for (let i = 0; i < ids.length; i += 2000)
  await withConnection(db, (connection) => refreshHoldings(connection, ids.slice(i, i + 2000)));
const [[count]] = (await db.$pool.query('SELECT COUNT(*) AS n FROM folder_holdings')) as unknown as [{ n: number }[]];
const refreshes: number[] = [];
const sums: number[] = [];
for (let i = 0; i < 21; i++) {
  const folder = 2 + Math.floor((i * folderCount) / 21);
  refreshes.push(
    await ms(() =>
      withConnection(db, async (connection) => {
        await lockFolders(connection, [folder]);
        await connection.query("UPDATE files SET size_bytes = size_bytes + 1 WHERE folder_id = ? AND name = '1.frm'", [
          folder,
        ]);
        await refreshHoldings(connection, [folder]);
      }),
    ),
  );
  if (i % 5 === 0)
    sums.push(
      await ms(() =>
        db.$pool.query(
          'SELECT project_id, kind, COUNT(*), SUM(size_bytes) FROM files WHERE volume_id = 1 AND gone_at IS NULL GROUP BY 1, 2',
        ),
      ),
    );
}
console.log(`${Number(count!.n).toLocaleString('en-GB')} rollup rows; medians`);
console.log(`one file changed, its sums brought up to date   ${median(refreshes).toFixed(1).padStart(8)} ms`);
console.log(`the same sums from the file rows in plain SQL   ${median(sums).toFixed(1).padStart(8)} ms`);

const alone: StoreNeed[] = [{ store: 'carrier', id: 1, mode: 'change' }];
const claim = () => claimJob(db, { worker: 'w', reached: { volumes: [1], carriers: [1] }, leaseSeconds: 30 });
let doubled = 0;
for (let round = 0; round < rounds; round++) {
  for (let i = 0; i < 2; i++)
    await inTransaction(db, (tx) =>
      enqueue(tx, { kind: 'x', title: 'x', params: {}, who: 'b', stores: alone }, new Date()),
    );
  const taken = (await Promise.all([claim(), claim(), claim(), claim()])).filter((job) => job !== null);
  if (taken.length > 1) doubled++;
  for (const job of taken) await inTransaction(db, (tx) => endJob(tx, job, { state: 'done' }));
  for (let job = await claim(); job; job = await claim()) {
    const own = job;
    await inTransaction(db, (tx) => endJob(tx, own, { state: 'done' }));
  }
}
console.log(`two jobs leased for one carrier: ${doubled} of ${rounds} rounds with four workers`);
await disconnect(db);
await server.stop();
