// What copying leaves alone: the file that somebody else has opened.
import { closeSync, fstatSync, mkdtempSync, openSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { factsOf } from '#disk/facts.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { carrierPool } from './copying.ts';

const folder = mkdtempSync(path.join(os.tmpdir(), 'copying-'));
const pool = carrierPool(1);
afterAll(async () => {
  await pool.end();
  rmSync(folder, { recursive: true, force: true });
});

test.each([
  ['to its end', false],
  ['and was stopped', true],
])('a source that was read %s is still open, and its opener’s', async (_how, isStopped) => {
  const place = path.join(folder, `a ${isStopped}`);
  writeFileSync(place, Buffer.alloc(9 << 20, 'a'));
  const fd = openSync(place, 'r');
  const stop = stopFlag();
  if (isStopped) stop[0] = 1;
  const asked = pool.ask({ do: 'write', from: fd, expected: factsOf(fstatSync(fd)), part: null, to: [] }, { stop });
  if (isStopped) await expect(asked).rejects.toMatchObject({ code: 'stopped' });
  else await expect(asked).resolves.toMatchObject({ sizeBytes: 9 << 20 });
  // Whoever closes what is not theirs may do it a moment later.
  await new Promise((resolve) => setTimeout(resolve, 300));
  expect(fstatSync(fd).size).toBe(9 << 20);
  closeSync(fd);
});
