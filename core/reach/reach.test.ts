// The fast answer against a slow and obvious one: every output frame of the timeline is looked up by itself, through
// every trim and every speed, and the media frames it touches are marked one by one.
import fc from 'fast-check';
import { compare, type Fraction, fraction, minus, ONE, over, plus, times, toNumber, ZERO } from '../time/fraction.ts';
import type { Rate } from '../time/rates.ts';
import { union } from '../time/rates.ts';
import { type ClipNode, durationOf, framesOf, type GroupNode, type Node, reachOf, type Span, spanOf } from './reach.ts';

const R25: Rate = { num: 25, den: 1 };
const R24: Rate = { num: 24, den: 1 };
const NTSC: Rate = { num: 30_000, den: 1001 };

const clip = (media: number, from: number, frames: number, more: Partial<ClipNode> = {}): ClipNode => ({
  is: 'clip',
  media,
  source: spanOf({ start: from, duration: frames }, more.rate ?? R25),
  available: spanOf({ start: 0, duration: 1000 }, more.rate ?? R25),
  rate: R25,
  name: `m${media}`,
  enabled: true,
  speed: ONE,
  hasUnknownTimeEffect: false,
  ...more,
});
const track = (children: Node[], more: Partial<GroupNode> = {}): GroupNode => ({
  is: 'track',
  children,
  source: null,
  enabled: true,
  speed: ONE,
  hasUnknownTimeEffect: false,
  sound: null,
  ...more,
});
const stack = (children: Node[], more: Partial<GroupNode> = {}): GroupNode => ({
  ...track(children, more),
  is: 'stack',
});
const gap = (frames: number, rate = R25): Node => ({
  is: 'gap',
  duration: spanOf({ start: 0, duration: frames }, rate).end,
});
const transition = (before: number, after: number): Node => ({
  is: 'transition',
  before: fraction(before, 25),
  after: fraction(after, 25),
});
const ranges = (top: GroupNode) => reachOf(top).map((r) => [r.media, r.range.start, r.range.duration]);

test('a cut uses its frames, and no others', () => {
  expect(ranges(stack([track([clip(1, 100, 50), gap(10), clip(2, 0, 5)])]))).toEqual([
    [1, 100, 50],
    [2, 0, 5],
  ]);
});

test('a trim of a nested timeline narrows what its clips use', () => {
  const nested = track([clip(1, 0, 50), clip(2, 0, 50)], { source: spanOf({ start: 40, duration: 20 }, R25) });
  expect(ranges(stack([track([gap(5), stack([nested])])]))).toEqual([
    [1, 40, 10],
    [2, 0, 10],
  ]);
});

test('a transition reaches beyond the cut on both sides, as far as there is media', () => {
  const top = stack([track([clip(1, 100, 50), transition(6, 4), clip(2, 200, 50)])]);
  expect(ranges(top)).toEqual([
    [1, 100, 54],
    [2, 194, 56],
  ]);
  const short = clip(1, 0, 50, { available: spanOf({ start: 0, duration: 52 }, R25) });
  expect(ranges(stack([track([short, transition(6, 4), clip(2, 2, 50)])]))).toEqual([
    [1, 0, 52],
    [2, 0, 52],
  ]);
});

test('speed: faster uses more, slower less, backwards the same piece, frozen one frame', () => {
  expect(ranges(stack([track([clip(1, 100, 50, { speed: fraction(2) })])]))).toEqual([[1, 100, 100]]);
  expect(ranges(stack([track([clip(1, 100, 50, { speed: fraction(1, 2) })])]))).toEqual([[1, 100, 25]]);
  expect(ranges(stack([track([clip(1, 100, 50, { speed: ZERO })])]))).toEqual([[1, 100, 1]]);
  // Backwards: from the end of the piece, as some programs play it, and from its start, as others do.
  expect(ranges(stack([track([clip(1, 100, 50, { speed: fraction(-1) })])]))).toEqual([[1, 50, 101]]);
  // Of a reversed clip of which the first fifth is seen, the last fifth of its media is used, or what lies before it.
  const seen = track([clip(1, 100, 50, { speed: fraction(-1) })], { source: spanOf({ start: 0, duration: 10 }, R25) });
  expect(ranges(stack([seen]))).toEqual([
    [1, 90, 11],
    [1, 140, 11],
  ]);
  // A third of speed over seven frames touches three.
  expect(ranges(stack([track([clip(1, 0, 7, { speed: fraction(1, 3) })])]))).toEqual([[1, 0, 3]]);
});

test('rates that differ are told in the media’s own', () => {
  const ntsc = clip(1, 0, 100, { rate: NTSC, source: spanOf({ start: 10, duration: 25 }, R25) });
  // 0.4 s to 1.4 s at 29.97: frames 11.988 to 41.958.
  expect(ranges(stack([track([ntsc])]))).toEqual([[1, 11, 31]]);
});

test('time hasUnknownTimeEffect in a way nobody understands uses everything there is, and sound is told apart', () => {
  const hasUnknownTimeEffect = clip(1, 100, 50, { hasUnknownTimeEffect: true });
  const nested = stack([track([clip(2, 0, 5)], { sound: true })], { hasUnknownTimeEffect: true });
  expect(
    reachOf(stack([track([hasUnknownTimeEffect, nested])])).map((r) => [r.media, r.range.duration, r.sound]),
  ).toEqual([
    [1, 1000, false],
    [2, 1000, true],
  ]);
});

test('what is switched off is told as such; a clip of unknown length uses all there is', () => {
  const off = stack([track([clip(1, 0, 5)], { enabled: false }), track([clip(2, 0, 5, { enabled: false })])]);
  expect(reachOf(off).map((r) => r.enabled)).toEqual([false, false]);
  const unknown = stack([track([clip(1, 0, 0, { source: null, available: null }), clip(2, 0, 5)])]);
  expect(ranges(unknown)).toEqual([
    [1, 0, 0],
    [2, 0, 5],
  ]);
  // Also where nothing else gives the timeline a length, and where it lies in something that is cut away.
  const alone = clip(1, 0, 0, { source: null, available: null });
  expect(ranges(stack([track([alone])]))).toEqual([[1, 0, 0]]);
  const nested = stack([track([alone, clip(3, 0, 9)])], { source: { start: ZERO, end: ZERO } });
  expect(ranges(stack([track([nested, clip(2, 0, 5)])]))).toEqual([
    [1, 0, 0],
    [2, 0, 5],
  ]);
});

/** Marks media frames, output frame by output frame of 1/`grid` seconds, by following one instant interval at a time. */
function slowly(top: GroupNode, grid: number): Map<number, Set<number>> {
  const marks = new Map<number, Set<number>>();
  const length = durationOf(top);
  const step = fraction(1, grid);
  for (let at = ZERO; compare(at, length) < 0; at = plus(at, step))
    follow(top, { start: at, end: plus(at, step) }, marks);
  return marks;
}

function follow(node: Node, piece: Span, marks: Map<number, Set<number>>): void {
  if (node.is === 'gap' || node.is === 'transition') return;
  const duration = durationOf(node);
  const source = node.source ?? (node.is === 'clip' ? node.available! : { start: ZERO, end: duration });
  const own = (t: Fraction): Fraction =>
    node.speed.n < 0n
      ? plus(plus(source.start, times(duration, { n: -node.speed.n, d: node.speed.d })), times(t, node.speed))
      : plus(source.start, times(t, node.speed));
  const ends = [own(piece.start), own(piece.end)].sort(compare) as [Fraction, Fraction];
  if (node.is === 'clip') {
    const rate = fraction(node.rate.num, node.rate.den);
    const limit = node.available!;
    for (
      let frame = Math.floor(toNumber(times(limit.start, rate)));
      frame < toNumber(times(limit.end, rate));
      frame++
    ) {
      const [a, b] = [over(fraction(frame), rate), over(fraction(frame + 1), rate)];
      const instant = compare(ends[0], ends[1]) === 0;
      if (
        instant
          ? compare(a, ends[0]) <= 0 && compare(ends[0], b) < 0
          : compare(ends[0], b) < 0 && compare(a, ends[1]) < 0
      ) {
        const set = marks.get(node.media!) ?? new Set<number>();
        marks.set(node.media!, set.add(frame));
      }
    }
    return;
  }
  if (compare(ends[0], ends[1]) === 0) return;
  let at = ZERO;
  for (const [i, child] of node.children.entries()) {
    if (child.is === 'transition') continue;
    const long = durationOf(child);
    const [before, after] = [node.children[i - 1], node.children[i + 1]];
    const isTrack = node.is === 'track';
    const low = isTrack && before?.is === 'transition' ? minus(at, before.before) : at;
    const high = plus(plus(at, long), isTrack && after?.is === 'transition' ? after.after : ZERO);
    const inside = [compare(ends[0], low) > 0 ? ends[0] : low, compare(ends[1], high) < 0 ? ends[1] : high] as const;
    if (compare(inside[0], inside[1]) < 0)
      follow(child, { start: minus(inside[0], at), end: minus(inside[1], at) }, marks);
    if (isTrack) at = plus(at, long);
  }
}

const SPEEDS = [ONE, fraction(2), fraction(1, 2), fraction(-1), fraction(-3, 2), ZERO, fraction(5, 4)];
const anyClip = fc
  .record({
    media: fc.integer({ min: 1, max: 3 }),
    start: fc.integer({ min: 60, max: 100 }),
    frames: fc.integer({ min: 1, max: 20 }),
    speed: fc.constantFrom(...SPEEDS),
    rate: fc.constantFrom(R25, R24, { num: 50, den: 1 }),
  })
  .map(({ media, start, frames, speed, rate }) =>
    clip(media, 0, 0, {
      rate,
      speed,
      source: spanOf({ start, duration: frames }, R25),
      // Room on either side, so that a transition always finds media.
      available: { start: ZERO, end: fraction(12) },
    }),
  );
const anyTrack = (depth: number): fc.Arbitrary<GroupNode> =>
  fc
    .record({
      items: fc.array(
        fc.oneof(
          anyClip,
          fc.integer({ min: 1, max: 8 }).map((n) => gap(n)),
          ...(depth > 0 ? [anyStack(depth - 1)] : []),
        ),
        { minLength: 1, maxLength: 4 },
      ),
      fades: fc.array(fc.tuple(fc.integer({ min: 0, max: 3 }), fc.integer({ min: 0, max: 3 })), {
        minLength: 4,
        maxLength: 4,
      }),
      trim: fc.option(fc.tuple(fc.integer({ min: 0, max: 10 }), fc.integer({ min: 1, max: 20 }))),
    })
    .map(({ items, fades, trim }) => {
      const children: Node[] = [];
      items.forEach((item, i) => {
        // Only between two clips, as an editor would.
        if (i > 0 && item.is === 'clip' && items[i - 1]!.is === 'clip') children.push(transition(...fades[i]!));
        children.push(item);
      });
      return track(children, trim ? { source: spanOf({ start: trim[0], duration: trim[1] }, R25) } : {});
    });
const anyStack = (depth: number): fc.Arbitrary<GroupNode> =>
  fc
    .record({
      tracks: fc.array(anyTrack(depth), { minLength: 1, maxLength: 2 }),
      speed: fc.constantFrom(ONE, fraction(1, 2), fraction(-1)),
    })
    .map(({ tracks, speed }) => stack(tracks, { speed }));

test('the same frames as when every output frame is looked up by itself', () => {
  fc.assert(
    fc.property(anyStack(2), (nested) => {
      const top = stack([track([nested])]);
      const marks = slowly(top, 25);
      const fast = new Map<number, Set<number>>();
      for (const { media, range } of reachOf(top))
        for (let i = 0; i < range.duration; i++)
          fast.set(media, (fast.get(media) ?? new Set<number>()).add(range.start + i));
      const isClear = !JSON.stringify(top).includes('"speed":{"n":-');
      for (const media of new Set([...marks.keys(), ...fast.keys()])) {
        const [told, there] = [fast, marks].map((all) => [...(all.get(media) ?? [])].sort((a, b) => a - b));
        // Backwards is told in more than one way, and all of them are covered.
        if (isClear) expect(told).toEqual(there);
        else expect(told).toEqual(expect.arrayContaining(there!));
      }
    }),
    { numRuns: 300 },
  );
});

test('an instant lies in one frame; joined ranges hold every frame once', () => {
  expect(framesOf({ start: fraction(1, 3), end: fraction(1, 3) }, R25)).toEqual({ start: 8, duration: 1 });
  expect(
    union([
      { start: 0, duration: 5 },
      { start: 5, duration: 1 },
    ]),
  ).toEqual([{ start: 0, duration: 6 }]);
});
