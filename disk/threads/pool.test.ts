import { writeFileSync, mkdtempSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { ThreadPool } from './pool.ts';

let folder: string;
let pool: ThreadPool<{ n: number }, number>;
beforeAll(() => {
  folder = mkdtempSync(path.join(os.tmpdir(), 'pool-'));
  const entry = path.join(folder, 'double.mts');
  writeFileSync(
    entry,
    `import { serve } from ${JSON.stringify(path.resolve('disk/threads/serve.ts'))};
     serve<{ n: number }, number>(({ request, progress, stopped }) => {
       if (request.n === 13) throw Object.assign(new Error('no luck'), { code: 'unlucky', facts: { n: 13 } });
       if (request.n === 99) process.exit(3);
       progress(request.n);
       return stopped() ? -1 : request.n * 2;
     });`,
  );
  pool = new ThreadPool(entry, 2);
});
afterAll(async () => {
  await pool.end();
  rmSync(folder, { recursive: true });
});

test('many questions are all answered, with their progress', async () => {
  const told: number[] = [];
  const answers = await Promise.all(
    Array.from({ length: 20 }, (_, n) => pool.ask({ n: n === 13 ? 0 : n }, { progress: (bytes) => told.push(bytes) })),
  );
  expect(answers).toEqual(Array.from({ length: 20 }, (_, n) => (n === 13 ? 0 : n * 2)));
  expect(told).toHaveLength(20);
});

test('an error comes over with its code and facts, and the thread goes on', async () => {
  await expect(pool.ask({ n: 13 })).rejects.toMatchObject({ message: 'no luck', code: 'unlucky', facts: { n: 13 } });
  expect(await pool.ask({ n: 4 })).toBe(8);
});

test('a stop flag is seen inside the thread', async () => {
  const stop = new Int32Array(new SharedArrayBuffer(4));
  Atomics.store(stop, 0, 1);
  expect(await pool.ask({ n: 4 }, { stop })).toBe(-1);
});

test('a thread that dies fails its question only; the next gets a new one', async () => {
  await expect(pool.ask({ n: 99 })).rejects.toThrow('exited with code: 3');
  expect(await pool.ask({ n: 5 })).toBe(10);
});

test('a thread that takes too long or too much is ended, and the others and the next go on', async () => {
  const entry = path.join(folder, 'greedy.mts');
  writeFileSync(
    entry,
    `import { serve } from ${JSON.stringify(path.resolve('disk/threads/serve.ts'))};
     serve<{ n: number }, number>(({ request }) => {
       if (request.n === 1) for (;;);
       if (request.n === 2) for (const all: number[][] = []; ;) all.push(Array.from({ length: 100_000 }, (_, i) => i));
       return request.n;
     });`,
  );
  const greedy = new ThreadPool<{ n: number }, number>(entry, 2, { alone: true, memoryMb: 100 });
  try {
    const all = await Promise.allSettled([
      greedy.ask({ n: 1 }, { withinMs: 3000 }),
      ...[3, 4, 5, 6].map((n) => greedy.ask({ n }, { withinMs: 60_000 })),
      greedy.ask({ n: 2 }, { withinMs: 60_000 }),
      greedy.ask({ n: 7 }, { withinMs: 60_000 }),
    ]);
    expect(all.map((one) => (one.status === 'fulfilled' ? one.value : (one.reason as { code: string }).code))).toEqual([
      'too_slow',
      3,
      4,
      5,
      6,
      'too_much',
      7,
    ]);
  } finally {
    await greedy.end();
  }
});
