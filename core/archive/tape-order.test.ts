import fc from 'fast-check';
import { type OnTape, readSeconds, seekSeconds, type TapeGeometry, tapeOrder } from './tape-order.ts';

const geometry: TapeGeometry = {
  ...{ blocksAWrap: 1000, lengthSeconds: 100, moveSeconds: 2, bytesASecond: 300e6, blockBytes: 524_288 },
};
const onTape = fc.record({ startBlock: fc.integer({ min: 0, max: 40_000 }), blocks: fc.integer({ min: 1, max: 500 }) });
/** Files of one tape share no block. */
const apart = (n: number) =>
  fc
    .uniqueArray(fc.tuple(fc.integer({ min: 1, max: 80 }), fc.integer({ min: 1, max: 490 })), {
      ...{ minLength: n, maxLength: n },
      selector: ([place]) => place,
    })
    .map((all) => all.map(([place, blocks]): OnTape => ({ startBlock: place * 500, blocks })));
const seconds = (files: readonly OnTape[], order: readonly number[]) =>
  readSeconds(
    geometry,
    order.map((i) => files[i]!),
  );

function* orders(n: number, taken: number[] = []): Generator<number[]> {
  if (taken.length === n) yield taken;
  for (let i = 0; i < n; i++) if (!taken.includes(i)) yield* orders(n, [...taken, i]);
}

test('wraps lie side by side: the end of one is the beginning of the next', () => {
  expect(seekSeconds(geometry, 999, 1001)).toBeLessThan(2.5);
  expect(seekSeconds(geometry, 0, 1999)).toBeLessThan(2.5);
  expect(seekSeconds(geometry, 0, 999)).toBeGreaterThan(100);
  expect(seekSeconds(geometry, 7, 7)).toBe(0);
});

test('up to seven files by trying every order: none is better', () => {
  fc.assert(
    fc.property(fc.array(onTape, { minLength: 1, maxLength: 7 }), (files) => {
      const own = seconds(files, tapeOrder(geometry, files));
      let best = Infinity;
      for (const order of orders(files.length)) best = Math.min(best, seconds(files, order));
      expect(own).toBeLessThanOrEqual(best + 1e-6);
    }),
    { numRuns: 40 },
  );
});

test('every file once, and never longer than by block or as asked', () => {
  fc.assert(
    fc.property(fc.array(onTape, { maxLength: 60 }), (files) => {
      const order = tapeOrder(geometry, files);
      expect([...order].sort((a, b) => a - b)).toEqual(files.map((_, i) => i));
      const byBlock = files.map((_, i) => i).sort((a, b) => files[a]!.startBlock - files[b]!.startBlock);
      expect(seconds(files, order)).toBeLessThanOrEqual(seconds(files, byBlock) + 1e-6);
      expect(seconds(files, order)).toBeLessThanOrEqual(
        seconds(
          files,
          files.map((_, i) => i),
        ) + 1e-6,
      );
    }),
    { numRuns: 60 },
  );
});

test('beyond what is tried exactly it stays near the best: the same 40 tapes each time', () => {
  const worse = fc.sample(apart(12), { numRuns: 40, seed: 20919 }).map((files) => {
    // With a thirteenth that lies where the reading begins, which costs nothing in either.
    const more = [{ startBlock: 0, blocks: 0 }, ...files];
    return seconds(more, tapeOrder(geometry, more)) / seconds(files, tapeOrder(geometry, files)) - 1;
  });
  expect(Math.max(...worse)).toBeLessThan(0.4);
  expect(worse.reduce((sum, own) => sum + own, 0) / worse.length).toBeLessThan(0.03);
});
