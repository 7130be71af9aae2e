import fc from 'fast-check';
import {
  ENCODED,
  type EncodedFacts,
  encodedName,
  encodingOf,
  ENCODINGS,
  type Encodings,
  encodingsFrom,
  encodingsText,
  guessedBytes,
  whyAsItIs,
} from './encoding.ts';

const FILM: EncodedFacts = {
  ...{ format: 'mov', frames: 250, rate: { num: 25, den: 1 }, isSound: false, width: 1920, height: 1080 },
  ...{ channels: 2, sampleRate: 48_000 },
};
const PLAIN = { name: 'a.mov', isStill: false, isSpanned: false, relinks: true };

test('what is asked for by kind is read back as it was written, in whatever order', () => {
  const asked = fc.uniqueArray(fc.tuple(fc.constantFrom(...ENCODED), fc.constantFrom(...ENCODINGS)), {
    selector: ([part]) => part,
  });
  fc.assert(
    fc.property(asked, (pairs) => {
      const encodings = Object.fromEntries(pairs) as Encodings;
      expect(encodingsFrom(encodingsText(encodings))).toEqual(encodings);
      expect(
        encodingsFrom(
          [...pairs]
            .reverse()
            .map((pair) => pair.join(':'))
            .join(','),
        ),
      ).toEqual(encodings);
    }),
  );
  expect(encodingsFrom('cache:lossless,used,render:shouted,:viewing')).toEqual({});
});

test('what timelines use is asked for as that, and all else as the part that it is', () => {
  const encode: Encodings = { used: 'lossless', render: 'viewing' };
  expect(encodingOf(encode, { used: true, asked: 'render' })).toBe('lossless');
  expect(encodingOf(encode, { used: false, asked: 'render' })).toBe('viewing');
  expect(encodingOf(encode, { used: false, asked: 'cache' })).toBeNull();
  expect(encodingOf(encode, { used: false })).toBeNull();
});

test('what is known of a film says whether it is tried; of what nothing is known its name does', () => {
  expect(whyAsItIs(FILM, PLAIN)).toBeNull();
  expect(whyAsItIs(null, PLAIN)).toBeNull();
  expect(whyAsItIs(null, { ...PLAIN, name: 'mix.WAV' })).toBeNull();
  expect(whyAsItIs(null, { ...PLAIN, name: 'notes.txt' })).toContain('no film');
  expect(whyAsItIs({ ...FILM, format: 'dpx' }, PLAIN)).toContain('no film');
  expect(whyAsItIs({ ...FILM, frames: null }, PLAIN)).toContain('no film');
  expect(whyAsItIs(FILM, { ...PLAIN, isStill: true })).toContain('still');
  expect(whyAsItIs(FILM, { ...PLAIN, isSpanned: true })).toContain('pieces');
  expect(whyAsItIs(FILM, { ...PLAIN, relinks: false })).toContain('document');
});

test('the name says what it was before; sizes follow pictures, length and channels', () => {
  expect(encodedName('a.mov', 'lossless', false)).toBe('a.mov.mkv');
  expect(encodedName('a.wav', 'lossless', true)).toBe('a.wav.mka');
  expect(encodedName('a.mov', 'viewing', false)).toBe('a.mov.mp4');
  const lossless = guessedBytes(FILM, 1, 'lossless');
  expect(guessedBytes({ ...FILM, frames: 500 }, 1, 'lossless')).toBe(2 * lossless);
  expect(guessedBytes(FILM, 1, 'viewing')).toBeLessThan(lossless / 50);
  expect(guessedBytes(null, 1000, 'lossless')).toBe(1000);
  expect(guessedBytes(null, 1000, 'viewing')).toBe(100);
});
