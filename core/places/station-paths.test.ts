import fc from 'fast-check';
import { insideOf, pathOn, styleOf } from './station-paths.ts';

const inside = fc
  .array(
    fc.stringMatching(/^[\w éü.-]{1,6}$/).filter((s) => !/^\.+$/.test(s)),
    { maxLength: 4 },
  )
  .map((parts) => parts.join('/'));
const mount = fc.constantFrom(
  '/mnt/ropewalk',
  '/Volumes/Ropewalk',
  'R:',
  'R:\\',
  'r:/media',
  '\\\\store\\ropewalk',
  '\\\\store\\ropewalk\\media\\',
);

test('what a station calls a file is understood again as the same file', () => {
  fc.assert(fc.property(mount, inside, (at, file) => expect(insideOf(at, pathOn(at, file))).toBe(file)));
});

test('each station has its own syntax', () => {
  expect(pathOn('/mnt/ropewalk/', 'a/b c.mov')).toBe('/mnt/ropewalk/a/b c.mov');
  expect(pathOn('R:', 'a/b.mov')).toBe('R:\\a\\b.mov');
  expect(pathOn('R:\\', '')).toBe('R:\\');
  expect(pathOn('\\\\store\\ropewalk', 'a/b.mov')).toBe('\\\\store\\ropewalk\\a\\b.mov');
  expect(pathOn('/', '')).toBe('/');
});

test('a neighbour with a longer name is not on the volume, and case counts only where it does', () => {
  expect(insideOf('/mnt/rope', '/mnt/ropewalk/a')).toBeNull();
  expect(insideOf('/mnt/rope', '/MNT/rope/a')).toBeNull();
  expect(insideOf('/mnt/rope', '/MNT/rope/A', true)).toBe('A');
  expect(insideOf('/mnt/b\u00fccher', '/mnt/bu\u0308cher/x')).toBe('x');
  expect(insideOf('\\\\store\\rope', '//store/rope/x')).toBe('x');
  expect(insideOf('R:\\Media', 'r:/media/A.mov')).toBe('A.mov');
  expect(insideOf('\\\\Store\\Rope', '\\\\STORE\\rope\\x\\y')).toBe('x/y');
  expect(insideOf('R:', '/mnt/a')).toBeNull();
});

test('what is no full path has no syntax', () => {
  expect(['', 'relative/path', 'RR:\\x', '\\\\store', '//store', 'C:x'].map(styleOf)).toEqual([
    null,
    null,
    null,
    null,
    null,
    null,
  ]);
});
