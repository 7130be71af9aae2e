// Edit lists as different programs and people write them, each with its answer worked out by hand: reel or name of each
// use, first source frame, frames, picture or sound. At 25 frames a second, from 01:00:00:00 = 90,000, unless it says else.
import { readEdl, relinkEdl } from './edl.ts';

const H = 90_000;
const T = (seconds: number, frames = 0) => {
  const two = (n: number) => String(n).padStart(2, '0');
  return `${two(Math.floor(seconds / 3600))}:${two(Math.floor(seconds / 60) % 60)}:${two(seconds % 60)}:${two(frames)}`;
};
interface Shape {
  channels?: string;
  kind?: string;
  from?: number;
  long?: number;
  at?: number;
  shown?: number;
}
/** An event whose source begins at `from` seconds and lasts so long, and which lies at `at` seconds. */
const event = (
  n: number,
  reel: string,
  { channels = 'V', kind = 'C', from = 3600, long = 4, at = 0, shown = long }: Shape = {},
) =>
  `${String(n).padStart(3, '0')}  ${reel} ${channels} ${kind} ${T(from)} ${T(from + long)} ${T(36_000 + at)} ${T(36_000 + at + shown)}`;
const HEAD = '* FRAME RATE: 25';

type Use = [name: string, start: number, frames: number, track: 'V' | 'A'];
const read = (text: string) => {
  const reading = readEdl(text);
  if (!reading.ok) throw new Error(JSON.stringify(reading.trouble));
  return reading.document;
};
const usesOf = (text: string): Use[] => {
  const document = read(text);
  return document.timelines[0]!.uses.map((use) => [
    document.media[use.media]!.name,
    use.range.start,
    use.range.duration,
    use.sound ? 'A' : 'V',
  ]);
};
const V = (name: string, start: number, frames: number): Use => [name, start, frames, 'V'];
const A = (name: string, start: number, frames: number): Use => [name, start, frames, 'A'];

const CASES: [title: string, lines: string[], uses: Use[]][] = [
  ['a cut', [event(1, 'R1')], [V('R1', H, 100)]],
  ['picture and sound in one line', [event(1, 'R1', { channels: 'B' })], [V('R1', H, 100), A('R1', H, 100)]],
  ['picture and two tracks of sound', [event(1, 'R1', { channels: 'AA/V' })], [V('R1', H, 100), A('R1', H, 100)]],
  ['sound alone', [event(1, 'R1', { channels: 'A2' })], [A('R1', H, 100)]],
  ['sound of several tracks', [event(1, 'R1', { channels: 'A1234' })], [A('R1', H, 100)]],
  ['no channels', [event(1, 'R1', { channels: 'NONE' })], [V('R1', H, 100)]],
  ['black shows nothing', [event(1, 'BL'), event(2, 'R1', { at: 4 })], [V('R1', H, 100)]],
  ['a reel with spaces', [event(1, 'DAY 2 CARD A')], [V('DAY 2 CARD A', H, 100)]],
  ['a reel that looks like channels', [event(1, 'A1')], [V('A1', H, 100)]],
  ['a reel that is a number', [event(1, '0042')], [V('0042', H, 100)]],
  ['trailing words', [`${event(1, 'R1')}   second take, see notes`], [V('R1', H, 100)]],
  ['trailing words with a colon', [`${event(1, 'R1')} LOC: harbour`], [V('R1', H, 100)]],
  ['blanks before and between', [`   ${event(1, 'R1').replaceAll(' ', '     ')}   `], [V('R1', H, 100)]],
  ['tabs', [event(1, 'R1').replaceAll(' ', '\t')], [V('R1', H, 100)]],
  ['a name', [event(1, 'R1'), '* FROM CLIP NAME: harbour.mov'], [V('harbour.mov', H, 100)]],
  ['a name with a colon', [event(1, 'AX'), '* FROM CLIP NAME: bay: dawn'], [V('bay: dawn', H, 100)]],
  ['a name without a blank before it', [event(1, 'AX'), '*FROM CLIP NAME:bay'], [V('bay', H, 100)]],
  [
    'one note that serves several lines',
    [event(1, 'AX'), event(1, 'AX', { channels: 'A' }), event(1, 'AX', { channels: 'A2' }), '* FROM CLIP NAME: bay'],
    [V('bay', H, 100), A('bay', H, 100), A('bay', H, 100)],
  ],
  [
    'a note after each line of one number',
    [event(1, 'AX'), '* FROM CLIP NAME: picture', event(1, 'AX', { channels: 'A' }), '* FROM CLIP NAME: sound'],
    [V('picture', H, 100), A('sound', H, 100)],
  ],
  [
    'a two-line dissolve',
    [
      event(1, 'R1'),
      event(2, 'R1', { from: 3604, long: 0, at: 4 }),
      event(2, 'R2', { kind: 'D 010', at: 4 }),
      '* FROM CLIP NAME: one',
      '* TO CLIP NAME: two',
    ],
    [V('R1', H, 100), V('one', H + 100, 10), V('two', H, 100)],
  ],
  [
    'a one-line dissolve: the track’s previous event goes on under it',
    [event(1, 'R1'), event(2, 'R2', { kind: 'D 010', at: 4 })],
    [V('R1', H, 110), V('R2', H, 100)],
  ],
  [
    'a one-line dissolve of the picture leaves the sound alone',
    [event(1, 'R1', { channels: 'B' }), event(2, 'R2', { kind: 'D 010', at: 4 })],
    [V('R1', H, 110), A('R1', H, 100), V('R2', H, 100)],
  ],
  [
    'a one-line dissolve after sound of another number',
    [event(1, 'R1'), event(2, 'S1', { channels: 'A' }), event(3, 'R2', { kind: 'D 010', at: 4 })],
    [V('R1', H, 110), A('S1', H, 100), V('R2', H, 100)],
  ],
  [
    'both names on a one-line dissolve',
    [
      event(1, 'AX'),
      '* FROM CLIP NAME: one',
      event(2, 'AX', { kind: 'D 010', at: 4 }),
      '* FROM CLIP NAME: one',
      '* TO CLIP NAME: two',
    ],
    [V('one', H, 110), V('two', H, 100)],
  ],
  [
    'a wipe with its code',
    [event(1, 'R1'), event(2, 'R2', { kind: 'W001 012', at: 4 })],
    [V('R1', H, 112), V('R2', H, 100)],
  ],
  [
    'a key over its ground',
    [event(1, 'R1', { kind: 'K B 000' }), event(1, 'R2', { kind: 'K O 000' })],
    [V('R1', H, 100), V('R2', H, 100)],
  ],
  ['twice as fast', [event(1, 'R1', { long: 8, shown: 4 }), `M2 R1 050.0 ${T(3600)}`], [V('R1', H, 200)]],
  ['half as fast', [event(1, 'R1', { long: 2, shown: 4 }), `M2 R1 012.5 ${T(3600)}`], [V('R1', H, 50)]],
  [
    'a speed finer than a tenth',
    [event(1, 'R1', { long: 4, shown: 4 }), `M2 R1 025.125 ${T(3600)}`],
    [V('R1', H, 101)],
  ],
  [
    'a speed that says less than its source',
    [event(1, 'R1', { long: 8, shown: 4 }), `M2 R1 030.0 ${T(3600)}`],
    [V('R1', H, 200)],
  ],
  [
    'a speed that says more than its source',
    [event(1, 'R1', { long: 4, shown: 4 }), `M2 R1 050.0 ${T(3600)}`],
    [V('R1', H, 200)],
  ],
  ['frozen', [event(1, 'R1'), `M2 R1 000.0 ${T(3600)}`], [V('R1', H, 1)]],
  ['backwards', [event(1, 'R1'), `M2 R1 -025.0 ${T(3600)}`], [V('R1', H, 100), V('R1', H - 100, 101)]],
  ['a speed before its event', [`M2 R1 050.0 ${T(3600)}`, event(1, 'R1', { long: 8, shown: 4 })], [V('R1', H, 200)]],
  [
    'a speed of what comes in by a dissolve',
    [event(1, 'R1', { long: 0 }), event(1, 'R2', { kind: 'D 010', from: 7200 }), `M2 R2 050.0 ${T(7200)}`],
    [V('R1', H, 10), V('R2', 2 * H, 200)],
  ],
  [
    'a speed on either side of a dissolve of one reel, told apart by place',
    [
      event(1, 'R1', { long: 0 }),
      event(1, 'R1', { kind: 'D 010', from: 7200 }),
      `M2 R1 050.0 ${T(3600)}`,
      `M2 R1 012.5 ${T(7200)}`,
    ],
    [V('R1', H, 20), V('R1', 2 * H, 100)],
  ],
  ['across midnight', [`001  R1 V C 23:59:58:00 00:00:02:00 ${T(36_000)} ${T(36_004)}`], [V('R1', 24 * H - 50, 100)]],
  ['record across midnight', [`001  R1 V C ${T(3600)} ${T(3604)} 23:59:58:00 00:00:02:00`], [V('R1', H, 100)]],
  ['record out at 24:00:00:00', [`001  R1 V C ${T(3600)} ${T(3604)} 23:59:56:00 24:00:00:00`], [V('R1', H, 100)]],
  ['a source that says less than is shown', [event(1, 'R1', { long: 2, shown: 4 })], [V('R1', H, 100)]],
  ['numbers of six digits', [event(1, 'R1').replace('001', '000001')], [V('R1', H, 100)]],
];

test.each(CASES)('%s', (_title, lines, uses) => expect(usesOf([HEAD, ...lines, ''].join('\n'))).toEqual(uses));

test('every style counts: at least forty', () => expect(CASES.length).toBeGreaterThanOrEqual(40));

test('how long it lasts, past midnight too', () => {
  const lasts = (line: string) => read(`${HEAD}\n${line}\n`).timelines[0]!.durationFrames;
  expect(lasts('001  R1 V C 01:00:00:00 01:00:04:00 23:59:58:00 00:00:02:00')).toBe(100);
  expect(lasts('001  R1 V C 01:00:00:00 01:00:04:00 23:59:56:00 24:00:00:00')).toBe(100);
});

test('drop and non-drop in one line: each timecode by its own mark', () => {
  const document = read('001  R1 V C 01:00:00;00 01:00:10;00 10:00:00:00 10:00:10:00\n');
  expect(document.timelines[0]!.rate).toEqual({ num: 30_000, den: 1001 });
  expect(document.timelines[0]!.uses[0]!.range).toEqual({ start: 107_892, duration: 300 });
  expect(document.timelines[0]!.durationFrames).toBe(300);
  const all = read('FCM: DROP FRAME\n001  R1 V C 01:00:00:00 01:00:10:00 10:00:00:00 10:00:10:00\n');
  expect(all.timelines[0]!.uses[0]!.range.start).toBe(107_892);
});

test('every line end is kept as it was, and lines are added with the end of the one before', () => {
  const text = `TITLE: X\r\n${event(1, 'R1')}\n* FROM CLIP NAME: a\r${event(2, 'R2')}\r\n\n* SOURCE FILE: /m/b.mov`;
  expect(relinkEdl(text, () => null).text).toBe(text);
  const out = relinkEdl(text, (written) => ({ a: '/n/a.mov', '/m/b.mov': '/n/b.mov' })[written] ?? null);
  expect(out.text).toBe(
    text.replace('NAME: a\r', 'NAME: a\r* SOURCE FILE: /n/a.mov\r').replace('/m/b.mov', '/n/b.mov'),
  );
  expect(out.replaced).toBe(2);
  const reel = relinkEdl(`${event(1, 'R1')}\n`, (written) => (written === 'R1' ? '/n/r1.mov' : null));
  expect(read(reel.text).media[0]!.target).toBe('/n/r1.mov');
});

test('line ends alone, and runs of blanks, do not stop the reading', () => {
  expect(readEdl('\n'.repeat(20_000_000))).toMatchObject({ ok: false, trouble: { code: 'too_large' } });
  expect(usesOf(`${event(1, 'R1')}\n*${' '.repeat(40_000)}x${' '.repeat(40_000)}\n`)).toHaveLength(1);
  expect(usesOf(`${event(1, 'R1')}\n${`* ${'a '.repeat(1500)}\n`.repeat(1000)}`)).toHaveLength(1);
});

test('tens of thousands of one-line dissolves take no longer each than one', () => {
  const timeOf = (events: number) => {
    const lines = Array.from(
      { length: events },
      (_, i) => `${event(i + 1, 'R1', { kind: 'D 010', at: i % 3000 })}\n* FROM CLIP NAME: x`,
    );
    const began = performance.now();
    expect(read([HEAD, ...lines].join('\n')).timelines[0]!.uses).toHaveLength(events);
    return (performance.now() - began) / events;
  };
  timeOf(2000);
  process.stderr.write(
    `edit list: ${(timeOf(40_000) / timeOf(4000)).toFixed(2)} times as long an event in 40,000 as in 4,000\n`,
  );
});
