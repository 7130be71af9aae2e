import { createHash } from 'node:crypto';
import fc from 'fast-check';
import { isList, LARGEST_LIST, MOST_WRONG, readList } from './lists.ts';
import { hashListText } from './mhl.ts';

const md5 = (text: string) => createHash('md5').update(text).digest('hex');
const sha1 = (text: string) => createHash('sha1').update(text).digest('hex');
const A = md5('a');
const B = md5('b');

test.each([
  ['manifest-sha256.txt', true],
  ['tagmanifest-md5.txt', true],
  ['card/MD5SUMS', true],
  ['card/sha256sum.txt', true],
  ['card/a.mov.md5', true],
  ['card/A001.mhl', true],
  ['xxh64sum.txt', true],
  ['card/md5.mov', false],
  ['notes.txt', false],
  ['manifest-crc32.txt', false],
])('%s is a list by its name: %s', (name, is) => expect(isList(name)).toBe(is));

test('sum tools write a sum and a path, plain, with a star, tagged, escaped, and from another system', () => {
  const text = [
    `\uFEFF${A}  a.mov`,
    `${B.toUpperCase()} *sub/b.mov`,
    `MD5 (c (2).mov) = ${A}`,
    `\\${B}  odd\\\\name\\n.mov`,
    `# made by hand`,
    `; and a word`,
    '',
    `${A}  ./d.mov`,
    `${A}  e\u2028f.mov`,
  ].join('\r\n');
  expect(readList('card/list.md5', text)).toEqual({
    sums: [
      { path: 'card/a.mov', kind: 'md5', sum: A },
      { path: 'card/sub/b.mov', kind: 'md5', sum: B },
      { path: 'card/c (2).mov', kind: 'md5', sum: A },
      { path: 'card/odd\\name\n.mov', kind: 'md5', sum: B },
      { path: 'card/d.mov', kind: 'md5', sum: A },
      { path: 'card/e\u2028f.mov', kind: 'md5', sum: A },
    ],
    wrong: [],
  });
});

test('a sum alone is of the file that the list is called after', () => {
  expect(readList('card/a.mov.md5', `${A}\n`).sums).toEqual([{ path: 'card/a.mov', kind: 'md5', sum: A }]);
});

test('a manifest of a bag encodes line ends and the percent sign', () => {
  expect(readList('bag/manifest-md5.txt', `${A}  data/100%25 a%0Ab.mov\n`).sums).toEqual([
    { path: 'bag/data/100% a\nb.mov', kind: 'md5', sum: A },
  ]);
});

test('what leads out of the folder, has another length or is no sum is told and never looked for', () => {
  const { sums, wrong } = readList(
    'list.sha1',
    [`${sha1('a')}  ../a.mov`, `${sha1('a')}  /etc/passwd`, `${A}  a.mov`, 'hello'].join('\n'),
  );
  expect(sums).toEqual([]);
  expect(wrong.map(({ where }) => where)).toEqual(['line 1', 'line 2', 'line 3', 'line 4']);
});

const HEAD = '<?xml version="1.0" encoding="UTF-8"?>';

test('media hash lists of 2.0 and 1.x are read; what failed when it was written proves nothing', () => {
  const two = `${HEAD}<hashlist version="2.0" xmlns="urn:ASC:MHL:v2.0"><hashes>
    <hash><path size="1">Clips/a &amp; b.mov</path><md5 action="original">${A}</md5><xxh64 action="failed">0011223344556677</xxh64></hash>
    <hash><path>
      c.mov
    </path><c4>c4${'1'.repeat(88)}</c4></hash></hashes></hashlist>`;
  expect(readList('card/ascmhl/0001_card.mhl', two)).toEqual({
    sums: [
      { path: 'card/Clips/a & b.mov', kind: 'md5', sum: A },
      { path: 'card/c.mov', kind: 'c4', sum: `c4${'1'.repeat(88)}` },
    ],
    wrong: [],
  });
  const one = `${HEAD}<hashlist version="1.1"><hash><file>a.mov</file><size>1</size><xxhash64be>EF46DB3751D8E999</xxhash64be></hash></hashlist>`;
  expect(readList('card/card.mhl', one).sums).toEqual([{ path: 'card/a.mov', kind: 'xxh64', sum: 'ef46db3751d8e999' }]);
});

test('a list of ours with many odd names is read whole', () => {
  const at = new Date('2026-01-02T03:04:05Z');
  const files = Array.from({ length: 3000 }, (_, i) => ({
    ...{ path: `a & <${i}> "ü".mov`, sizeBytes: i, modified: at },
    xxh64: i.toString(16).padStart(16, '0'),
  }));
  const { sums, wrong } = readList(
    'card/ascmhl/1.mhl',
    hashListText({ folder: 'card', at, host: 'loft', version: '1', files }),
  );
  expect(wrong).toEqual([]);
  expect(new Map(sums.map(({ path, sum }) => [path, sum]))).toEqual(
    new Map(files.map(({ path, xxh64 }) => [`card/${path}`, xxh64])),
  );
});

test('what is no hash list, or declares what it should not, says so and lists nothing', () => {
  for (const text of ['', 'hello', `${HEAD}<hashlist/>`, `${HEAD}<!DOCTYPE x [<!ENTITY a "b">]><hashlist/>`, '<a>']) {
    const { sums, wrong } = readList('card.mhl', text);
    expect([sums.length, wrong.length]).toEqual([0, 1]);
  }
});

test('whatever a list says, nothing it gives leads out of its folder, and it never throws', () => {
  const line = fc.oneof(
    fc.string(),
    fc.tuple(fc.constantFrom(A, B, 'zz'), fc.string()).map(([sum, path]) => `${sum}  ${path}`),
    fc.tuple(fc.string(), fc.constantFrom(A, 'q')).map(([path, sum]) => `MD5 (${path}) = ${sum}`),
  );
  fc.assert(
    fc.property(
      fc.array(line),
      fc.constantFrom('c/x.md5', 'c/manifest-md5.txt', 'c/MD5SUMS', 'c/x.mhl'),
      (lines, at) => {
        const { sums, wrong } = readList(at, lines.join('\n'));
        expect(wrong.length).toBeLessThanOrEqual(MOST_WRONG);
        for (const { path } of sums) {
          expect(path.startsWith('c/')).toBe(true);
          expect(path.split('/')).not.toContain('..');
        }
      },
    ),
  );
  expect(LARGEST_LIST).toBeLessThan(2 ** 31);
});
