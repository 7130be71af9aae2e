// A database that hangs, is away, and comes back: told in time, and never for long.
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { startDatabase } from '../../setup/mariadb.ts';
import { asking } from './answers.ts';

const folder = mkdtempSync(path.join(os.tmpdir(), 'keramion-answers-'));
afterAll(() => rmSync(folder, { recursive: true, force: true }));

const after = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

test('it answers, hangs, answers again, is away', async () => {
  const database = await startDatabase(path.join(folder, 'db'), { port: 0, durable: false });
  const pid = Number(readFileSync(path.join(folder, 'db/mariadb.pid'), 'utf8'));
  const asked = asking(database.url);
  try {
    expect(await asked.answers()).toBe(true);
    process.kill(pid, 'SIGSTOP');
    await after(1_100);
    const began = performance.now();
    // Everybody who asks meanwhile hears of the one answer.
    expect(await Promise.all([asked.answers(), asked.answers()])).toEqual([false, false]);
    expect(performance.now() - began).toBeLessThan(5_000);
    process.kill(pid, 'SIGCONT');
    expect(await asked.answers()).toBe(true);
  } finally {
    process.kill(pid, 'SIGCONT');
    await database.stop();
  }
  await after(1_100);
  expect(await asked.answers()).toBe(false);
  await asked.end();
});
