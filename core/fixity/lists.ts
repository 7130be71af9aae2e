// Lists of checksums that other programs left beside the files, read when a folder is taken into the catalogue: manifests of bags,
// media hash lists, and the lists that sum tools write. Sources: RFC 8493 (BagIt); ASC Media Hash List 2.0 and the 1.x lists before
// it; the output of sha256sum and its kin, plain and with --tag (GNU coreutils manual, "cksum output modes").
import { XMLParser, XMLValidator } from 'fast-xml-parser';
import { folderOf, joinPath, nameOf, relativePath } from '../paths.ts';

export const SUM_KINDS = ['md5', 'sha1', 'sha256', 'sha512', 'xxh64', 'c4'] as const;
export type SumKind = (typeof SUM_KINDS)[number];

const DIGITS: Record<Exclude<SumKind, 'c4'>, number> = { md5: 32, sha1: 40, sha256: 64, sha512: 128, xxh64: 16 };

/** What a list says of one file: lower case, but for C4. */
export interface ListedSum {
  /** Below the folder that is taken in. */
  path: string;
  kind: SumKind;
  sum: string;
}

export interface ListReading {
  sums: ListedSum[];
  /** What of it could not be read, for example a line that is no checksum; at most MOST_WRONG. */
  wrong: { where: string; detail: string }[];
}

export const MOST_WRONG = 20;
/** A list is small beside what it lists; what is larger is not read as one. */
export const LARGEST_LIST = 256 << 20;

const MANIFEST_NAME = /^(?:tag)?manifest-(md5|sha1|sha256|sha512)\.txt$/;
const SUMS_NAME = /^(md5|sha1|sha256|sha512)sums?(?:\.txt)?$/i;
const OWN_FAST_SUMS = /^xxh64sum\.txt$/;
const SUMS_ENDING = /\.(md5|sha1|sha256|sha512|xxh64)$/i;
const HASH_LIST = /\.mhl$/i;

/** Whether a file may be a list of checksums, by its name. */
export const isList = (at: string): boolean => sumKindOf(nameOf(at)) !== null || HASH_LIST.test(at);

function sumKindOf(name: string): SumKind | null {
  const found = MANIFEST_NAME.exec(name) ?? SUMS_NAME.exec(name) ?? SUMS_ENDING.exec(name);
  if (found) return found[1]!.toLowerCase() as SumKind;
  return OWN_FAST_SUMS.test(name) ? 'xxh64' : null;
}

/**
 * Reads a list.
 * @param at where it lies in the folder that is taken in; what it lists lies below its own folder, or beside the folder ascmhl
 */
export function readList(at: string, text: string): ListReading {
  const kind = sumKindOf(nameOf(at));
  return kind === null || kind === 'c4' ? readHashList(at, text) : readSums(at, text, kind);
}

class Collected {
  readonly sums: ListedSum[] = [];
  readonly wrong: ListReading['wrong'] = [];
  constructor(private readonly folder: string) {}

  get reading(): ListReading {
    return { sums: this.sums, wrong: this.wrong };
  }

  add(where: string, path: string, { kind, sum }: Omit<ListedSum, 'path'>): void {
    const checked = relativePath(path.replace(/^(?:\.\/)+/, ''));
    if (!checked.ok) return this.tell(where, `the path is not inside the folder (${checked.trouble})`);
    const isSum = kind === 'c4' ? /^c4[1-9A-HJ-NP-Za-km-z]{88}$/.test(sum) : isHex(sum, DIGITS[kind]);
    if (!isSum) return this.tell(where, `no checksum of the kind ${kind}`);
    this.sums.push({ path: joinPath(this.folder, checked.path), kind, sum: kind === 'c4' ? sum : sum.toLowerCase() });
  }

  tell(where: string, detail: string): void {
    if (this.wrong.length < MOST_WRONG) this.wrong.push({ where, detail });
  }
}

const isHex = (text: string, digits: number): boolean => text.length === digits && /^[0-9a-f]+$/i.test(text);

function readSums(at: string, text: string, kind: Exclude<SumKind, 'c4'>): ListReading {
  const found = new Collected(folderOf(at));
  const isBag = MANIFEST_NAME.test(nameOf(at));
  for (const [i, line] of text
    .replace(/^\uFEFF/, '')
    .split(/\r\n|\n|\r/)
    .entries()) {
    const trimmed = line.trim();
    if (trimmed === '' || /^[#;]/.test(trimmed)) continue;
    const where = `line ${i + 1}`;
    const tagged = /^[A-Z0-9-]+ ?\((.+)\) = ([0-9a-fA-F]+)$/s.exec(trimmed);
    if (tagged) {
      found.add(where, tagged[1]!, { kind, sum: tagged[2]! });
      continue;
    }
    const plain = /^(\\?)([0-9a-fA-F]+)(?:[ \t]+\*?(.+))?$/s.exec(line);
    if (!plain) {
      found.tell(where, 'not a checksum and a path');
      continue;
    }
    // A sum alone is of the file that the list is called after.
    const own = nameOf(at).replace(SUMS_ENDING, '');
    const path = isBag ? percentDecoded(plain[3] ?? '') : plain[1] ? unescaped(plain[3] ?? '') : (plain[3] ?? own);
    found.add(where, path, { kind, sum: plain[2]! });
  }
  return found.reading;
}

/** A bag's manifest encodes line ends and the percent sign alone. */
const percentDecoded = (path: string) =>
  path.replace(/%(25|0A|0D)/gi, (_, hex: string) => String.fromCharCode(parseInt(hex, 16)));

/** Names with line ends or backslashes, as GNU tools write them behind a backslash at the line's head. */
const unescaped = (path: string) => path.replace(/\\(n|r|\\)/g, (_, c: string) => ({ n: '\n', r: '\r' })[c] ?? '\\');

/** Elements of a hash and the sums they are; those of 1.x have names of their own. Others are sums that we do not make. */
const ELEMENTS: Record<string, SumKind> = {
  ...{ md5: 'md5', sha1: 'sha1', sha256: 'sha256', sha512: 'sha512' },
  ...{ xxh64: 'xxh64', xxhash64be: 'xxh64', c4: 'c4' },
};

type Node = Record<string, unknown>;
const asList = (value: unknown): unknown[] => (Array.isArray(value) ? value : value === undefined ? [] : [value]);
const textOf = (value: unknown): string =>
  typeof value === 'object' && value !== null ? String((value as Node)['#text'] ?? '') : String(value ?? '');

function readHashList(at: string, text: string): ListReading {
  const folder = folderOf(at);
  const found = new Collected(nameOf(folder) === 'ascmhl' ? folderOf(folder) : folder);
  if (/<!(DOCTYPE|ENTITY)/i.test(text)) {
    found.tell('its head', 'it declares a document type, which no media hash list has');
    return found.reading;
  }
  const valid = XMLValidator.validate(text);
  if (valid !== true) {
    found.tell(`line ${valid.err.line}`, valid.err.msg.replace(/\.$/, ''));
    return found.reading;
  }
  const parser = new XMLParser({
    ignoreAttributes: false,
    parseTagValue: false,
    parseAttributeValue: false,
    trimValues: false,
  });
  const list = (parser.parse(text) as Node).hashlist as Node | undefined;
  // The hashes of 2.0 lie in an element of their own, those of 1.x in the list itself.
  const hashes = [...asList((list?.hashes as Node | undefined)?.hash), ...asList(list?.hash)] as Node[];
  for (const [i, hash] of hashes.entries()) {
    const path = textOf(hash.path ?? hash.file).replace(/^[\r\n]\s*|[\r\n]\s*$/g, '');
    for (const [element, kind] of Object.entries(ELEMENTS))
      for (const one of asList(hash[element])) {
        // What did not match when it was written proves nothing.
        if (typeof one === 'object' && (one as Node)['@_action'] === 'failed') continue;
        found.add(`hash ${i + 1}`, path, { kind, sum: textOf(one).trim() });
      }
  }
  if (hashes.length === 0) found.tell('its head', 'it lists nothing');
  return found.reading;
}
