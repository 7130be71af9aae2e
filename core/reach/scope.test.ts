import fc from 'fast-check';
import { partsOf, reachByMedia, shareOf, shareText } from './scope.ts';

const PAL = { num: 25, den: 1 };

test('uses of several timelines join, each in the rate of the media', () => {
  const reach = reachByMedia(
    [
      { mediaId: 1, timelineId: 9, range: { start: 0, duration: 25 }, rate: PAL },
      { mediaId: 1, timelineId: 3, range: { start: 20, duration: 10 }, rate: PAL },
      { mediaId: 1, timelineId: 3, range: { start: 24, duration: 24 }, rate: { num: 24, den: 1 } },
      { mediaId: 2, timelineId: 3, range: { start: 5, duration: 0 }, rate: PAL },
    ],
    () => PAL,
  );
  expect(reach.get(1)).toEqual({
    ranges: [{ start: 0, duration: 50 }],
    spans: [{ start: 0, duration: 50 }],
    timelineIds: [3, 9],
  });
  expect(reach.get(2)).toEqual({ ranges: null, spans: null, timelineIds: [3] });
});

test('what one reference shows in pieces is one span, since it can lead to one file alone', () => {
  const use = (start: number, reference: number) => ({
    ...{ mediaId: 1, timelineId: 3, rate: PAL, reference },
    range: { start, duration: 10 },
  });
  const reach = reachByMedia([use(100, 7), use(200, 7), use(400, 8), use(150, 8)], () => PAL).get(1)!;
  expect(reach.ranges).toHaveLength(4);
  expect(reach.spans).toEqual([{ start: 100, duration: 310 }]);
});

test('a scope of all timelines reaches just what its timelines reach one by one', () => {
  const use = fc.record({
    mediaId: fc.nat({ max: 3 }),
    timelineId: fc.nat({ max: 4 }),
    range: fc.record({ start: fc.nat({ max: 60 }), duration: fc.integer({ min: 1, max: 20 }) }),
    rate: fc.constant(PAL),
  });
  const frames = (ranges: { start: number; duration: number }[] | null) =>
    new Set((ranges ?? []).flatMap((r) => Array.from({ length: r.duration }, (_, i) => r.start + i)));
  fc.assert(
    fc.property(fc.array(use, { maxLength: 40 }), (uses) => {
      const all = reachByMedia(uses, () => PAL);
      for (const [mediaId, reach] of all) {
        const single = new Set<number>();
        for (const timelineId of reach.timelineIds)
          for (const frame of frames(
            reachByMedia(
              uses.filter((each) => each.timelineId === timelineId),
              () => PAL,
            ).get(mediaId)!.ranges,
          ))
            single.add(frame);
        expect([...frames(reach.ranges)].sort((a, b) => a - b)).toEqual([...single].sort((a, b) => a - b));
      }
    }),
  );
});

test('parts of the whole; the whole where nobody knows', () => {
  expect(partsOf([{ start: 125, duration: 25 }], { startFrame: 100, durationFrames: 100 })).toEqual([
    { from: 0.25, to: 0.5 },
  ]);
  expect(partsOf([{ start: 0, duration: 500 }], { startFrame: 100, durationFrames: 100 })).toEqual([
    { from: 0, to: 1 },
  ]);
  expect(partsOf(null, { startFrame: 0, durationFrames: 10 })).toEqual([{ from: 0, to: 1 }]);
  expect(partsOf([], { startFrame: 0, durationFrames: 10 })).toEqual([]);
});

test('a share in words: what is used at all is never told as nothing', () => {
  expect(
    shareOf([
      { from: 0.1, to: 0.3 },
      { from: 0.5, to: 0.55 },
    ]),
  ).toBeCloseTo(0.25);
  expect([shareText([]), shareText([{ from: 0, to: 0.0001 }]), shareText([{ from: 0, to: 1 }])]).toEqual([
    'not',
    '1 %',
    '100 %',
  ]);
});
