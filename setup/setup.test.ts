// What goes wrong at the start is told in a sentence that says what to do.
import { existsSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import net from 'node:net';
import os from 'node:os';
import path from 'node:path';
import { contentPool, sumFile } from '#disk/content/content.ts';
import { freePort, refuseTakenPort, startDatabase } from './mariadb.ts';
import { configuration } from './start.ts';
import { buildThreads } from './threads.ts';

let folder: string;
beforeEach(() => void (folder = mkdtempSync(path.join(os.tmpdir(), 'setup-'))));
afterEach(() => rmSync(folder, { recursive: true, force: true }));

test('a taken port is told with its number', async () => {
  const server = net.createServer();
  const port = await freePort();
  await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve));
  try {
    await expect(refuseTakenPort(port, 'The interface')).rejects.toThrow(
      `The interface needs port ${port}, which another program is using. Stop that program, or set another port`,
    );
    await expect(startDatabase(folder, { port, durable: false })).rejects.toThrow(`The database needs port ${port}`);
  } finally {
    server.close();
  }
});

test('a database that will not start says why, and where its log is', async () => {
  mkdirSync(path.join(folder, 'data/mysql'), { recursive: true });
  writeFileSync(path.join(folder, 'data/ibdata1'), 'this is no tablespace');
  await expect(startDatabase(folder, { port: 0, durable: false })).rejects.toThrow(
    /The database stopped while starting\. Its last words: .*ERROR.* The whole log is .*mariadb\.log\./,
  );
});

test('a database starts, answers, stops, and starts again on the same data', async () => {
  for (let round = 0; round < 2; round++) {
    const database = await startDatabase(folder, { port: 0, durable: false });
    expect(database.url).toMatch(/^mysql:\/\/keramion:[0-9a-f]{48}@127\.0\.0\.1:\d+\/keramion$/);
    await database.stop();
  }
}, 90_000);

test('what keramion.conf says reaches the processes that are started, under what the environment says', () => {
  const before = { ...process.env };
  try {
    const file = path.join(folder, 'keramion.conf');
    writeFileSync(file, '# Secrets of the house\nKERAMION_MAIL_PASSWORD=sesame\nKERAMION_PORT=4711\n');
    Object.assign(process.env, { KERAMION_CONFIG: file, KERAMION_PORT: '4712' });
    delete process.env.KERAMION_MAIL_PASSWORD;
    expect(configuration()).toMatchObject({ KERAMION_MAIL_PASSWORD: 'sesame', KERAMION_PORT: '4712' });
    expect([process.env.KERAMION_MAIL_PASSWORD, process.env.KERAMION_PORT]).toEqual(['sesame', '4712']);
    writeFileSync(file, 'PORT=4711\n');
    expect(() => configuration()).toThrow('Line 1 of');
  } finally {
    for (const name of Object.keys(process.env)) if (!(name in before)) delete process.env[name];
    Object.assign(process.env, before);
  }
});

test('threads run from what was built, and from their sources where nothing was', async () => {
  const before = process.env.KERAMION_THREADS;
  const file = path.join(folder, 'file');
  writeFileSync(file, 'some bytes');
  const sums: string[] = [];
  const out = path.resolve(`var/threads-${process.pid}`);
  try {
    const built = await buildThreads(out);
    expect(existsSync(path.join(built, 'disk/content/content-thread.mjs'))).toBe(true);
    for (const where of [built, path.join(folder, 'nothing'), '']) {
      process.env.KERAMION_THREADS = where;
      const pool = contentPool(1);
      sums.push((await sumFile(pool, file, { sha512: false })).xxh64);
      await pool.end();
    }
  } finally {
    rmSync(out, { recursive: true, force: true });
    if (before === undefined) delete process.env.KERAMION_THREADS;
    else process.env.KERAMION_THREADS = before;
  }
  expect(new Set(sums).size).toBe(1);
});
