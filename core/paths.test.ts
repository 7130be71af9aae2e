import fc from 'fast-check';
import { endingOf, folderOf, joinPath, liesIn, nameOf, relativePath, resolveInside, utf8Length } from './paths.ts';

const segment = fc.oneof(fc.constantFrom('..', '.', '', 'a', 'b c', 'ü'), fc.string({ maxLength: 6 }));

test('no text resolves to a path outside, whatever it says', () => {
  fc.assert(
    fc.property(fc.array(segment, { maxLength: 8 }), fc.array(segment, { maxLength: 8 }), (folder, reference) => {
      const from = relativePath(folder.join('/'));
      const resolved = resolveInside(from.ok ? from.path : '', reference.join('/'));
      if (resolved === null) return;
      expect(resolved.startsWith('/')).toBe(false);
      expect(resolved.split('/')).not.toContain('..');
      expect(relativePath(resolved)).toEqual({ ok: true, path: resolved });
    }),
  );
});

test('climbing, absolute, empty and impossible paths each have their reason', () => {
  expect(relativePath('../a')).toEqual({ ok: false, trouble: 'climbs' });
  expect(relativePath('a/../b')).toEqual({ ok: false, trouble: 'climbs' });
  expect(relativePath('/a')).toEqual({ ok: false, trouble: 'absolute' });
  expect(relativePath('./')).toEqual({ ok: false, trouble: 'empty' });
  expect(relativePath('a\0b')).toEqual({ ok: false, trouble: 'nul' });
  expect(relativePath('a/'.repeat(2048) + 'abc')).toEqual({ ok: false, trouble: 'too long' });
  expect(relativePath('a//b/./c/')).toEqual({ ok: true, path: 'a/b/c' });
});

test('folder, name, ending and nesting', () => {
  expect([folderOf('a/b/c'), folderOf('c'), nameOf('a/b/c'), joinPath('', 'a'), joinPath('a', 'b')]).toEqual([
    'a/b',
    '',
    'c',
    'a',
    'a/b',
  ]);
  expect([endingOf('A.MOV'), endingOf('.hidden'), endingOf('none'), endingOf('a.b.wav')]).toEqual([
    'mov',
    '',
    '',
    'wav',
  ]);
  expect([liesIn('a/b', 'a'), liesIn('ab', 'a'), liesIn('a', 'a'), liesIn('x', '')]).toEqual([true, false, true, true]);
});

test('byte lengths are those of UTF-8', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'binary' }), (text) =>
      expect(utf8Length(text)).toBe(Buffer.byteLength(text, 'utf8')),
    ),
  );
});
