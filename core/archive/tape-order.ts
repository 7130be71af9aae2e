// In which order files are read from a tape so that it winds least. A tape is written in wraps: on the first from its
// beginning to its end, on the second back, and so on; what lies far apart by its number can lie side by side on the tape.
// Source: the geometry of serpentine recording (ECMA-319, Ultrium); the exact order is Held and Karp's (1962).

export interface TapeGeometry {
  /** Blocks from one end of the tape to the other. */
  blocksAWrap: number;
  /** Winding from one end to the other, and what every move takes besides. */
  lengthSeconds: number;
  moveSeconds: number;
  /** Bytes a second while it reads. */
  bytesASecond: number;
  blockBytes: number;
}

export interface OnTape {
  startBlock: number;
  blocks: number;
}

const along = ({ blocksAWrap }: TapeGeometry, block: number): number => {
  const wrap = Math.floor(block / blocksAWrap);
  const into = (block % blocksAWrap) / blocksAWrap;
  return wrap % 2 === 0 ? into : 1 - into;
};

/** Seconds from one block to another; none where it is the next one. */
export function seekSeconds(geometry: TapeGeometry, from: number, to: number): number {
  if (from === to) return 0;
  return geometry.moveSeconds + Math.abs(along(geometry, from) - along(geometry, to)) * geometry.lengthSeconds;
}

/** Seconds of winding and reading in this order, from the beginning of the tape. */
export function readSeconds(geometry: TapeGeometry, files: readonly OnTape[]): number {
  let at = 0;
  let seconds = 0;
  for (const { startBlock, blocks } of files) {
    seconds += seekSeconds(geometry, at, startBlock) + (blocks * geometry.blockBytes) / geometry.bytesASecond;
    at = startBlock + blocks;
  }
  return seconds;
}

const MOST_EXACT = 12;
/** So many are moved about from each beginning. */
const MOST_STARTS = 300;
const MOST_NEAREST = 2_000;
/** Up to so many, every file is tried as the first. */
const MOST_FIRSTS = 40;

/** The places of `files` in the order in which they are read: the best of all up to twelve, near it beyond. */
export function tapeOrder(geometry: TapeGeometry, files: readonly OnTape[]): number[] {
  const byBlock = files.map((_, i) => i).sort((a, b) => files[a]!.startBlock - files[b]!.startBlock);
  if (files.length < 2) return byBlock;
  if (files.length <= MOST_EXACT) return exact(geometry, files);
  const starts = [byBlock, sweep(geometry, files), files.map((_, i) => i)];
  if (files.length <= MOST_NEAREST) starts.push(nearest(geometry, files));
  const cost = (order: readonly number[]) =>
    readSeconds(
      geometry,
      order.map((i) => files[i]!),
    );
  const least = (orders: readonly number[][]) => orders.reduce((best, own) => (cost(own) < cost(best) ? own : best));
  if (files.length <= MOST_FIRSTS) starts.push(least(files.map((_, first) => nearest(geometry, files, first))));
  if (files.length > MOST_NEAREST) return least(starts);
  if (files.length > MOST_STARTS) return moved(geometry, files, least(starts));
  return least(starts.map((start) => moved(geometry, files, start)));
}

/** Every order at once, by the set of what was read and what was read last. */
function exact(geometry: TapeGeometry, files: readonly OnTape[]): number[] {
  const n = files.length;
  const full = (1 << n) - 1;
  const cost = new Float64Array((full + 1) * n).fill(Infinity);
  const before = new Int8Array((full + 1) * n).fill(-1);
  const ends = files.map((file) => file.startBlock + file.blocks);
  const between = files.map((_, from) => files.map((to) => seekSeconds(geometry, ends[from]!, to.startBlock)));
  for (let i = 0; i < n; i++) cost[(1 << i) * n + i] = seekSeconds(geometry, 0, files[i]!.startBlock);
  for (let set = 1; set <= full; set++)
    for (let last = 0; last < n; last++) {
      const own = cost[set * n + last]!;
      if (own === Infinity || !(set & (1 << last))) continue;
      for (let next = 0; next < n; next++) {
        if (set & (1 << next)) continue;
        const at = (set | (1 << next)) * n + next;
        const sum = own + between[last]![next]!;
        if (sum < cost[at]!) {
          cost[at] = sum;
          before[at] = last;
        }
      }
    }
  let last = 0;
  for (let i = 1; i < n; i++) if (cost[full * n + i]! < cost[full * n + last]!) last = i;
  const order: number[] = [];
  for (let set = full; last >= 0;) {
    order.unshift(last);
    const next = before[set * n + last]!;
    set &= ~(1 << last);
    last = next;
  }
  return order;
}

/** All that is read winding forth, by where it lies along the tape, and then all that is read winding back. */
function sweep(geometry: TapeGeometry, files: readonly OnTape[]): number[] {
  const isForth = (i: number) => Math.floor(files[i]!.startBlock / geometry.blocksAWrap) % 2 === 0;
  const place = files.map((file) => along(geometry, file.startBlock));
  const all = files.map((_, i) => i);
  return [
    ...all.filter(isForth).sort((a, b) => place[a]! - place[b]!),
    ...all.filter((i) => !isForth(i)).sort((a, b) => place[b]! - place[a]!),
  ];
}

/** Always what is nearest, after the one that is told to be first. */
function nearest(geometry: TapeGeometry, files: readonly OnTape[], first = -1): number[] {
  const left = new Set(files.map((_, i) => i));
  const order: number[] = [];
  for (let at = 0; left.size > 0;) {
    let best = order.length === 0 ? first : -1;
    let least = best < 0 ? Infinity : 0;
    for (const i of left) {
      const own = seekSeconds(geometry, at, files[i]!.startBlock);
      if (own < least) [best, least] = [i, own];
    }
    left.delete(best);
    order.push(best);
    at = files[best]!.startBlock + files[best]!.blocks;
  }
  return order;
}

const MOST_MOVES = 400_000;

/** Runs of up to three files are taken out and put where they cost less, either way round, as long as that gains something. */
function moved(geometry: TapeGeometry, files: readonly OnTape[], start: readonly number[]): number[] {
  let order = [...start];
  const begin = (i: number) => files[i]!.startBlock;
  const end = (i: number | undefined) => (i === undefined ? 0 : begin(i) + files[i]!.blocks);
  const step = (from: number | undefined, to: number | undefined) =>
    to === undefined ? 0 : seekSeconds(geometry, end(from), begin(to));
  const inside = (run: readonly number[]) =>
    run.reduce((sum, own, i) => sum + (i === 0 ? 0 : step(run[i - 1], own)), 0);
  let tried = 0;
  const better = (): number[] | null => {
    for (let length = 1; length <= 3; length++)
      for (let i = 0; i + length <= order.length; i++) {
        const run = order.slice(i, i + length);
        const rest = [...order.slice(0, i), ...order.slice(i + length)];
        const saved =
          step(order[i - 1], run[0]) +
          inside(run) +
          step(run.at(-1), order[i + length]) -
          step(order[i - 1], order[i + length]);
        for (const way of length === 1 ? [run] : [run, [...run].reverse()])
          for (let to = 0; to <= rest.length; to++) {
            if (++tried > MOST_MOVES) return null;
            const [before, after] = [rest[to - 1], rest[to]];
            const added = step(before, way[0]) + inside(way) + step(way.at(-1), after) - step(before, after);
            if (added < saved - 1e-9) return [...rest.slice(0, to), ...way, ...rest.slice(to)];
          }
      }
    return null;
  };
  for (let next = better(); next; next = better()) order = next;
  return order;
}
