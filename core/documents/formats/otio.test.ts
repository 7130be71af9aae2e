import { readOtio } from './otio.ts';
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
  expect(document.clips).toEqual([{ bin: 1, name: 'a.mov', media: 0 }]);
  expect(document.media.map((m) => m.targets)).toEqual([['a.mov'], ['b.mov']]);
  expect(document.timelines[0]).toMatchObject({ name: 'Cut', durationFrames: 32 });
  expect(document.timelines[0]!.uses.map((u) => [u.media, u.range.start, u.range.duration])).toEqual([
    [0, 10, 20],
    [1, 0, 7],
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
  expect(document.media.map((m) => m.targets)).toEqual([
    ['old.mov'],
    ['stills/f_0008.exr', 'stills/f_0010.exr', 'stills/f_0012.exr'],
    [],
  ]);
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
  ['{"OTIO_SCHEMA":"Timeline.1","tracks":7}', 'bad_value', '$.tracks'],
  [
    JSON.stringify(
      timeline(track(clip2('a', { OTIO_SCHEMA: 'TimeRange.1', start_time: time('x'), duration: time(3) }))),
    ),
    'bad_value',
    '$.tracks.children[0].children[0].source_range.start_time.value',
  ],
  [
    JSON.stringify(
      timeline(track(clip2('a', { OTIO_SCHEMA: 'TimeRange.1', start_time: time(0), duration: time(3, 0) }))),
    ),
    'bad_value',
    '$.tracks.children[0].children[0].source_range.duration.rate',
  ],
])('a broken document is told with its place: %s', (text, code, where) => {
  expect(readOtio(text)).toMatchObject({ ok: false, trouble: { code, where } });
});

test('nesting without end is refused, not followed', () => {
  let inner: object = track(clip2('a.mov', range(0, 1)));
  for (let i = 0; i < 300; i++) inner = { OTIO_SCHEMA: 'Stack.1', children: [inner] };
  expect(readOtio(JSON.stringify(timeline(inner)))).toMatchObject({ ok: false, trouble: { code: 'too_deep' } });
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
  const mounts = [
    { volumeId: volume, path: '/mnt/media' },
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
