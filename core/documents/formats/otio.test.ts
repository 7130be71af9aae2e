import { readOtio } from './otio.ts';
import { stillTarget } from '../stills.ts';
import { relinkOtio } from '../relink.ts';
import { pathOfUrl, readTarget, relativeFrom, urlOfPath } from '../targets.ts';
import type { VolumeId } from '../../model.ts';
import fc from 'fast-check';

const time = (value: unknown, rate: unknown = 25) => ({ OTIO_SCHEMA: 'RationalTime.1', rate, value });
const range = (start: number, duration: number, rate = 25) => ({
  OTIO_SCHEMA: 'TimeRange.1',
  start_time: time(start, rate),
  duration: time(duration, rate),
});
const external = (url: string) => ({
  OTIO_SCHEMA: 'ExternalReference.1',
  target_url: url,
  available_range: range(0, 500),
});
const clip2 = (url: string, cut: object | null, more: object = {}) => ({
  OTIO_SCHEMA: 'Clip.2',
  name: url,
  source_range: cut,
  media_references: { DEFAULT_MEDIA: external(url), proxy: external(`proxy-${url}`) },
  active_media_reference_key: 'DEFAULT_MEDIA',
  ...more,
});
const track = (...children: object[]) => ({ OTIO_SCHEMA: 'Track.1', kind: 'Video', children });
const timeline = (...tracks: object[]) => ({
  OTIO_SCHEMA: 'Timeline.1',
  name: 'Cut',
  tracks: { OTIO_SCHEMA: 'Stack.1', children: tracks },
});
const read = (value: unknown) => {
  const reading = readOtio(JSON.stringify(value));
  if (!reading.ok) throw new Error(JSON.stringify(reading.trouble));
  return reading.document;
};

test('collections become bins, clips lie in them, timelines use ranges', () => {
  const document = read({
    OTIO_SCHEMA: 'SerializableCollection.1',
    name: 'Fog',
    children: [
      {
        OTIO_SCHEMA: 'SerializableCollection.1',
        name: 'Day 1',
        children: [{ OTIO_SCHEMA: 'SerializableCollection.1', name: 'Boat', children: [clip2('a.mov', null)] }],
      },
      timeline(
        track(
          clip2('a.mov', range(10, 20)),
          { OTIO_SCHEMA: 'Gap.1', source_range: range(0, 5) },
          clip2('b.mov', range(0, 7)),
        ),
      ),
    ],
  });
  expect(document.name).toBe('Fog');
  expect(document.bins).toEqual([
    { key: 0, parent: null, name: 'Day 1' },
    { key: 1, parent: 0, name: 'Boat' },
  ]);
  expect(document.clips).toEqual([
    { bin: 1, name: 'a.mov', media: 0 },
    { bin: null, name: 'b.mov', media: 2 },
  ]);
  // Other references to the same recording are named, and used, as well.
  expect(document.media.map((m) => m.target)).toEqual(['a.mov', 'proxy-a.mov', 'b.mov', 'proxy-b.mov']);
  expect(document.timelines[0]).toMatchObject({ name: 'Cut', durationFrames: 32 });
  expect(document.timelines[0]!.uses.map((u) => [u.media, u.range.start, u.range.duration])).toEqual([
    [0, 10, 20],
    [1, 10, 20],
    [2, 0, 7],
    [3, 0, 7],
  ]);
});

test('the older clip form, missing references, nested stacks and image sequences are read', () => {
  const sequence = {
    OTIO_SCHEMA: 'ImageSequenceReference.1',
    target_url_base: 'stills',
    name_prefix: 'f_',
    name_suffix: '.exr',
    start_frame: 8,
    frame_step: 2,
    frame_zero_padding: 4,
    rate: 25,
    available_range: range(0, 5),
  };
  const document = read(
    timeline(
      track({ OTIO_SCHEMA: 'Clip.1', name: 'old', source_range: range(1, 2), media_reference: external('old.mov') }),
      track({
        OTIO_SCHEMA: 'Stack.1',
        children: [
          track({
            OTIO_SCHEMA: 'Clip.2',
            name: 'seq',
            source_range: null,
            media_references: { DEFAULT_MEDIA: sequence },
          }),
        ],
      }),
      track({
        OTIO_SCHEMA: 'Clip.2',
        name: 'lost',
        source_range: range(0, 9),
        media_references: { DEFAULT_MEDIA: { OTIO_SCHEMA: 'MissingReference.1' } },
      }),
    ),
  );
  expect(document.media.map((m) => m.target)).toEqual(['old.mov', 'stills/f_0008.exr', null]);
  const stills = document.media[1]!.stills!;
  expect(stills.count).toBe(3);
  expect(stillTarget(stills, 2)).toBe('stills/f_0012.exr');
  expect(document.timelines[0]!.durationFrames).toBe(9);
});

test('a clip four times as fast uses four times its length; time hasUnknownTimeEffect in unknown ways uses all there is', () => {
  const warp = { OTIO_SCHEMA: 'LinearTimeWarp.1', time_scalar: 4 };
  expect(
    read(timeline(track(clip2('a.mov', range(10, 20), { effects: [warp] })))).timelines[0]!.uses[0]!.range,
  ).toEqual({ start: 10, duration: 80 });
});

test.each([
  ['{"a": 1,\n "b": }', 'not_json', 'line 2, column 7'],
  ['[]', 'not_otio', '$'],
])('a broken document is told with its place: %s', (text, code, where) => {
  expect(readOtio(text)).toMatchObject({ ok: false, trouble: { code, where } });
});

test.each([
  ['tracks that are none', { OTIO_SCHEMA: 'Timeline.1', tracks: 7 }, '$.tracks'],
  [
    'a start that is no number',
    timeline(track(clip2('a', { OTIO_SCHEMA: 'TimeRange.1', start_time: time('x'), duration: time(3) }))),
    '$.tracks.children[0].children[0].source_range.start_time.value',
  ],
  [
    'a rate of nothing',
    timeline(track(clip2('a', { OTIO_SCHEMA: 'TimeRange.1', start_time: time(0), duration: time(3, 0) }))),
    '$.tracks.children[0].children[0].source_range.duration.rate',
  ],
  [
    'a place that is no text',
    timeline(
      track({
        OTIO_SCHEMA: 'Clip.1',
        name: 'a',
        media_reference: { OTIO_SCHEMA: 'ExternalReference.1', target_url: 5 },
      }),
    ),
    '$.tracks.children[0].children[0].media_reference.target_url',
  ],
  [
    'a speed that is none',
    timeline(track(clip2('a', range(0, 5), { effects: [{ OTIO_SCHEMA: 'LinearTimeWarp.1', time_scalar: 'fast' }] }))),
    '$.tracks.children[0].children[0].effects[0].time_scalar',
  ],
])('a detail that cannot be read costs that detail, with a note where: %s', (_words, value, where) => {
  const document = read(value);
  expect(document.notes.map((note) => note.where)).toEqual([where]);
  // All there is counts then.
  for (const use of document.timelines[0]!.uses.filter((one) => one.media === 0))
    expect([0, 500]).toContain(use.range.duration);
});

test('NaN in what is noted costs nothing but itself', () => {
  const text = JSON.stringify(
    timeline(track(clip2('a', range(1, 2), { metadata: { gain: 'X', deep: 'NaN' } }))),
  ).replace('"X"', 'NaN');
  const reading = readOtio(text);
  expect(reading).toMatchObject({ ok: true, document: { notes: [{ detail: 'NaN is no number' }] } });
  expect(relinkOtio(text, { file: () => 'b', sequence: () => null }).text).toBe(
    text.replace('"target_url":"a"', '"target_url":"b"').replace('"target_url":"proxy-a"', '"target_url":"b"'),
  );
});

test('nesting without end is refused, not followed', () => {
  let inner: object = track(clip2('a.mov', range(0, 1)));
  for (let i = 0; i < 300; i++) inner = { OTIO_SCHEMA: 'Stack.1', children: [inner] };
  expect(readOtio(JSON.stringify(timeline(inner)))).toMatchObject({
    ok: false,
    trouble: {
      code: 'too_deep',
      where: expect.stringMatching(/^\$\.tracks\.children.*, line 1, column \d+$/) as string,
    },
  });
});

test('relinking changes the references and no other byte', () => {
  const text = `{ "OTIO_SCHEMA":"Clip.2",  "x": 1.0, "unknown": {"keep": [1e3, "\\u00e9"]},\n "media_references": {"DEFAULT_MEDIA": {"target_url" : "a b.mov"}, "q": {"target_url_base":"s/","name_prefix":"f"}} }`;
  const out = relinkOtio(text, {
    file: (url) => (url === 'a b.mov' ? '../n"ew.mov' : null),
    sequence: (base, prefix) => (base === 's/' && prefix === 'f' ? 't/' : null),
  });
  expect(out.replaced).toBe(2);
  expect(out.text).toBe(text.replace('"a b.mov"', '"../n\\"ew.mov"').replace('"s/"', '"t/"'));
  expect(relinkOtio(text, { file: () => null, sequence: () => null }).text).toBe(text);
});

describe('where references point', () => {
  const volume = 1 as VolumeId;
  const inner = 2 as VolumeId;
  const accented = 3 as VolumeId;
  const mounts = [
    { volumeId: volume, path: '/mnt/media' },
    { volumeId: accented, path: '/mnt/bu\u0308cher' },
    { volumeId: inner, path: '/mnt/media/inner' },
    { volumeId: volume, path: 'R:' },
    { volumeId: inner, path: '\\\\store\\rope' },
  ];
  const from = { volumeId: volume, folder: 'fog/edit' };
  test.each([
    ['file:///mnt/media/a%20b.mov', { place: 'inside', volumeId: volume, path: 'a b.mov' }],
    ['file://localhost/mnt/media/inner/x.mov', { place: 'inside', volumeId: inner, path: 'x.mov' }],
    ['/mnt/media/../media/x.mov', { place: 'inside', volumeId: volume, path: 'x.mov' }],
    ['file:///R:/fog/a%20b.mov', { place: 'inside', volumeId: volume, path: 'fog/a b.mov' }],
    ['R:\\fog\\a.mov', { place: 'inside', volumeId: volume, path: 'fog/a.mov' }],
    ['r:\\fog\\..\\..\\x', { place: 'outside', path: 'r:\\fog\\..\\..\\x' }],
    ['file://store/rope/x.mov', { place: 'inside', volumeId: inner, path: 'x.mov' }],
    ['/mnt/mediaX/x.mov', { place: 'unknown', path: '/mnt/mediaX/x.mov' }],
    ['file:/mnt/media/a.mov', { place: 'inside', volumeId: volume, path: 'a.mov' }],
    ['FILE:///mnt/media/a.mov', { place: 'inside', volumeId: volume, path: 'a.mov' }],
    ['file:////store/rope/x.mov', { place: 'inside', volumeId: inner, path: 'x.mov' }],
    ['file://///store/rope/x.mov', { place: 'inside', volumeId: inner, path: 'x.mov' }],
    ['file:////mnt/media/x.mov', { place: 'inside', volumeId: volume, path: 'x.mov' }],
    ['//store/rope/x.mov', { place: 'inside', volumeId: inner, path: 'x.mov' }],
    ['//STORE/Rope/a/x.mov', { place: 'inside', volumeId: inner, path: 'a/x.mov' }],
    ['\\\\store\\rope\\a\\x.mov', { place: 'inside', volumeId: inner, path: 'a/x.mov' }],
    ['//mnt/media/x.mov', { place: 'inside', volumeId: volume, path: 'x.mov' }],
    ['file:R:/fog/a.mov', { place: 'inside', volumeId: volume, path: 'fog/a.mov' }],
    ['file:/R:/fog/a.mov', { place: 'inside', volumeId: volume, path: 'fog/a.mov' }],
    ['file://R:/fog/a.mov', { place: 'inside', volumeId: volume, path: 'fog/a.mov' }],
    ['file:///R%3A/fog/a.mov', { place: 'inside', volumeId: volume, path: 'fog/a.mov' }],
    ['file:///R|/fog/a.mov', { place: 'inside', volumeId: volume, path: 'fog/a.mov' }],
    ['file:///R:\\fog\\a.mov', { place: 'inside', volumeId: volume, path: 'fog/a.mov' }],
    ['r:/FOG/a.mov', { place: 'inside', volumeId: volume, path: 'FOG/a.mov' }],
    ['/MNT/Media/a.mov', { place: 'inside', volumeId: volume, path: 'a.mov' }],
    ['file:///mnt/media/b%C3%BCcher%ZZ%20x.mov', { place: 'inside', volumeId: volume, path: 'b\u00fccher%ZZ x.mov' }],
    ['file:///mnt/b%C3%BCcher/x.mov', { place: 'inside', volumeId: accented, path: 'x.mov' }],
    ['file:///mnt/bu%CC%88cher/x.mov', { place: 'inside', volumeId: accented, path: 'x.mov' }],
    ['file://store/../../etc/passwd', { place: 'unknown', path: '\\\\store\\..\\..\\etc\\passwd' }],
    ['../rushes/x.mov', { place: 'inside', volumeId: volume, path: 'fog/rushes/x.mov' }],
    ['../../../x.mov', { place: 'outside', path: '../../../x.mov' }],
    ['file:///%2e%2e/%2e%2e/etc/passwd', { place: 'outside', path: '/../../etc/passwd' }],
  ])('%s', (text, target) => expect(readTarget(text, from, mounts).at(-1)).toEqual(target));

  test('percent signs that are part of a plain name are tried as they stand too', () => {
    expect(readTarget('100%25.mov', from, mounts).map((t) => t.path)).toEqual([
      'fog/edit/100%25.mov',
      'fog/edit/100%.mov',
    ]);
    expect(pathOfUrl('file:///bad%ZZ')).toBe('/bad%ZZ');
  });

  test('a relative path leads back to the file it was made from', () => {
    const path = fc.array(fc.stringMatching(/^[a-c]$/), { minLength: 1, maxLength: 4 }).map((parts) => parts.join('/'));
    fc.assert(
      fc.property(path, path, (folder, file) => {
        const url = urlOfPath(relativeFrom(folder, `${file}/x.mov`));
        expect(readTarget(url, { volumeId: volume, folder }, mounts).at(-1)).toEqual({
          place: 'inside',
          volumeId: volume,
          path: `${file}/x.mov`,
        });
      }),
    );
  });
});

const missing = (name: string, start: number) => ({
  OTIO_SCHEMA: 'MissingReference.1',
  name,
  available_range: range(start, 50),
});
const uses = (value: unknown) =>
  read(value).timelines.flatMap((one) => one.uses.map((use) => [use.media, use.range.start, use.range.duration]));
const clip1 = (reference: object | null, cut: object | null, more: object = {}) => ({
  OTIO_SCHEMA: 'Clip.1',
  name: 'c',
  source_range: cut,
  media_reference: reference,
  ...more,
});
const sequence = (rate: number, available: object | null) => ({
  OTIO_SCHEMA: 'ImageSequenceReference.1',
  target_url_base: 'scan/',
  name_prefix: 'f.',
  name_suffix: '.dpx',
  start_frame: 1,
  frame_step: 1,
  frame_zero_padding: 4,
  rate,
  available_range: available,
});

test('stills at fractional rates all have names; without a range whatever is there is meant', () => {
  for (const rate of [23.976, 24000 / 1001, 29.97, 59.94, 12.5])
    expect(read(timeline(track(clip1(sequence(rate, range(0, 1000, rate)), null)))).media[0]!.stills!.count).toBe(1000);
  expect(read(timeline(track(clip1(sequence(24, null), range(0, 5, 24))))).media[0]!.stills!.count).toBeNull();
  // A million stills are a range, not a list.
  expect(read(timeline(track(clip1(sequence(24, range(0, 999_999, 24)), null)))).media[0]!.stills!.count).toBe(999_999);
});

test('one file under two ranges: each counts for itself', () => {
  const part = (start: number) => ({ ...external('a.mov'), available_range: range(start, 100) });
  const value = timeline(track(clip1(part(0), null), clip1(part(1000), null)));
  expect(uses(value)).toEqual([
    [0, 0, 100],
    [0, 1000, 100],
  ]);
  expect(read(value).media[0]!.available!.range).toEqual({ start: 0, duration: 1100 });
});

test('a frozen composition shows one frame of what lies at its start', () => {
  const frozen = { effects: [{ OTIO_SCHEMA: 'FreezeFrame.1' }] };
  const inner = track(clip1(external('a.mov'), range(10, 20)), clip1(external('b.mov'), range(30, 20)));
  expect(uses(timeline(track({ OTIO_SCHEMA: 'Stack.1', children: [inner], ...frozen })))).toEqual([[0, 10, 1]]);
  expect(uses(timeline({ ...inner, ...frozen, source_range: range(25, 5) }))).toEqual([[1, 35, 1]]);
});

test('a generator has its length from what there is of it; what is switched off does nothing', () => {
  const generator = { OTIO_SCHEMA: 'GeneratorReference.1', generator_kind: 'bars', available_range: range(0, 25) };
  const nested = track(clip1(generator, null), clip1(external('a.mov'), range(0, 25)));
  expect(uses(timeline({ ...nested, source_range: range(20, 10) }))).toEqual([[0, 0, 5]]);
  const off = [
    { OTIO_SCHEMA: 'LinearTimeWarp.1', time_scalar: 4, enabled: false },
    { OTIO_SCHEMA: 'FreezeFrame.1', enabled: false },
  ];
  expect(uses(timeline(track(clip1(external('a.mov'), range(10, 20), { effects: off }))))).toEqual([[0, 10, 20]]);
});

test('a transition at the end of a track shows what lies beyond it, at its start what lies before', () => {
  const fade = { OTIO_SCHEMA: 'Transition.1', in_offset: time(5), out_offset: time(7) };
  expect(uses(timeline(track(clip1(external('a.mov'), range(100, 20)), fade)))).toEqual([[0, 100, 27]]);
  expect(uses(timeline(track(fade, clip1(external('a.mov'), range(100, 20)))))).toEqual([[0, 95, 25]]);
});

test('backwards, both readings are covered', () => {
  const back = { effects: [{ OTIO_SCHEMA: 'LinearTimeWarp.1', time_scalar: -1 }] };
  const [use] = uses(timeline(track(clip1(external('a.mov'), range(100, 20), back))));
  expect(use![1]!).toBeLessThanOrEqual(81);
  expect(use![1]! + use![2]!).toBeGreaterThanOrEqual(120);
});

test('references of unknown schemas, clips inside unknown schemas, and bare compositions are named and keep their time', () => {
  const odd = { OTIO_SCHEMA: 'CloudReference.3', target_url: 'odd.mov', available_range: range(0, 50) };
  const wrapper = {
    OTIO_SCHEMA: 'Grouping.1',
    source_range: range(0, 30),
    content: track(clip1(external('in.mov'), range(5, 10))),
  };
  const outer = { ...track(wrapper, clip1(odd, range(0, 20))), source_range: range(25, 10) };
  const document = read(timeline(outer));
  expect(document.media.map((item) => item.target)).toEqual(['in.mov', 'odd.mov']);
  expect(uses(timeline(outer))).toEqual([
    [0, 0, 500],
    [1, 0, 5],
  ]);
  for (const bare of [
    { OTIO_SCHEMA: 'Stack.1', name: 'S', children: [track(clip1(odd, null))] },
    track(clip1(odd, null)),
    clip1(odd, null),
  ])
    for (const value of [bare, { OTIO_SCHEMA: 'SerializableCollection.1', name: 'D', children: [bare] }]) {
      const { media, clips } = read(value);
      expect(media.map((item) => item.target)).toEqual(['odd.mov']);
      expect(clips).toHaveLength(1);
    }
  expect(
    read({
      OTIO_SCHEMA: 'SerializableCollection.1',
      children: [{ OTIO_SCHEMA: 'Shelf.2', things: [clip1(odd, null)] }],
    }).clips,
  ).toHaveLength(1);
});

test('the clips of a timeline alone lie in a bin called after it; the project is not', () => {
  const document = read(timeline(track(clip1(external('a.mov'), null))));
  expect(document.name).toBe('');
  expect(document.bins).toEqual([{ key: 0, parent: null, name: 'Cut' }]);
  expect(document.clips).toEqual([{ bin: 0, name: 'c', media: 0 }]);
});

test('older names of schemas, newer versions, and references to objects written before', () => {
  const old = {
    OTIO_SCHEMA: 'SerializeableCollection.1',
    children: [
      {
        OTIO_SCHEMA: 'Timeline.9',
        tracks: {
          OTIO_SCHEMA: 'Stack.7',
          children: [
            {
              OTIO_SCHEMA: 'Sequence.1',
              kind: 'Audio',
              children: [
                { OTIO_SCHEMA: 'Filler.1', source_range: range(0, 5) },
                { ...clip1({ ...external('a.mov'), OTIO_REF_ID: 'r-1' }, range(0, 5)), OTIO_SCHEMA: 'Clip.4' },
                clip1({ OTIO_SCHEMA: 'SerializableObjectRef.1', id: 'r-1' }, range(50, 5)),
              ],
            },
          ],
        },
      },
    ],
  };
  const document = read(old);
  expect(document.timelines[0]).toMatchObject({ durationFrames: 15, uses: [{ sound: true }, { sound: true }] });
  expect(document.media).toHaveLength(1);
  const endless: Record<string, unknown> = {
    OTIO_SCHEMA: 'Stack.1',
    OTIO_REF_ID: 's',
    children: [{ OTIO_SCHEMA: 'SerializableObjectRef.1', id: 's' }],
  };
  expect(readOtio(JSON.stringify(timeline(endless)))).toMatchObject({ ok: false, trouble: { code: 'too_deep' } });
});

test('two missing references of one name and different ranges are two, and each is filled for itself', () => {
  const value = timeline(
    track(clip1(missing('A001', 0), null), clip1(missing('A001', 5000), null), clip1(missing('A001', 0), null)),
  );
  const document = read(value);
  expect(document.media.map((item) => [item.name, item.target])).toEqual([
    ['A001', null],
    ['A001', null],
  ]);
  const text = JSON.stringify(value);
  const out = relinkOtio(text, {
    file: () => null,
    sequence: () => null,
    missing: (name, available) => (name === 'A001' && available!.range.start === 5000 ? 'found.mov' : null),
  });
  expect(out.replaced).toBe(1);
  expect(read(JSON.parse(out.text)).media.map((item) => item.target)).toEqual([null, 'found.mov']);
});

test('relinking leaves the same text in what is noted alone, however deep that is nested', () => {
  const deep = `${'{"a":['.repeat(10_000)}"a.mov"${']}'.repeat(10_000)}`;
  const noted = { target_url: 'a.mov', media_reference: { OTIO_SCHEMA: 'ExternalReference.1', target_url: 'a.mov' } };
  const text = JSON.stringify(
    timeline(track(clip1({ ...external('a.mov'), metadata: noted }, null, { metadata: { deep: 'DEEP', noted } }))),
  ).replace('"DEEP"', deep);
  expect(readOtio(text)).toMatchObject({ ok: true, document: { media: [{ target: 'a.mov' }] } });
  const out = relinkOtio(text, { file: (url) => (url === 'a.mov' ? 'b.mov' : null), sequence: () => null });
  expect(out.replaced).toBe(1);
  expect(readOtio(out.text)).toMatchObject({ ok: true, document: { media: [{ target: 'b.mov' }] } });
});

test.each(['NaN', '-NaN', 'Infinity', '-Infinity', '1E5', '-0.5e-3'])(
  'what is read with %s in it, and with a mark of the byte order, is relinked as well',
  (number) => {
    const body = JSON.stringify(timeline(track(clip1(external('a.mov'), null, { metadata: { gain: 'X' } }))));
    for (const mark of ['', '\uFEFF']) {
      const text = mark + body.replace('"X"', number);
      const isRead = readOtio(text).ok;
      const out = relinkOtio(text, { file: () => 'b.mov', sequence: () => null });
      expect([isRead, out.replaced]).toEqual([true, 1]);
    }
  },
);

test('more stills than any sequence has are no number, with a note', () => {
  const document = read(timeline(track(clip1(sequence(120, range(0, 2e10, 120)), null))));
  expect(document.media[0]!.stills!.count).toBeNull();
  expect(document.notes).toHaveLength(1);
});

test.each([
  [
    { x: 0, y: 0 },
    { x: 1920, y: 1080 },
    { width: 1920, height: 1080 },
  ],
  [
    { x: -960, y: -540 },
    { x: 960, y: 540 },
    { width: 1920, height: 1080 },
  ],
  [{ x: 0, y: 0 }, { x: 16, y: 9 }, undefined],
  [{ x: -0.5, y: -0.5 }, { x: 0.5, y: 0.5 }, undefined],
  [{ x: 0, y: 0 }, { x: 1e300, y: '9' }, undefined],
  [null, { x: 1920, y: 1080 }, undefined],
])('bounds from %j to %j are a picture of %j: pixels only, they may be in any unit', (min, max, picture) => {
  const bounds = { OTIO_SCHEMA: 'Box2d.1', min, max };
  const document = read(timeline(track(clip1({ ...external('a.mov'), available_image_bounds: bounds }, null))));
  expect(document.media[0]!.picture).toEqual(picture);
});

describe('what is named where no clip of the standard names it', () => {
  const b = () => clip1(external('b.mov'), range(10, 20));
  const targets = (value: unknown) => {
    const document = read(value);
    const of = (key: number) => document.media[key]!.target;
    return {
      named: document.media.map((item) => item.target),
      shown: document.clips.map((clip) => clip.media !== null && of(clip.media)),
      whole: document.timelines[0]!.uses.filter((use) => use.range.duration === 0).map((use) => of(use.media)),
    };
  };
  const inTimeline = (...children: object[]) => timeline(track(b(), ...children));
  const other = external('a.mov');

  test.each<[string, object]>([
    ['a part of an unknown schema', inTimeline({ OTIO_SCHEMA: 'Fx.1', plate: other, source_range: range(0, 5) })],
    ['an effect', inTimeline(clip1(null, range(0, 1), { effects: [{ OTIO_SCHEMA: 'Effect.1', table: other }] }))],
    ['a marker', inTimeline(clip1(null, range(0, 1), { markers: [{ OTIO_SCHEMA: 'Marker.2', still: other }] }))],
    ['a generator', inTimeline(clip1({ OTIO_SCHEMA: 'GeneratorReference.1', parameters: { other } }, range(0, 1)))],
    ['a gap', inTimeline({ OTIO_SCHEMA: 'Gap.1', source_range: range(0, 5), media_reference: other })],
    ['references in a list', inTimeline({ OTIO_SCHEMA: 'Clip.2', name: 'x', media_references: [other] })],
    [
      'the reference of an older clip beside newer ones',
      timeline(track(clip2('b.mov', range(0, 5), { media_reference: other }))),
    ],
  ])('%s in a timeline: used by it, whole', (_what, value) => {
    const found = targets(value);
    expect(found.named).toContain('a.mov');
    expect(found.shown).toContain('a.mov');
    expect(found.whole).toEqual(['a.mov']);
    const out = relinkOtio(JSON.stringify(value), {
      file: (url) => (url === 'a.mov' ? 'c.mov' : null),
      sequence: () => null,
    });
    expect(out.replaced).toBe(1);
    expect(read(JSON.parse(out.text)).media.map((item) => item.target)).toContain('c.mov');
  });

  test.each<[string, object]>([
    ['a reference in a bin', other],
    ['a clip of an unknown schema in a bin', { OTIO_SCHEMA: 'Take.1', media_reference: other }],
  ])('%s is shown and used by none', (_what, member) => {
    const children = [timeline(track(b())), member];
    expect(targets({ OTIO_SCHEMA: 'SerializableCollection.1', name: 'x', children })).toEqual({
      named: ['b.mov', 'a.mov'],
      shown: ['b.mov', 'a.mov'],
      whole: [],
    });
  });

  test('what programs note for themselves names nothing', () => {
    expect(targets({ ...timeline(track(b())), metadata: { other } }).named).toEqual(['b.mov']);
  });

  test('a timeline that is one clip alone uses it; a text is a place; a place of nothing is missing media', () => {
    expect(uses({ ...timeline(), tracks: b() })).toEqual([[0, 10, 20]]);
    const text = read(timeline(track({ OTIO_SCHEMA: 'Clip.1', name: 'x', media_reference: 'a.mov' })));
    expect(text).toMatchObject({ media: [{ target: 'a.mov' }], notes: [{}] });
    expect(read(timeline(track(clip1(external(''), range(0, 4)))))).toMatchObject({
      media: [{ target: null }],
      notes: [{}],
    });
  });

  test.each([
    [{ OTIO_SCHEMA: 'SpeedRamp.1' }, true],
    [{ OTIO_SCHEMA: 'Effect.1', effect_name: 'Time Remap' }, true],
    [{ OTIO_SCHEMA: 'Effect.1', effect_name: 'Blur' }, false],
    [{ OTIO_SCHEMA: 'SpeedRamp.1', enabled: false }, false],
  ])('with %j on it the whole counts: %s', (effect, isWhole) => {
    const [use] = uses(timeline(track(clip1(external('a.mov'), range(10, 20), { effects: [effect] }))));
    expect(use![2] === 20).toBe(!isWhole);
  });
});
