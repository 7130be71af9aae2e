import fc from 'fast-check';
import { labelText } from '../../time/timecode.ts';
import { readEdl, relinkEdl } from './edl.ts';
import type { DocumentModel } from '../model.ts';

const LIST = `TITLE: BRINE CUT 3
FCM: NON-DROP FRAME

001  A001C003 V     C        01:00:00:00 01:00:05:00 10:00:00:00 10:00:05:00
* FROM CLIP NAME: A001C003_0412.mov
* SOURCE FILE: S:\\brine\\A001C003_0412.mov
002  A001C003 V     C        01:00:05:00 01:00:05:00 10:00:05:00 10:00:05:00
002  A001C004 V     D    024 02:00:00:00 02:00:06:00 10:00:05:00 10:00:11:00
* FROM CLIP NAME: A001C003_0412.mov
* TO CLIP NAME: A001C004_0412.mov
003  BL       V     C        00:00:00:00 00:00:01:00 10:00:11:00 10:00:12:00
004  AX       B     C        00:00:10:00 00:00:12:00 10:00:12:00 10:00:14:00
M2   AX       050.0                00:00:10:00
* FROM CLIP NAME: harbour bells.wav
* A COMMENT OF NO FORM
005  A001C004 V     W001 010 02:00:20:00 02:00:21:00 10:00:14:00 10:00:15:00
`;
const read = (text: string): DocumentModel => {
  const reading = readEdl(text);
  if (!reading.ok) throw new Error(JSON.stringify(reading.trouble));
  return reading.document;
};
const H = 3600 * 24;

test('cuts, dissolves, wipes, speeds, black and names', () => {
  const document = read(LIST);
  expect(document.name).toBe('');
  expect(document.timelines[0]!.name).toBe('BRINE CUT 3');
  expect(document.media.map((m) => [m.name, m.reel, m.target])).toEqual([
    ['A001C003_0412.mov', 'A001C003', 'S:\\brine\\A001C003_0412.mov'],
    ['A001C004_0412.mov', 'A001C004', 'A001C004_0412.mov'],
    ['harbour bells.wav', null, 'harbour bells.wav'],
    ['A001C004', 'A001C004', 'A001C004'],
  ]);
  const [timeline] = document.timelines;
  expect(timeline!.rate).toEqual({ num: 24, den: 1 });
  expect(timeline!.durationFrames).toBe(15 * 24);
  expect(timeline!.uses.map((use) => [use.media, use.range.start, use.range.duration, use.sound])).toEqual([
    [0, H, 5 * 24, false],
    // What goes out under the dissolve is used for its length.
    [0, H + 5 * 24, 24, false],
    [1, 2 * H, 6 * 24, false],
    // Twice as fast and a little more: 50 frames a second for two seconds.
    // Its picture goes on for ten frames more, under the wipe.
    [2, 240, 121, false],
    [2, 240, 100, true],
    [3, 2 * H + 20 * 24, 24, false],
  ]);
});

test('the rate: by its comment, by drop frames, by its highest frame number', () => {
  const line = (from: string, to: string) => `001  A V C ${from} ${to} ${from} ${to}\n`;
  expect(read(line('00:00:00:00', '00:00:01:23')).timelines[0]!.rate.num).toBe(24);
  expect(read(line('00:00:00:00', '00:00:01:24')).timelines[0]!.rate.num).toBe(25);
  expect(read(line('00:00:00:00', '00:00:01:29')).timelines[0]!.rate.num).toBe(30);
  expect(read(line('00:00:00:00', '00:00:01:59')).timelines[0]!.rate.num).toBe(60);
  expect(read(`* FRAME RATE: 23.976\n${line('00:00:00:00', '00:00:01:00')}`).timelines[0]!.rate).toEqual({
    num: 24000,
    den: 1001,
  });
  const drop = read(`FCM: DROP FRAME\n${line('01:00:00:00', '01:00:10:00')}`).timelines[0]!;
  expect(drop.rate).toEqual({ num: 30000, den: 1001 });
  expect(drop.uses[0]!.range).toEqual({ start: 107_892, duration: 300 });
});

test('frozen is one frame, backwards covers both ways of telling it', () => {
  const body = 'M2   A       {}         01:00:00:00\n';
  const of = (speed: string) =>
    read(
      `001  A V C 01:00:00:00 01:00:02:00 00:00:00:00 00:00:02:00\n${body.replace('{}', speed)}`,
    ).timelines[0]!.uses.map((use) => use.range);
  expect(of('000.0')).toEqual([{ start: H, duration: 1 }]);
  expect(of('-24.0')).toEqual([
    { start: H, duration: 48 },
    { start: H - 48, duration: 49 },
  ]);
});

test('a detail that cannot be read costs that detail, with a note where: the rest is read, and it counts whole', () => {
  const good = '001  A001 V C 01:00:00:00 01:00:02:00 00:00:00:00 00:00:02:00';
  const of = (line: string) => {
    const { timelines, media, notes } = read(`TITLE: X\n${good}\n${line}\n`);
    const uses = timelines[0]!.uses.map((use) => [media[use.media]!.target, use.range.duration]);
    return { uses, notes: notes.map((note) => note.where), length: timelines[0]!.durationFrames };
  };
  const whole = {
    uses: expect.arrayContaining([
      ['A001', 48],
      ['B002', 0],
    ]) as unknown,
    length: 48,
  };
  expect(of('002  B002 V C 01:00:00:00 01:00:61:00 00:00:02:00 00:00:04:00')).toEqual({
    ...whole,
    notes: ['line 3, column 27'],
  });
  expect(of('002  B002 V C 01:00:00:00 01:00:01:00')).toEqual({ ...whole, notes: ['line 3, column 1'] });
  expect(of('002  B002 V X 01:00:00:00 01:00:01:00 00:00:02:00 00:00:03:00')).toEqual({
    ...whole,
    notes: ['line 3, column 1'],
  });
  expect(of('M2   A001  fast 01:00:00:00')).toMatchObject({ uses: [['A001', 0]], notes: ['line 3, column 1'] });
  expect(of('M2   024.0 01:00:00:00')).toMatchObject({ uses: [['A001', 48]], notes: [] });
});

test('events numbered by letters, a source without length that is shown, notes without a star', () => {
  const [still] = read('001A STILL V C 00:00:00:00 00:00:00:00 01:00:00:00 01:00:05:00\n').timelines[0]!.uses;
  expect(still!.range).toEqual({ start: 0, duration: 5 * 24 });
  const list =
    '001 AX V C 00:00:00:00 00:00:01:00 01:00:00:00 01:00:01:00\nFROM CLIP NAME: gull\nSOURCE FILE: /m/gull.mov\n';
  expect(read(list).media).toMatchObject([{ name: 'gull', target: '/m/gull.mov' }]);
  expect(relinkEdl(list, () => '/n/gull.mov').text).toBe(list.replace('/m/', '/n/'));
});

test('what is wrong with every event is told by line and column', () => {
  expect(readEdl('hello')).toMatchObject({ ok: false, trouble: { code: 'not_edl', where: 'line 1, column 1' } });
  const bad = readEdl('TITLE: X\n001  A V C 01:00:00:00 01:00:61:00 00:00:00:00 00:00:02:00\n');
  expect(bad).toMatchObject({ ok: false, trouble: { where: 'line 2, column 24' } });
  const short = readEdl('TITLE: X\n001  A V C 01:00:00:00 01:00:01:00\n');
  expect(short).toMatchObject({ ok: false, trouble: { where: 'line 2, column 1' } });
});

test('every event with times of its own is used for just as long, at any rate', () => {
  fc.assert(
    fc.property(
      fc.constantFrom(24, 25, 30, 50, 60),
      fc.array(fc.tuple(fc.nat({ max: 1_000_000 }), fc.integer({ min: 1, max: 5000 })), {
        minLength: 1,
        maxLength: 30,
      }),
      (num, cuts) => {
        const rate = { num, den: 1 };
        let at = 0;
        const lines = cuts.map(([from, length], i) => {
          const times = [from, from + length, at, at + length].map((frame) => labelText(frame, rate)).join(' ');
          at += length;
          return `${String(i + 1).padStart(3, '0')}  R${i} V C ${times}`;
        });
        const document = read(`* FRAME RATE: ${num}\n${lines.join('\n')}\n`);
        expect(document.timelines[0]!.durationFrames).toBe(at);
        expect(document.timelines[0]!.uses.map((use) => [use.range.start, use.range.duration])).toEqual(cuts);
      },
    ),
  );
});

test('written anew, only what was asked changes', () => {
  expect(relinkEdl(LIST, () => null)).toEqual({ text: LIST, replaced: 0 });
  expect(relinkEdl(LIST.replaceAll('\n', '\r\n'), () => null).text).toBe(LIST.replaceAll('\n', '\r\n'));
  const one = relinkEdl(LIST, (written) => (written.startsWith('S:') ? 'S:\\new\\a.mov' : null));
  expect(one.replaced).toBe(1);
  expect(one.text).toBe(LIST.replace('S:\\brine\\A001C003_0412.mov', 'S:\\new\\a.mov'));
  const added = relinkEdl(LIST, (written) => (written === 'harbour bells.wav' ? '/m/bells.wav' : null));
  expect(read(added.text).media.map((m) => m.target)).toContain('/m/bells.wav');
  expect(added.text.split('\n')).toHaveLength(LIST.split('\n').length + 1);
});
