import { readDawproject } from './dawproject.ts';

const session = (lanes: string, tempo = '120', more = '') => `<?xml version="1.0" encoding="UTF-8"?>
<Project version="1.0">
  <Transport><Tempo unit="bpm" value="${tempo}"/></Transport>
  <Structure><Track id="t1" name="Bells"><Channel role="regular"/></Track><Track id="t2" name="Wind"/></Structure>
  <Arrangement name="Mix">${more}<Lanes timeUnit="beats">${lanes}</Lanes></Arrangement>
</Project>`;
const audio = (path: string, seconds = 20, external = 'false') =>
  `<Audio sampleRate="48000" channels="2" duration="${seconds}"><File path="${path}" external="${external}"/></Audio>`;
const read = (xml: string) => {
  const reading = readDawproject(xml, (path) => path.startsWith('audio/'));
  if (!reading.ok) throw new Error(JSON.stringify(reading.trouble));
  return reading.document;
};
const ranges = (xml: string) =>
  read(xml).timelines[0]!.uses.map((use) => [use.range.start / 48_000, use.range.duration / 48_000]);

test('clips on tracks, in beats and in seconds', () => {
  const document = read(
    session(
      `<Lanes track="t1"><Clips><Clip time="4" duration="8" contentTimeUnit="seconds" playStart="1.5">${audio('audio/bell.wav')}</Clip></Clips></Lanes>
       <Lanes track="t2" timeUnit="seconds"><Clips><Clip time="0" duration="3" enable="false">${audio('/mnt/wind.wav', 60, 'true')}</Clip></Clips></Lanes>`,
    ),
  );
  expect(document.bins.map((bin) => bin.name)).toEqual(['Bells', 'Wind']);
  expect(document.media).toMatchObject([
    { name: 'bell.wav', bundled: true },
    { name: 'wind.wav', target: '/mnt/wind.wav' },
  ]);
  expect(document.media[1]!.bundled).toBeUndefined();
  // Eight beats at 120 are four seconds, from one and a half on.
  expect(document.timelines[0]!.uses).toMatchObject([
    { media: 0, range: { start: 72_000, duration: 192_000 }, enabled: true, sound: true },
    { media: 1, range: { start: 0, duration: 144_000 }, enabled: false },
  ]);
  expect(document.timelines[0]!.durationFrames).toBe(6 * 25);
});

test('clips inside clips are heard only through what holds them', () => {
  const inner = `<Clips><Clip time="2" duration="10" playStart="1">${audio('audio/a.wav')}</Clip><Clip time="30" duration="5">${audio('audio/b.wav')}</Clip></Clips>`;
  const xml = session(
    `<Lanes track="t1" timeUnit="seconds"><Clips><Clip time="100" duration="6" playStart="1">${inner}</Clip></Clips></Lanes>`,
  );
  // Seconds 1 to 7 are seen: of the first from its second 0 to 5, shifted by its own start; the other is out of sight.
  expect(ranges(xml)).toEqual([[1, 5]]);
});

test('loops, warps, and a tempo that changes', () => {
  const loop = `<Lanes timeUnit="seconds"><Clips><Clip time="0" duration="30" loopStart="2" loopEnd="5" playStart="3">${audio('audio/a.wav')}</Clip></Clips></Lanes>`;
  expect(ranges(session(loop))).toEqual([[2, 3]]);
  const warp = `<Clips><Clip time="0" duration="8"><Warps contentTimeUnit="seconds">${audio('audio/a.wav')}<Warp time="0" contentTime="1"/><Warp time="16" contentTime="9"/></Warps></Clip></Clips>`;
  expect(ranges(session(warp))).toEqual([[1, 4]]);
  const points =
    '<TempoAutomation><Target/><RealPoint time="0" value="100"/><RealPoint time="8" value="140"/></TempoAutomation>';
  const plain = `<Clips><Clip time="0" duration="8">${audio('audio/a.wav')}</Clip></Clips>`;
  expect(ranges(session(plain, '120', points))).toEqual([[0, 20]]);
  // Eight beats of content in seconds: how many seconds they are, the changes of tempo decide.
  const seconds = `<Clips><Clip time="0" duration="8" contentTimeUnit="seconds">${audio('audio/a.wav')}</Clip></Clips>`;
  expect(ranges(session(seconds, '120', points))).toEqual([[0, 20]]);
});

test.each([
  ['Clip, time', (a: string) => `<Clip time="soon" duration="1">${a}</Clip>`],
  ['Clip, duration', (a: string) => `<Clip time="0" duration="1e400">${a}</Clip>`],
  ['Clip, playStart', (a: string) => `<Clip time="0" duration="1" playStart="x">${a}</Clip>`],
  ['Clip, loopEnd', (a: string) => `<Clip time="0" duration="1" loopEnd="?">${a}</Clip>`],
  [
    'Warp, time',
    (a: string) =>
      `<Clip time="0" duration="1"><Warps>${a}<Warp time="-" contentTime="0"/><Warp time="1" contentTime="1"/></Warps></Clip>`,
  ],
  ['Audio, sampleRate', (a: string) => `<Clip time="0" duration="1">${a.replace('48000', 'many')}</Clip>`],
  ['Audio audio/a.wav', (a: string) => `<Clip time="0" duration="1">${a.replace('48000', '-1')}</Clip>`],
])('a number that cannot be read costs that detail: %s', (where, clip) => {
  const sound = `<Clips>${clip(audio('audio/a.wav'))}<Clip time="40" duration="2">${audio('audio/b.wav')}</Clip></Clips>`;
  const document = read(session(sound));
  expect(document.notes.map((note) => note.where)).toEqual([where]);
  expect(document.timelines[0]!.uses).toHaveLength(2);
  // The whole of what cannot be placed, and the other clip as it is.
  expect(ranges(session(sound))).toEqual([
    [0, 20],
    [0, 1],
  ]);
});

test('a tempo that cannot be read leaves what hangs on it whole', () => {
  const sound = `<Clips><Clip time="0" duration="8">${audio('audio/a.wav')}</Clip></Clips>`;
  for (const tempo of ['fast', '0', '-3']) {
    expect(ranges(session(sound, tempo))).toEqual([[0, 20]]);
    expect(read(session(sound, tempo)).notes).toHaveLength(1);
  }
});

test('its title is in its facts', () => {
  const reading = readDawproject(session(''), () => false, '<MetaData><Title>Bells &amp; wind</Title></MetaData>');
  expect(reading).toMatchObject({ ok: true, document: { name: 'Bells & wind' } });
});

test('what is wrong is told with its place', () => {
  expect(readDawproject('<Project><a></Project>', () => false)).toMatchObject({
    ok: false,
    trouble: { code: 'not_dawproject', where: expect.stringMatching(/^line 1/) as string },
  });
  expect(readDawproject('<Song/>', () => false)).toMatchObject({ ok: false, trouble: { code: 'not_dawproject' } });
  const bomb = '<!DOCTYPE x [<!ENTITY a "aaaa">]><Project/>';
  expect(readDawproject(bomb, () => false)).toMatchObject({ ok: false });
  const deep = `${'<Lanes>'.repeat(80)}${'</Lanes>'.repeat(80)}`;
  expect(readDawproject(session(deep), () => false)).toMatchObject({ ok: false, trouble: { code: 'too_deep' } });
});

describe('what is named is never told as unused', () => {
  const named = (xml: string) => read(xml).media.map((media) => media.name);

  test('clips that cannot be heard, and files named elsewhere', () => {
    const clips = `<Clips><Clip time="0" duration="0">${audio('audio/a.wav')}</Clip>
      <Clip time="0" duration="4" playStart="8"><Clips><Clip time="0" duration="2">${audio('audio/b.wav')}</Clip></Clips></Clip></Clips>`;
    const state = '<Devices><Vst3Plugin><State path="/mnt/bells.preset" external="true"/></Vst3Plugin></Devices>';
    const document = read(session(clips).replace('<Channel role="regular"/>', `<Channel>${state}</Channel>`));
    expect(document.media.map((media) => media.name)).toEqual(['bells.preset', 'a.wav', 'b.wav']);
    expect(document.timelines[0]!.uses).toEqual([]);
    expect(document.clips.map((clip) => clip.media)).toEqual([0, 1, 2]);
  });

  test('clips that are started by hand are a timeline of their own', () => {
    const scene = `<Scenes><Scene name="Storm"><Lanes><ClipSlot track="t2"><Clip duration="4" contentTimeUnit="seconds">${audio('audio/c.wav')}</Clip></ClipSlot></Lanes></Scene></Scenes>`;
    const document = read(session('').replace('</Project>', `${scene}</Project>`));
    expect(document.timelines.map((timeline) => timeline.name)).toEqual(['Mix', 'Storm']);
    expect(document.timelines[1]!.uses).toMatchObject([{ media: 0, range: { start: 0, duration: 96_000 } }]);
    expect(document.clips).toEqual([{ bin: 1, name: 'c.wav', media: 0 }]);
  });

  test('an alias plays a part of its own', () => {
    const content = audio('audio/a.wav').replace('<Audio', '<Audio id="a1"');
    const clips = `<Lanes timeUnit="seconds"><Clips><Clip time="0" duration="2">${content}</Clip><Clip time="9" duration="3" playStart="12" reference="a1"/></Clips></Lanes>`;
    expect(ranges(session(clips))).toEqual([
      [0, 2],
      [12, 3],
    ]);
    const round = '<Clips id="c1"><Clip time="0" duration="2" reference="c1"/></Clips>';
    expect(read(session(round)).notes).toMatchObject([{ detail: '"c1" leads into itself' }]);
    expect(read(session(round.replace('reference="c1"', 'reference="c9"'))).notes).toHaveLength(1);
  });

  test('aliases that multiply end, and what they name counts whole', () => {
    const layer = (i: number) =>
      `<Clips id="l${i}">${`<Clip time="0" duration="9" reference="l${i + 1}"/>`.repeat(10)}</Clips>`;
    const last = `<Clips id="l8"><Clip time="0" duration="2">${audio('audio/z.wav')}</Clip></Clips>`;
    const xml = session(`${[0, 1, 2, 3, 4, 5, 6, 7].map(layer).join('')}${last}`);
    expect(ranges(xml).at(-1)).toEqual([0, 20]);
    expect(read(xml).notes.at(-1)!.detail).toMatch(/aliases/);
  });

  test('windows go through units, sound without a clip is heard whole', () => {
    const inner = `<Clips timeUnit="seconds"><Clip time="0" duration="9">${audio('audio/a.wav')}</Clip></Clips>`;
    // Eight beats at 120 are four seconds.
    expect(ranges(session(`<Clips><Clip time="0" duration="8">${inner}</Clip></Clips>`))).toEqual([[0, 4]]);
    expect(ranges(session(`<Lanes track="t1">${audio('audio/b.wav')}</Lanes>`))).toEqual([[0, 20]]);
    expect(
      named(
        session(
          `<Clips><Clip time="0" duration="1"><Warps><Clips><Clip time="30" duration="1">${audio('audio/w.wav')}</Clip></Clips></Warps></Clip></Clips>`,
        ),
      ),
    ).toEqual(['w.wav']);
  });
});
