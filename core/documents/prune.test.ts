import fc from 'fast-check';
import { readOtio } from './formats/otio.ts';
import { pruneOtio } from './prune.ts';

const clip = (url: string | null, name = 'a clip') => ({
  OTIO_SCHEMA: 'Clip.1',
  name,
  metadata: { children: [{ OTIO_SCHEMA: 'Timeline.1', name: 'no' }], target_url: 'noted' },
  media_reference: url === null ? null : { OTIO_SCHEMA: 'ExternalReference.1', target_url: url },
});
const timeline = (name: string, ...urls: string[]) => ({
  tracks: {
    OTIO_SCHEMA: 'Stack.1',
    children: [{ OTIO_SCHEMA: 'Track.1', kind: 'Video', children: urls.map((url) => clip(url)) }],
  },
  name,
  OTIO_SCHEMA: 'Timeline.1',
});
const bin = (name: string, ...children: object[]) => ({ OTIO_SCHEMA: 'SerializableCollection.1', name, children });

const keeps = {
  keepsTimeline: (name: string) => name === 'yes',
  keepsClip: (urls: readonly string[]) => urls.includes('in'),
};
const prune = (document: object) => JSON.parse(pruneOtio(JSON.stringify(document), keeps)) as object;

test('timelines that were not chosen go, and clips in bins whose media stays behind; timelines stay whole', () => {
  expect(
    prune(
      bin(
        'all',
        timeline('no', 'in'),
        bin(
          'rushes',
          clip('out'),
          clip('in'),
          clip(null, 'bars'),
          bin('deeper', timeline('yes', 'in', 'out'), clip('out')),
        ),
        bin('empty', clip('out')),
        timeline('yes', 'out'),
      ),
    ),
  ).toEqual(
    bin(
      'all',
      bin('rushes', clip('in'), clip(null, 'bars'), bin('deeper', timeline('yes', 'in', 'out'))),
      bin('empty'),
      timeline('yes', 'out'),
    ),
  );
});

test('a document that is one timeline stays, and so does what nobody knows', () => {
  expect(prune(timeline('no', 'out'))).toEqual(timeline('no', 'out'));
  const odd = { ...bin('all'), children: [null, clip('out')] };
  expect(prune(odd)).toEqual(odd);
  const unknown = bin('all', { OTIO_SCHEMA: 'Marker.9', name: 'no' }, clip('out'));
  expect(prune(unknown)).toEqual(bin('all', { OTIO_SCHEMA: 'Marker.9', name: 'no' }));
  expect(pruneOtio('{"OTIO_SCHEMA": "SerializableCollection.1", "children": [], "x": NaN}', keeps)).toContain('NaN');
});

test('bins nested to any depth do not end it', () => {
  let inner: string = JSON.stringify(timeline('yes', 'in'));
  for (let i = 0; i < 20_000; i++) inner = `{"OTIO_SCHEMA":"SerializableCollection.1","children":[${inner}]}`;
  expect(pruneOtio(inner, keeps)).toBe(inner);
});

test('whatever is chosen, what is left reads as the same timelines, in their order', () => {
  const member = fc.oneof(
    fc.constantFrom('in', 'out').map((url) => clip(url)),
    fc
      .tuple(fc.constantFrom('yes', 'no'), fc.array(fc.constantFrom('in', 'out'), { maxLength: 3 }))
      .map(([name, urls]) => timeline(name, ...urls)),
  );
  const bins = fc.letrec((tie) => ({
    bin: fc
      .tuple(fc.string({ maxLength: 5 }), fc.array(fc.oneof({ maxDepth: 3 }, member, tie('bin')), { maxLength: 4 }))
      .map(([name, children]) => bin(name, ...(children as object[]))),
  })).bin;
  fc.assert(
    fc.property(bins, fc.constantFrom(0, 2), (document, indent) => {
      const text = JSON.stringify(document, null, indent);
      const before = readOtio(text);
      const after = readOtio(pruneOtio(text, keeps));
      // A document without any timeline or clip is none.
      fc.pre(before.ok && before.document.timelines.some(({ name }) => name === 'yes'));
      if (!before.ok || !after.ok) throw new Error('It cannot be read.');
      const shapes = (one: typeof before) =>
        one.document.timelines.map(({ name, uses }) => ({ name, uses: uses.length }));
      expect(shapes(after)).toEqual(shapes(before).filter(({ name }) => name === 'yes'));
    }),
  );
});
