// A media hash list as the field's own tools read it: which files there are, their sizes, times and sums, and a chain that
// knows every list by its C4 ID. Source: ASC Media Hash List, version 2.0; C4 ID, SMPTE ST 2114 (SHA-512 in base 58).
import { escaped } from '../wording/escape.ts';

export interface HashedFile {
  /** Below the folder that the list speaks of. */
  path: string;
  sizeBytes: number;
  modified: Date;
  /** 16 hexadecimal digits. */
  xxh64: string;
}

export interface HashList {
  /** Name of the folder. */
  folder: string;
  /** When its files were hashed. */
  at: Date;
  /** The machine that hashed them. */
  host: string;
  version: string;
  files: readonly HashedFile[];
}

const second = (at: Date): string => `${at.toISOString().slice(0, 19)}+00:00`;

/** The name that the standard gives the first list of a folder. */
export const hashListName = ({ folder, at }: Pick<HashList, 'folder' | 'at'>): string =>
  `0001_${folder}_${second(at).slice(0, 10)}_${second(at).slice(11, 19).replaceAll(':', '')}Z.mhl`;

export function hashListText({ at, host, version, files }: HashList): string {
  const sorted = [...files].sort((a, b) => (a.path < b.path ? -1 : 1));
  return [
    '<?xml version="1.0" encoding="UTF-8"?>',
    '<hashlist version="2.0" xmlns="urn:ASC:MHL:v2.0">',
    '  <creatorinfo>',
    `    <creationdate>${second(at)}</creationdate>`,
    `    <hostname>${escaped(host)}</hostname>`,
    `    <tool version="${escaped(version)}">Keramion</tool>`,
    '  </creatorinfo>',
    '  <processinfo>',
    '    <process>transfer</process>',
    '  </processinfo>',
    '  <hashes>',
    ...sorted.flatMap(({ path, sizeBytes, modified, xxh64 }) => [
      '    <hash>',
      `      <path size="${sizeBytes}" lastmodificationdate="${second(modified)}">${escaped(path)}</path>`,
      `      <xxh64 action="original" hashdate="${second(at)}">${xxh64}</xxh64>`,
      '    </hash>',
    ]),
    '  </hashes>',
    '</hashlist>',
    '',
  ].join('\n');
}

/** The chain of a folder with one list. @param sha512 of the list's text, hexadecimal */
export function chainText(name: string, sha512: string): string {
  return [
    '<?xml version="1.0" encoding="UTF-8"?>',
    '<ascmhldirectory xmlns="urn:ASC:MHL:DIRECTORY:v2.0">',
    '  <hashlist sequencenr="1">',
    `    <path>${escaped(name)}</path>`,
    `    <c4>${c4Of(sha512)}</c4>`,
    '  </hashlist>',
    '</ascmhldirectory>',
    '',
  ].join('\n');
}

const DIGITS = '123456789ABCDEFGHJKLMNPQRSTUVWXYZabcdefghijkmnopqrstuvwxyz';

/** "c4" and 88 digits of base 58. */
export function c4Of(sha512: string): string {
  let left = BigInt(`0x${sha512}`);
  let text = '';
  while (left > 0n) {
    text = DIGITS[Number(left % 58n)]! + text;
    left /= 58n;
  }
  return `c4${text.padStart(88, '1')}`;
}
