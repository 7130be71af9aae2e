import fc from 'fast-check';
import { bagInfoText, manifestText, parseManifest } from './bagit.ts';
import { relativePath } from '../paths.ts';

const hash = fc
  .array(fc.integer({ min: 0, max: 255 }), { minLength: 16, maxLength: 16 })
  .map((bytes) => Buffer.from(bytes).toString('hex'));
const path = fc
  .string({ minLength: 1, maxLength: 30, unit: 'binary' })
  .map((text) => relativePath(`data/x${text.replaceAll('..', '')}`))
  .filter((p) => p.ok)
  .map((p) => (p.ok ? p.path : ''));

test('a manifest written is the manifest read, whatever the names', () => {
  fc.assert(
    fc.property(fc.uniqueArray(fc.record({ path, hash }), { selector: (e) => e.path, maxLength: 20 }), (entries) => {
      const read = parseManifest(manifestText(entries), 32);
      const sorted = [...entries].sort((a, b) => (a.path < b.path ? -1 : 1));
      expect(read).toEqual({ ok: true, entries: sorted });
    }),
  );
});

test('a name with a line separator of Unicode is a name', () => {
  const entries = ['data/a\u2028b', 'data/c\u2029', 'data/d\u0085e'].map((one) => ({
    path: one,
    hash: '0'.repeat(32),
  }));
  expect(parseManifest(manifestText(entries), 32)).toEqual({ ok: true, entries });
});

test('a wrong line is told with its number', () => {
  const good = `${'0'.repeat(32)}  data/a\n`;
  expect(parseManifest(`${good}oops\n`, 32)).toMatchObject({ ok: false, trouble: { code: 'bad_line', line: 2 } });
  expect(parseManifest(`${good}${'0'.repeat(31)}  data/b\n`, 32)).toMatchObject({ ok: false, trouble: { line: 2 } });
  expect(parseManifest(`${good}${good}`, 32)).toMatchObject({ ok: false, trouble: { code: 'twice', line: 2 } });
  for (const bad of ['../../etc/passwd', '/etc/passwd', 'data/../../x'])
    expect(parseManifest(`${'0'.repeat(32)}  ${bad}\n`, 32)).toMatchObject({
      ok: false,
      trouble: { code: 'bad_path', line: 1 },
    });
});

test('a value in bag-info cannot forge a label', () => {
  expect(bagInfoText([['External-Description', 'a\nPayload-Oxum: 1.1']])).toBe(
    'External-Description: a Payload-Oxum: 1.1\n',
  );
});
