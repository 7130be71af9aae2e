import fc from 'fast-check';
import {
  availableOf,
  handlesFor,
  keptStill,
  type FileFacts,
  type FileUse,
  keptOf,
  ownLengthsFrom,
  ownLengthsText,
  partName,
  placedIn,
  WHY_WHOLE,
} from './lengths.ts';

const RATE = { num: 25, den: 1 };
const picture: FileFacts = { format: 'mov', frames: 1000, start: null, rate: RATE, isSound: false };
const use = (spans: [number, number][], more: Partial<FileUse> = {}): FileUse => ({
  spans: spans.map(([start, duration]) => ({ start, duration })),
  rate: RATE,
  start: 0,
  duration: 1000,
  relinks: true,
  ...more,
});
const second = { value: 1, unit: 'seconds' as const, gapSeconds: 2 };

test('used ranges are kept with handles, and become one across a small gap', () => {
  const kept = keptOf(
    picture,
    [
      use([
        [100, 50],
        [180, 10],
        [600, 1],
      ]),
    ],
    second,
  );
  expect(kept).toEqual({
    is: 'parts',
    parts: [
      { from: 75, to: 215 },
      { from: 575, to: 626 },
    ],
  });
  expect(keptOf(picture, [use([[0, 10]])], { value: 5, unit: 'frames', gapSeconds: 0 })).toEqual({
    is: 'parts',
    parts: [{ from: 0, to: 15 }],
  });
});

test('whatever leaves a doubt stays whole, and says why', () => {
  const why = (file: Partial<FileFacts>, ...uses: FileUse[]) => keptOf({ ...picture, ...file }, uses, second);
  expect(why({ format: 'avi' }, use([[1, 1]]))).toEqual({ is: 'whole', why: WHY_WHOLE['format'] });
  expect(why({ frames: null }, use([[1, 1]]))).toEqual({ is: 'whole', why: WHY_WHOLE['unread'] });
  expect(why({}, use([[1, 1]]), use([[1, 1]], { relinks: false }))).toEqual({
    is: 'whole',
    why: WHY_WHOLE['not relinked'],
  });
  expect(why({}, use([], { spans: null }))).toEqual({ is: 'whole', why: WHY_WHOLE['used whole'] });
  expect(why({}, use([[1, 1]], { rate: { num: 24, den: 1 } }))).toEqual({ is: 'whole', why: WHY_WHOLE['rate'] });
  // A part of it is told, which could be counted from its own beginning or from the file's.
  expect(why({}, use([[300, 10]], { start: 200, duration: 300 }))).toEqual({ is: 'whole', why: WHY_WHOLE['start'] });
  expect(why({}, use([[0, 980]]))).toEqual({ is: 'whole', why: WHY_WHOLE['nearly whole'] });
  expect(keptOf(picture, [use([[1, 1]])], null)).toEqual({ is: 'whole', why: null });
});

test('a document counts from the timecode, from zero, or as it says itself', () => {
  const hour = { ...picture, start: 90_000 };
  const at = (file: FileFacts, one: FileUse) => placedIn(file, one);
  expect(at(hour, use([[90_100, 10]], { start: 90_000 }))).toEqual([{ from: 100, to: 110 }]);
  // Of the length of the file: its first frame is the file's, whatever the timecode says.
  expect(at(hour, use([[100, 10]]))).toEqual([{ from: 100, to: 110 }]);
  expect(at(hour, use([[90_100, 10]], { start: null, duration: null }))).toEqual([{ from: 100, to: 110 }]);
  expect(at(hour, use([[100, 10]], { start: null, duration: null }))).toEqual([{ from: 100, to: 110 }]);
  // Handled so that a part is counted on from where the document began.
  expect(availableOf(hour, use([[90_100, 10]], { start: 90_000 }), { from: 75, to: 135 })).toEqual({
    start: 90_075,
    duration: 60,
    rate: RATE,
  });
});

test('sound is kept by its samples, whichever of two beginnings less than a frame apart is meant', () => {
  const sound: FileFacts = {
    format: 'wav',
    frames: 480_000,
    start: 48_000 * 3600 + 100,
    rate: { num: 48_000, den: 1 },
    isSound: true,
  };
  const parts = placedIn(sound, use([[90_025, 25]], { start: 90_000, duration: 250 }));
  expect(parts).toEqual([
    { from: 48_000, to: 96_000 },
    { from: 47_900, to: 95_900 },
  ]);
  expect(
    keptOf(sound, [use([[90_025, 25]], { start: 90_000, duration: 250 })], { value: 0, unit: 'frames', gapSeconds: 0 }),
  ).toEqual({ is: 'parts', parts: [{ from: 47_900, to: 96_000 }] });
});

test('every used frame is in exactly one part, however they lie', () => {
  const span = fc
    .tuple(fc.integer({ min: 0, max: 990 }), fc.integer({ min: 1, max: 60 }))
    .map(([start, long]): [number, number] => [start, Math.min(long, 1000 - start)]);
  fc.assert(
    fc.property(
      fc.array(span, { minLength: 1, maxLength: 12 }),
      fc.integer({ min: 0, max: 40 }),
      fc.integer({ min: 0, max: 3 }),
      fc.constantFrom(0, 90_000),
      (spans, value, gapSeconds, start) => {
        const moved = spans.map(([from, long]): [number, number] => [from + start, long]);
        const kept = keptOf({ ...picture, start: start || null }, [use(moved, { start })], {
          value,
          unit: 'frames',
          gapSeconds,
        });
        if (kept.is !== 'parts') return;
        for (const [from, long] of spans) {
          const holding = kept.parts.filter((part) => part.from <= from && from + long <= part.to);
          expect(holding).toHaveLength(1);
          const [part] = holding;
          expect(part!.from === 0 || part!.from <= from - value).toBe(true);
          expect(part!.to === 1000 || part!.to >= from + long + value).toBe(true);
        }
        for (const [i, part] of kept.parts.entries())
          if (i > 0) expect(part.from).toBeGreaterThan(kept.parts[i - 1]!.to);
      },
    ),
  );
});

test('a part is called after its file and its first frame', () => {
  expect(partName('A001C003.mov', 1250)).toBe('A001C003_f001250.mov');
  expect(partName('noise', 3)).toBe('noise_f000003');
});

test('stills are kept where a used frame, or its handles, show them, and wherever there is a doubt', () => {
  const at = (ord: number, more: Partial<FileUse> = {}, stills = { step: 1, count: 200 as number | null }) =>
    keptStill(
      [
        {
          ...use(
            [
              [1050, 10],
              [1070, 1],
            ],
            { start: 1000, duration: 200, ...more },
          ),
          ord,
          stills,
        },
      ],
      { value: 2, unit: 'frames', gapSeconds: 0.4 },
    ).is;
  expect([47, 48, 60, 66, 72, 73].map((ord) => at(ord))).toEqual([
    'nothing',
    'whole',
    'whole',
    'whole',
    'whole',
    'nothing',
  ]);
  // Every second number, each shown for two frames.
  expect([23, 24, 36, 37].map((ord) => at(ord, {}, { step: 2, count: 100 }))).toEqual([
    'nothing',
    'whole',
    'whole',
    'nothing',
  ]);
  expect(at(0, { spans: null })).toBe('whole');
  expect(at(0, { relinks: false })).toBe('whole');
  expect(at(0, { duration: 400 })).toBe('whole');
  expect(keptStill([{ ...use([[50, 10]]), ord: 0, stills: { step: 1, count: 1000 } }], null).is).toBe('whole');
});

test('one file may be kept otherwise than the others, and an address says so', () => {
  const handles = { value: 1, unit: 'seconds' as const, gapSeconds: 2 };
  const own = ownLengthsFrom('12:whole,15:24f,16:0s');
  expect(own).toEqual([
    { fileId: 12, around: null },
    { fileId: 15, around: { value: 24, unit: 'frames' } },
    { fileId: 16, around: { value: 0, unit: 'seconds' } },
  ]);
  expect(ownLengthsText(own)).toBe('12:whole,15:24f,16:0s');
  for (const bad of ['', 'x', '0:1s', '12:', '12:much', '-3:1s', '12:1.5f', ':1s'])
    expect(ownLengthsFrom(bad)).toEqual([]);
  expect(ownLengthsFrom('12:1s,12:2s')).toEqual([{ fileId: 12, around: { value: 2, unit: 'seconds' } }]);
  expect(handlesFor({ ...handles, own }, 12)).toBeNull();
  expect(handlesFor({ ...handles, own }, 15)).toMatchObject({ value: 24, unit: 'frames', gapSeconds: 2 });
  expect(handlesFor({ ...handles, own }, 99)).toMatchObject(handles);
  expect(handlesFor(null, 12)).toBeNull();
});
