import fc from 'fast-check';
import { nameBy, patternTrouble, placeNames, portableName, type Wish } from './names.ts';

const name = fc.oneof(
  fc.constantFrom('A.mov', 'a.mov', 'a~2.mov', 'é.wav', 'e\u0301.wav', '.', '..', 'con', 'x%y', 'tab\tname', ' end. '),
  fc.string({ maxLength: 12 }),
);

test('names are portable, whatever they were', () => {
  fc.assert(
    fc.property(fc.oneof(name, fc.string({ minLength: 200, maxLength: 400, unit: 'grapheme' })), (text) => {
      const out = portableName(text);
      expect(out).not.toMatch(/[\u0000-\u001f\u007f<>:"/\\|?*%]/);
      expect(out).not.toMatch(/[. ]$/);
      expect(Buffer.byteLength(out)).toBeLessThanOrEqual(255);
      expect(out).toBe(out.normalize('NFC'));
      expect(['', '.', '..']).not.toContain(out);
      expect(portableName(out)).toBe(out);
    }),
  );
});

test('no two files share a path even where case or form is ignored, none takes the path of a folder, and the order given does not matter', () => {
  fc.assert(
    fc.property(fc.array(fc.record({ folder: fc.array(name, { maxLength: 2 }), name }), { maxLength: 12 }), (given) => {
      const wishes: Wish<number>[] = given.map((wish, key) => ({ key, ...wish, order: String(key).padStart(3, '0') }));
      const placed = placeNames(wishes);
      const fold = (path: string) => path.normalize('NFC').toLowerCase();
      const paths = [...placed.values()].map(fold);
      expect(new Set(paths).size).toBe(wishes.length);
      for (const path of paths) for (const other of paths) expect(other.startsWith(`${path}/`)).toBe(false);
      expect(placeNames([...wishes].reverse())).toEqual(placed);
    }),
  );
});

test('of two alike, the lower order keeps its name and the other is numbered before its ending', () => {
  const placed = placeNames([
    { key: 'b', folder: ['m'], name: 'A.mov', order: '2' },
    { key: 'a', folder: ['m'], name: 'a.mov', order: '1' },
  ]);
  expect(Object.fromEntries(placed)).toEqual({ a: 'm/a.mov', b: 'm/A~2.mov' });
});

test('a name that nobody else has is kept, also where another would be numbered to it', () => {
  const placed = placeNames([
    { key: 'a', folder: ['m'], name: 'A.mov', order: '1' },
    { key: 'b', folder: ['m'], name: 'a.mov', order: '2' },
    { key: 'c', folder: ['m'], name: 'A~2.mov', order: '3' },
    { key: 'd', folder: [], name: 'm', order: '4' },
    { key: 'e', folder: ['m'], name: 'a.xml', order: '0', follows: { key: 'b', name: 'a.mov' } },
  ]);
  expect(Object.fromEntries(placed)).toEqual({
    ...{ a: 'm/A.mov', b: 'm/a~3.mov', c: 'm/A~2.mov', d: 'm~2', e: 'm/a~3.xml' },
  });
});

test('names by a pattern keep their endings, and what is not there is the name of the file', () => {
  const of = (pattern: string, clip: string | null = 'Take 3', bin: string | null = 'Deck') =>
    nameBy(pattern, { name: 'A001.mov', clip, bin });
  expect(of('{file}')).toBe('A001.mov');
  expect(of('{clip}')).toBe('Take 3.mov');
  expect(of('{bin}_{clip} ({file})')).toBe('Deck_Take 3 (A001).mov');
  expect(of('{clip}', 'Take 3.MOV')).toBe('Take 3.mov');
  expect(of('{bin}-{clip}', null, null)).toBe('A001-A001.mov');
  expect(nameBy('{clip}', { name: 'no ending', clip: 'named', bin: null })).toBe('named');
  expect(patternTrouble('{clip}')).toBeNull();
  expect(patternTrouble('{bin}')).toBe('A pattern for names has {file} or {clip} in it.');
  expect(patternTrouble('{file}{year}')).toBe('A pattern for names knows {file}, {clip} and {bin}, not {year}.');
  expect(patternTrouble(`{file}${'x'.repeat(100)}`)).toBe('A pattern for names has at most 100 letters.');
});
