// What copying leaves alone: the file that somebody else has opened. What it does with memory that is used again and again.
import { createHash, randomBytes } from 'node:crypto';
import { closeSync, fstatSync, mkdirSync, mkdtempSync, openSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { factsOf } from '#disk/facts.ts';
import { giveIdentity } from '#disk/identity.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { carrierPool, readFromCarrier } from './copying.ts';
import { disk } from './disk/disk.ts';
import { FOLDER } from './packers.ts';

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

// Memory is used again for the next piece: of whoever has not written the last one by then, another's bytes would lie there.
test.each([
  ['on a disk that is read around memory', os.tmpdir()],
  ['where that cannot be done', '/dev/shm'],
])('many files that one thread reads at once come whole, %s', async (_where, top) => {
  const own = mkdtempSync(path.join(top, 'copying-many-'));
  try {
    mkdirSync(path.join(own, 'pack'));
    const place = {
      ...{ name: 'own', module: disk.module, settings: { folder: own } },
      ...{ identity: giveIdentity(own), packer: FOLDER },
    };
    const all = [0, 1, 4096, 1 << 20, (1 << 20) + 1, (5 << 20) + 77, 9 << 20, 3 << 20].map((size, i) => {
      const bytes = randomBytes(size);
      writeFileSync(path.join(own, 'pack', `${i}`), bytes);
      return { at: `${i}`, bytes, sha512: createHash('sha512').update(bytes).digest('hex') };
    });
    const asked = await Promise.all(
      [...all, ...all].map(async ({ at, bytes, sha512 }, i) => {
        const to = path.join(own, `brought ${i}`);
        const from = { carrier: place, of: 'pack', at, strong: true };
        const [brought, summed] = await Promise.all([
          readFromCarrier(pool, { from, to }, {}),
          pool.ask({ do: 'sum', ...from }),
        ]);
        return [brought.sha512 === sha512, summed.sha512 === sha512, readFileSync(to).equals(bytes)];
      }),
    );
    expect(asked.flat()).toEqual(asked.flat().map(() => true));
  } finally {
    rmSync(own, { recursive: true, force: true });
  }
});
