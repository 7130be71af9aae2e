import fc from 'fast-check';
import { nextVersion, supersededBy, versionOf } from './versions.ts';

test.each([
  ['night-ferry_final.otio', 'night-ferry_final', 0],
  ['night-ferry v12.otio', 'night-ferry', 12],
  ['Cut_V003.OTIO', 'Cut', 3],
  ['reel 2.otio', 'reel 2', 0],
  ['v2.otio', 'v2', 0],
])('%s is %s in version %i', (name, stem, version) => {
  expect(versionOf(name)).toMatchObject({ stem, version });
});

test('the next version follows the highest that is there, in the way the name is written', () => {
  expect(nextVersion('cut.otio', [])).toBe('cut v2.otio');
  expect(nextVersion('cut.otio', ['cut v2.otio', 'cut v7.otio', 'other v9.otio'])).toBe('cut v8.otio');
  expect(nextVersion('cut_v3.otio', ['cut_v4.otio'])).toBe('cut_v5.otio');
});

const file = (id: number, name: string, more: object = {}) => ({
  id,
  name,
  place: 'p',
  modifiedUs: id,
  gone: false,
  ...more,
});

test('the newest version counts; one that is gone takes nobody’s place', () => {
  expect([...supersededBy([file(1, 'a.otio'), file(2, 'a v2.otio'), file(3, 'b.otio')])]).toEqual([[1, 2]]);
  expect([...supersededBy([file(1, 'a.otio'), file(2, 'a v2.otio', { gone: true })])]).toEqual([[2, 1]]);
  expect([...supersededBy([file(1, 'a.otio'), file(2, 'a v2.otio', { place: 'q' })])]).toEqual([]);
});

test('every document is superseded at most once, by one that is not, and the next name is free', () => {
  const name = fc
    .tuple(fc.constantFrom('a', 'B', 'b'), fc.integer({ min: 0, max: 5 }))
    .map(([s, v]) => (v ? `${s} v${v}.otio` : `${s}.otio`));
  fc.assert(
    fc.property(fc.array(name, { minLength: 1 }), (names) => {
      const superseded = supersededBy(names.map((one, i) => file(i, one)));
      for (const by of superseded.values()) expect(superseded.has(by)).toBe(false);
      expect(names).not.toContain(nextVersion(names[0]!, names));
    }),
  );
});
