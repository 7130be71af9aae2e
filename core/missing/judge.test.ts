import fc from 'fast-check';
import { judge, judgeStills, type Suspect, type Wanted, tellingApart } from './judge.ts';

const PAL = { num: 25, den: 1 };
const wanted: Wanted = {
  name: 'A003C011_0412.mov',
  reel: 'A003',
  rate: PAL,
  startFrame: 90_000,
  durationFrames: 500,
  used: [{ start: 90_100, duration: 50 }],
  was: null,
};
const suspect = (fileId: number, more: Partial<Suspect> = {}): Suspect => ({
  fileId,
  name: 'A003C011_0412.mov',
  rate: PAL,
  startFrame: 90_000,
  dropFrame: false,
  durationFrames: 500,
  reel: 'A003',
  neighbours: 0,
  sampled: false,
  damaged: null,
  sizeBytes: 1_000_000_000,
  fingerprint: null,
  ...more,
});
const verdicts = (...suspects: Suspect[]) => judge(wanted, suspects).map((one) => [one.fileId, one.verdict]);

test('the recording itself makes it certain, and says why', () => {
  const [only] = judge(wanted, [suspect(1)]);
  expect(only!.verdict).toBe('certain');
  expect(only!.evidence.map((one) => one.says)).toEqual([
    'the same name',
    '25 a second',
    '500 frames',
    'begins at 01:00:00:00',
    'reel A003',
    'it holds all that is used',
  ]);
});

test('a name alone is never certain', () => {
  expect(verdicts(suspect(1, { rate: null, startFrame: null, durationFrames: null, reel: null }))).toEqual([
    [1, 'possible'],
  ]);
});

test('a name and a length are not certain, though what is used is then in it as well', () => {
  const plain: Wanted = { ...wanted, reel: null, startFrame: 0, used: [{ start: 100, duration: 50 }] };
  const [one] = judge(plain, [suspect(1, { reel: null, startFrame: 0 })]);
  expect(one!.evidence.map((each) => each.code)).toEqual(['name', 'rate', 'duration', 'covers']);
  expect(one!.verdict).toBe('likely');
});

test('a picture of another size speaks against, whatever else fits; one of the size that is told proves nothing', () => {
  const told: Wanted = { ...wanted, picture: { width: 3840, height: 2160 } };
  const [proxy] = judge(told, [suspect(1, { picture: { width: 960, height: 540 } })]);
  expect(proxy!.verdict).not.toMatch(/certain|likely/);
  expect(proxy!.evidence.find((one) => !one.fits)?.says).toBe('960 × 540, not 3840 × 2160');
  const bare = { startFrame: null, durationFrames: null, reel: null };
  expect(judge(told, [suspect(1, { ...bare, picture: { width: 3840, height: 2160 } })])[0]!.verdict).toBe('possible');
  // Where either says nothing, nothing is said.
  expect(judge(told, [suspect(1)])[0]!.evidence.some((one) => one.code === 'picture')).toBe(false);
  const [own] = judge(wanted, [suspect(1, { picture: { width: 960, height: 540 } })]);
  expect(own!.evidence.some((one) => one.code === 'picture')).toBe(false);
});

test('two that are alike leave the choice to a person', () => {
  expect(verdicts(suspect(1), suspect(2))).toEqual([
    [1, 'likely'],
    [2, 'likely'],
  ]);
  // One that lies beside its neighbours is better, yet the other is as proved.
  expect(verdicts(suspect(1), suspect(2, { neighbours: 5 }))[0]).toEqual([2, 'likely']);
});

test('what speaks against it is told, and a certain one wins over it', () => {
  const all = judge(wanted, [
    suspect(1, { startFrame: 180_000 }),
    suspect(2, { durationFrames: 120 }),
    suspect(3),
    suspect(4, { rate: { num: 24, den: 1 } }),
    suspect(5, { damaged: 'the file ends before what it announces', durationFrames: null, startFrame: null }),
  ]);
  expect(all[0]).toMatchObject({ fileId: 3, verdict: 'certain' });
  const against = (fileId: number) =>
    all
      .find((one) => one.fileId === fileId)!
      .evidence.filter((one) => !one.fits)
      .map((one) => one.says);
  expect(against(1)).toEqual(['begins at 02:00:00:00, not 01:00:00:00', 'it does not hold all that is used']);
  expect(against(2)).toEqual(['120 frames, not 500', 'it does not hold all that is used']);
  expect(against(4)[0]).toBe('24 a second, not 25');
  expect(against(5)).toEqual(['it is damaged: the file ends before what it announces']);
});

test('sound is compared in the rate of the document', () => {
  const [one] = judge({ ...wanted, reel: null }, [
    suspect(1, {
      sampled: true,
      rate: { num: 48_000, den: 1 },
      startFrame: 3600 * 48_000,
      durationFrames: 20 * 48_000,
      reel: null,
    }),
  ]);
  expect(one!.evidence.map((each) => each.says)).toEqual([
    'the same name',
    '25 a second',
    '500 frames',
    'begins at 01:00:00:00',
    'it holds all that is used',
  ]);
});

test('the file that it was tells one of its name from another, to the byte', () => {
  const was: Wanted = {
    ...wanted,
    reel: null,
    startFrame: null,
    durationFrames: null,
    used: null,
    was: { sizeBytes: 2_000_000_000, fingerprint: 'aa' },
  };
  const bare = { rate: null, startFrame: null, durationFrames: null, reel: null, sizeBytes: 2_000_000_000 };
  const all = judge(was, [
    suspect(1, bare),
    suspect(2, { ...bare, fingerprint: 'aa' }),
    suspect(3, { ...bare, fingerprint: 'bb' }),
    suspect(4, { ...bare, sizeBytes: 2_000_000_001, fingerprint: 'cc' }),
  ]);
  expect(all.map((one) => [one.fileId, one.verdict])).toEqual([
    [2, 'certain'],
    [1, 'possible'],
    [4, 'unlikely'],
    [3, 'unlikely'],
  ]);
  expect(all.map((one) => one.evidence.at(-1)!.says)).toEqual([
    'its fingerprint',
    'the size of the file that was there, to the byte',
    '2,000,000,001 bytes, not 2,000,000,000 bytes as the file that was there',
    'not its fingerprint: the bytes differ',
  ]);
});

test('a sequence of stills is certain where its first still is known again, and never by its names alone', () => {
  const was = { sizeBytes: 50, fingerprint: 'aa' };
  const told = (known: Wanted['was'], ...folders: [fileId: number, stills: number, fingerprint: string | null][]) =>
    judgeStills(
      { stills: 240, was: known },
      folders.map(([fileId, stills, fingerprint]) => ({ fileId, stills, first: { sizeBytes: 50, fingerprint } })),
    ).map((one) => [one.fileId, one.verdict]);
  expect(told(was, [1, 237, 'aa'], [2, 240, 'aa'], [3, 240, 'bb'])).toEqual([
    [2, 'certain'],
    [1, 'possible'],
    [3, 'possible'],
  ]);
  expect(told(was, [1, 240, 'aa'], [2, 240, 'aa']).map((one) => one[1])).toEqual(['likely', 'likely']);
  // Of another shot, which numbers its stills alike.
  expect(told(was, [3, 240, 'bb'])).toEqual([[3, 'possible']]);
  expect(told(null, [1, 240, 'aa'])).toEqual([[1, 'likely']]);
  const [short] = judgeStills({ stills: 240, was }, [{ fileId: 1, stills: 9, first: null }]);
  expect(short!.evidence.map((one) => one.says)).toEqual(['the same names', '9 of 240 stills lie there']);
});

test('an edit list knows reel and timecode alone', () => {
  const line: Wanted = { ...wanted, name: 'A003C011', startFrame: null, durationFrames: null };
  expect(judge(line, [suspect(1, { name: 'A003C011.mov' })])[0]!.verdict).toBe('certain');
  expect(judge(line, [suspect(1, { name: 'A003C011.mov', startFrame: 0 })])[0]!.verdict).not.toBe('certain');
});

test('whatever is asked: at most one is certain, it comes first, and nothing speaks against it', () => {
  const any = fc.record({
    name: fc.constantFrom('A003C011_0412.mov', 'a003c011_0412.MXF', 'other.mov'),
    rate: fc.constantFrom(PAL, { num: 24, den: 1 }, null),
    startFrame: fc.constantFrom(90_000, 0, null),
    durationFrames: fc.constantFrom(500, 90, null),
    reel: fc.constantFrom('A003', 'B001', null),
    neighbours: fc.nat({ max: 3 }),
  });
  fc.assert(
    fc.property(fc.array(any, { maxLength: 6 }), (list) => {
      const all = judge(
        wanted,
        list.map((more, i) => suspect(i + 1, more)),
      );
      const certain = all.filter((one) => one.verdict === 'certain');
      expect(certain.length).toBeLessThanOrEqual(1);
      for (const one of certain) {
        expect(one.evidence.every((each) => each.fits)).toBe(true);
        expect(one.points).toBe(Math.max(...all.map((each) => each.points)));
      }
    }),
  );
});

describe('what proves nothing', () => {
  const of = (more: Partial<Suspect>, asked: Partial<Wanted> = {}) =>
    judge({ ...wanted, used: null, ...asked }, [suspect(1, more)])[0]!.verdict;
  const bare = { reel: null, neighbours: 3 };

  test('a proxy is never certain: another ending, another size, or its kind', () => {
    expect(of({})).toBe('certain');
    expect(of({ name: `${wanted.name.replace(/\.[^.]+$/, '')}.mp4` })).not.toBe('certain');
    expect(of({ isProxy: true })).not.toBe('certain');
    expect(of({ sizeBytes: 5 }, { was: { sizeBytes: 6, fingerprint: null } })).not.toBe('certain');
  });

  test('a start at zero or at a whole hour, and a length beside a name that cameras use again', () => {
    expect(of({ ...bare, startFrame: 0 }, { reel: null, startFrame: 0 })).not.toBe('certain');
    const hour = 3600 * 25;
    expect(of({ ...bare, startFrame: hour }, { reel: null, startFrame: hour })).not.toBe('certain');
    expect(of({ ...bare, startFrame: hour + 1234 }, { reel: null, startFrame: hour + 1234 })).toBe('certain');
    expect(of({ ...bare, startFrame: null }, { reel: null, startFrame: null })).not.toBe('certain');
  });

  test('23.976 fits a list that says 24, and no other document', () => {
    const ntsc = { rate: { num: 24_000, den: 1001 } };
    const asked = { rate: { num: 24, den: 1 } };
    const rateOf = (isNominal: boolean) =>
      judge({ ...wanted, ...asked, isNominal }, [suspect(1, ntsc)])[0]!.evidence.find((one) => one.code === 'rate')!
        .fits;
    expect([rateOf(true), rateOf(false)]).toEqual([true, false]);
  });
});

test('what is shown is what differs between two that are as good', () => {
  const [a, b] = [suspect(1, { reel: null }), suspect(2, { reel: null, startFrame: 99_999 })];
  const all = judge({ ...wanted, reel: null, used: null }, [a, b]);
  const apart = tellingApart(all);
  expect([...apart.get(1)!]).toContain('start');
  expect([...apart.get(1)!]).not.toContain('name');
  expect([...tellingApart(judge(wanted, [a])).get(1)!]).toEqual([]);
});
