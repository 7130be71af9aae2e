import { createHash } from 'node:crypto';
import { XMLParser } from 'fast-xml-parser';
import { c4Of, chainText, hashListName, hashListText } from './mhl.ts';

test('the C4 ID of nothing is the one that the standard gives', () => {
  const nothing = createHash('sha512').update('').digest('hex');
  expect(c4Of(nothing)).toBe(
    'c459dsjfscH38cYeXXYogktxf4Cd9ibshE3BHUo6a58hBXmRQdZrAkZzsWcbWtDg5oQstpDuni4Hirj75GEmTc1sFT',
  );
  expect(c4Of('0'.repeat(128))).toBe(`c4${'1'.repeat(88)}`);
});

test('a list says of every file its place, size, time and sum, whatever its name', () => {
  const at = new Date('2026-11-20T08:09:10.500Z');
  const files = [
    {
      path: 'data/media/b & <ü>.mov',
      sizeBytes: 5,
      modified: new Date('2026-01-02T03:04:05Z'),
      xxh64: '00112233445566aa',
    },
    { path: 'data/a.wav', sizeBytes: 0, modified: at, xxh64: 'ef46db3751d8e999' },
  ];
  const text = hashListText({ folder: 'fog_1', at, host: 'loft "1"', version: '1.0', files });
  const parser = new XMLParser({ ignoreAttributes: false, parseTagValue: false });
  const list = (
    parser.parse(text) as {
      hashlist: { hashes: { hash: { path: Record<string, string>; xxh64: Record<string, string> }[] } };
    }
  ).hashlist;
  expect(list.hashes.hash.map((one) => [one.path['#text'], one.path['@_size'], one.xxh64['#text']])).toEqual([
    ['data/a.wav', '0', 'ef46db3751d8e999'],
    ['data/media/b & <ü>.mov', '5', '00112233445566aa'],
  ]);
  expect(list.hashes.hash[1]!.path['@_lastmodificationdate']).toBe('2026-01-02T03:04:05+00:00');
  const name = hashListName({ folder: 'fog_1', at });
  expect(name).toBe('0001_fog_1_2026-11-20_080910Z.mhl');
  expect(chainText(name, createHash('sha512').update(text).digest('hex'))).toContain(`<path>${name}</path>`);
});
