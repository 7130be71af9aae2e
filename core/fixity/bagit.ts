// The tag files of a bag: written when an archive is sealed, read when it is checked or restored.
// Source: RFC 8493, The BagIt File Packaging Format (V1.0).
import { relativePath } from '../paths.ts';

export const BAG_DECLARATION = 'BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n';
export const PAYLOAD = 'data';
export const MANIFEST = 'manifest-sha512.txt';
export const TAG_MANIFEST = 'tagmanifest-sha512.txt';
/**
 * XXH64 of every payload file, as media hash lists have it. Not a manifest by the RFC's naming, whose algorithms are
 * registered: a tag file in the form that `xxhsum -c` reads.
 */
export const FAST_SUMS = 'xxh64sum.txt';
/** What older archives have in its place: XXH3 of 64 bits, padded to 32 digits. No tool reads it; SHA-512 stands for it. */
export const OLD_FAST_SUMS = 'xxh128sum.txt';

export interface ManifestEntry {
  path: string;
  hash: string;
}

/** A manifest's text, sorted by path: '<hash>  <path>' a line, as sha512sum and xxhsum read it. */
export function manifestText(entries: readonly ManifestEntry[]): string {
  return [...entries]
    .sort((a, b) => (a.path < b.path ? -1 : 1))
    .map((entry) => `${entry.hash}  ${encodePath(entry.path)}\n`)
    .join('');
}

const encodePath = (path: string) =>
  path.replace(/[%\r\n]/g, (c) => `%${c.charCodeAt(0).toString(16).toUpperCase().padStart(2, '0')}`);
const decodePath = (path: string) =>
  path.replace(/%(25|0A|0D)/gi, (_, hex: string) => String.fromCharCode(parseInt(hex, 16)));

export type ManifestReading =
  | { ok: true; entries: ManifestEntry[] }
  | { ok: false; trouble: { code: 'bad_line' | 'bad_path' | 'twice'; line: number; detail: string } };

/**
 * Reads a manifest.
 * @param hexDigits length of the hash: 128 for SHA-512, 16 for XXH64
 */
export function parseManifest(text: string, hexDigits: number): ManifestReading {
  const entries: ManifestEntry[] = [];
  const seen = new Set<string>();
  // A name may hold U+2028 and U+2029, which no dot stands for by itself.
  const pattern = new RegExp(`^([0-9a-fA-F]{${hexDigits}})[ \\t]+\\*?(.+)$`, 's');
  for (const [i, line] of text.split(/\r\n|\n|\r/).entries()) {
    if (line === '') continue;
    const match = pattern.exec(line);
    if (!match)
      return {
        ok: false,
        trouble: {
          code: 'bad_line',
          line: i + 1,
          detail: `not a checksum of ${hexDigits} hexadecimal digits and a path`,
        },
      };
    const checked = relativePath(decodePath(match[2]!));
    if (!checked.ok)
      return {
        ok: false,
        trouble: { code: 'bad_path', line: i + 1, detail: `the path is not inside the bag (${checked.trouble})` },
      };
    if (seen.has(checked.path))
      return { ok: false, trouble: { code: 'twice', line: i + 1, detail: `${checked.path} is listed twice` } };
    seen.add(checked.path);
    entries.push({ path: checked.path, hash: match[1]!.toLowerCase() });
  }
  return { ok: true, entries };
}

/** bag-info.txt: labels and values; line breaks in a value become spaces, so that no value can forge a label. */
export function bagInfoText(fields: readonly (readonly [label: string, value: string])[]): string {
  return fields.map(([label, value]) => `${label}: ${value.replace(/[\r\n]+/g, ' ').trim()}\n`).join('');
}

/** Payload-Oxum: bytes and files, the quick completeness check of RFC 8493, 2.2.2. */
export const payloadOxum = (bytes: number, files: number): string => `${bytes}.${files}`;
