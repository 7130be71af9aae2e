// The labels and the index of a tape as the Linear Tape File System has them (ISO/IEC 20919; incremental indexes as in its
// version 2.5): which files there are, and in which blocks of which partition the bytes of each lie.
import { XMLBuilder, XMLParser } from 'fast-xml-parser';

export const LTFS_VERSION = '2.5.0';
export const INDEX_PARTITION = 'a';
export const DATA_PARTITION = 'b';
export type Partition = typeof INDEX_PARTITION | typeof DATA_PARTITION;
export const BLOCK_BYTES = 512 << 10;
const OWN = 'Keramion ';
const CREATOR = `${OWN}0.1.0 - Linux`;

export interface Extent {
  /** In which partition; left out: with the data. Others keep small files beside the index. */
  partition?: typeof INDEX_PARTITION;
  /** Where its first byte lies in the file. */
  fileOffset: number;
  startBlock: number;
  /** Where its first byte lies in that block. */
  byteOffset: number;
  bytes: number;
}

export interface TapeFile {
  sizeBytes: number;
  modifiedMs: number;
  uid: number;
  extents: readonly Extent[];
}

export interface TapeIndex {
  volume: string;
  generation: number;
  /** Where it lies itself. */
  at: { partition: Partition; block: number };
  /** Where the one before it lies, in either partition; null for the first. */
  before: { partition: Partition; block: number } | null;
  /** By path, without a leading slash. */
  files: Map<string, TapeFile>;
  /** Folders that hold nothing. */
  empty: Set<string>;
  /** What is no plain file, such as a link, or has a name that is none here; left out where there is none. */
  odd?: Set<string>;
  /** Somebody else wrote it, and may have said what is not kept here. */
  byOthers?: true;
}

/** What changed since the index before: files that are new, and paths that are gone. */
export interface TapeChange {
  files: ReadonlyMap<string, TapeFile>;
  empty: readonly string[];
  gone: readonly string[];
}

export class NoLtfs extends Error {
  override readonly name = 'NoLtfs';
}

const builder = new XMLBuilder({ ignoreAttributes: false, suppressBooleanAttributes: false });
const parser = new XMLParser({
  ignoreAttributes: false,
  parseTagValue: false,
  trimValues: false,
  isArray: (name) => name === 'file' || name === 'directory' || name === 'extent',
  processEntities: true,
});
const HEAD = '<?xml version="1.0" encoding="UTF-8"?>';
const timeOf = (ms: number) => new Date(ms).toISOString().replace('Z', '000000Z');

/** The 80 bytes of an ANSI VOL1 label, as the standard has them. */
export function volumeLabel(barcode: string): Uint8Array {
  const text = `VOL1${barcode.slice(0, 6).padEnd(6)}L${' '.repeat(13)}LTFS${' '.repeat(9)}${' '.repeat(14)}${' '.repeat(28)}4`;
  return new TextEncoder().encode(text);
}

export function labelText({ volume, partition, ms }: { volume: string; partition: Partition; ms: number }): string {
  return (
    HEAD +
    builder.build({
      ltfslabel: {
        '@_version': LTFS_VERSION,
        creator: CREATOR,
        formattime: timeOf(ms),
        volumeuuid: volume,
        location: { partition },
        partitions: { index: INDEX_PARTITION, data: DATA_PARTITION },
        blocksize: String(BLOCK_BYTES),
        compression: 'false',
      },
    })
  );
}

export function parseLabel(text: string): { volume: string; blockBytes: number; isOwn: boolean } {
  const { ltfslabel: label } = parse(text) as { ltfslabel?: Record<'volumeuuid' | 'blocksize' | 'creator', string> };
  const [volume, blockBytes] = [label?.volumeuuid, Number(label?.blocksize)];
  if (!volume || !Number.isSafeInteger(blockBytes) || blockBytes < 1)
    throw new NoLtfs('its label is none of the Linear Tape File System');
  return { volume, blockBytes, isOwn: String(label?.creator).startsWith(OWN) };
}

// A name that XML cannot hold, or that the standard keeps for itself, is percent-encoded and says so.
const SPECIAL = /[\u0000-\u001f:%\ufffe\uffff]|[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/;
const LONE = /[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/g;

const nameOut = (name: string) =>
  SPECIAL.test(name) ? { '#text': encodeURIComponent(name.replace(LONE, '\ufffd')), '@_percentencoded': 'true' } : name;

function nameIn(name: unknown): string {
  if (typeof name === 'string') return name;
  const { '#text': text = '', '@_percentencoded': encoded } = (name ?? {}) as Record<string, string>;
  try {
    return encoded === 'true' ? decodeURIComponent(text) : text;
  } catch {
    throw new NoLtfs(`the name ${text} cannot be read`);
  }
}

/** A name that leads nowhere else: others may have written anything. */
const isPlainName = (name: string): boolean =>
  name !== '' && name !== '.' && name !== '..' && !name.includes('/') && !name.includes('\0');

/** Such a name as it is told to people. */
const told = (name: string): string =>
  encodeURIComponent(name.replace(LONE, '\ufffd')).replace(/^\.*$/, (dots) => '%2E'.repeat(dots.length) || '%00');

interface Folder {
  folders: Map<string, Folder>;
  files: object[];
}
const folder = (): Folder => ({ folders: new Map(), files: [] });

function folderAt(top: Folder, path: string): Folder {
  let at = top;
  for (const segment of path === '' ? [] : path.split('/')) {
    let next = at.folders.get(segment);
    if (!next) at.folders.set(segment, (next = folder()));
    at = next;
  }
  return at;
}

const split = (path: string): [folder: string, name: string] => {
  const end = path.lastIndexOf('/');
  return [path.slice(0, Math.max(0, end)), path.slice(end + 1)];
};

function fileOut(name: string, file: TapeFile): object {
  const time = timeOf(file.modifiedMs);
  return {
    name: nameOut(name),
    length: file.sizeBytes,
    readonly: 'false',
    ...{ creationtime: time, changetime: time, modifytime: time, accesstime: time, backuptime: time },
    fileuid: file.uid,
    ...(file.extents.length > 0
      ? {
          extentinfo: {
            extent: file.extents.map((one) => ({
              fileoffset: one.fileOffset,
              partition: one.partition ?? DATA_PARTITION,
              startblock: one.startBlock,
              byteoffset: one.byteOffset,
              bytecount: one.bytes,
            })),
          },
        }
      : {}),
  };
}

function folderOut(name: string, { folders, files }: Folder, time: string): object {
  return {
    name: nameOut(name),
    readonly: 'false',
    ...{ creationtime: time, changetime: time, modifytime: time, accesstime: time, backuptime: time },
    contents: {
      directory: [...folders].map(([own, inside]) => folderOut(own, inside, time)),
      file: files,
    },
  };
}

type About = Pick<TapeIndex, 'volume' | 'generation' | 'at' | 'before'> & { ms: number };

const aboutOut = ({ volume, generation, at, before, ms }: About) => ({
  '@_version': LTFS_VERSION,
  creator: CREATOR,
  volumeuuid: volume,
  generationnumber: generation,
  updatetime: timeOf(ms),
  location: { partition: at.partition, startblock: at.block },
  ...(before ? { previousgenerationlocation: { partition: before.partition, startblock: before.block } } : {}),
});

export function indexText(index: TapeIndex, ms: number): string {
  const top = folder();
  let highest = 1;
  for (const [path, file] of index.files) {
    const [at, name] = split(path);
    folderAt(top, at).files.push(fileOut(name, file));
    highest = Math.max(highest, file.uid);
  }
  for (const path of index.empty) folderAt(top, path);
  return (
    HEAD +
    builder.build({
      ltfsindex: {
        ...aboutOut({ ...index, ms }),
        allowpolicyupdate: 'true',
        highestfileuid: highest,
        directory: folderOut('', top, timeOf(ms)),
      },
    })
  );
}

export function changeText(about: About, change: TapeChange): string {
  const top = folder();
  for (const [path, file] of change.files) {
    const [at, name] = split(path);
    folderAt(top, at).files.push(fileOut(name, file));
  }
  for (const path of change.gone) {
    const [at, name] = split(path);
    folderAt(top, at).files.push({ name: nameOut(name), deleted: '' });
  }
  for (const path of change.empty) folderAt(top, path);
  return (
    HEAD +
    builder.build({ ltfsincrementalindex: { ...aboutOut(about), directory: folderOut('', top, timeOf(about.ms)) } })
  );
}

type Node = Record<string, unknown>;

function parse(text: string): Node {
  try {
    return parser.parse(text) as Node;
  } catch (error) {
    throw new NoLtfs(`it cannot be read (${(error as Error).message})`);
  }
}

const number = (value: unknown, what: string): number => {
  const read = Number(typeof value === 'string' ? value : NaN);
  if (!Number.isSafeInteger(read) || read < 0) throw new NoLtfs(`${what} is no number`);
  return read;
};

/**
 * Reads a whole index, or one that holds what changed since the one before.
 * @throws NoLtfs with what is wrong
 */
export function parseIndex(text: string): { isWhole: boolean; index: TapeIndex; gone: string[] } {
  const read = parse(text);
  const top = (read.ltfsindex ?? read.ltfsincrementalindex) as Node | undefined;
  if (!top || typeof top !== 'object') throw new NoLtfs('it is no index of the Linear Tape File System');
  const place = (node: unknown, what: string) => ({
    partition: ((node ?? {}) as Node).partition as Partition,
    block: number(((node ?? {}) as Node).startblock, what),
  });
  const index: TapeIndex = {
    volume: String(top.volumeuuid as string),
    generation: number(top.generationnumber, 'the number of its generation'),
    at: place(top.location, 'its place'),
    before: top.previousgenerationlocation
      ? place(top.previousgenerationlocation, 'the place of the one before')
      : null,
    files: new Map(),
    empty: new Set(),
    ...(String(top.creator as string).startsWith(OWN) ? {} : { byOthers: true }),
  };
  const gone: string[] = [];
  const waiting = ((top.directory ?? []) as Node[]).map((own) => ({ own, path: '' }));
  for (let next = waiting.pop(); next; next = waiting.pop()) {
    const { own, path } = next;
    const contents = (typeof own.contents === 'object' && own.contents !== null ? own.contents : {}) as Node;
    const folders = (contents.directory ?? []) as Node[];
    const files = (contents.file ?? []) as Node[];
    const within = (name: string) => (path === '' ? name : `${path}/${name}`);
    const odd = (name: string) => (index.odd ??= new Set()).add(within(isPlainName(name) ? name : told(name)));
    for (const node of folders) {
      const name = nameIn(node.name);
      if (isPlainName(name)) waiting.push({ own: node, path: within(name) });
      else odd(name);
    }
    for (const node of files) {
      const name = nameIn(node.name);
      if ('deleted' in node) gone.push(within(name));
      else if ('symlink' in node || !isPlainName(name)) odd(name);
      else index.files.set(within(name), fileIn(node));
    }
    if (path !== '' && folders.length === 0 && files.length === 0) index.empty.add(path);
  }
  return { isWhole: 'ltfsindex' in read, index, gone };
}

function fileIn(node: Node): TapeFile {
  const info = (typeof node.extentinfo === 'object' && node.extentinfo !== null ? node.extentinfo : {}) as Node;
  const extents = ((info.extent ?? []) as Node[]).map((one): Extent => ({
    ...(one.partition === INDEX_PARTITION ? { partition: INDEX_PARTITION } : {}),
    fileOffset: number(one.fileoffset, 'where an extent lies in its file'),
    startBlock: number(one.startblock, 'the first block of an extent'),
    byteOffset: number(one.byteoffset, 'where an extent lies in its block'),
    bytes: number(one.bytecount, 'the length of an extent'),
  }));
  return {
    sizeBytes: number(node.length, 'the length of a file'),
    modifiedMs: Date.parse(String(node.modifytime as string).replace(/(\.\d{3})\d+Z$/, '$1Z')) || 0,
    uid: node.fileuid === undefined ? 0 : number(node.fileuid, 'the number of a file'),
    extents: extents.sort((a, b) => a.fileOffset - b.fileOffset),
  };
}

/** The files of an index after a change of it. */
export function applyChange(index: TapeIndex, change: { index: TapeIndex; gone: readonly string[] }): void {
  for (const path of change.gone) index.files.delete(path);
  for (const [path, file] of change.index.files) index.files.set(path, file);
  for (const path of change.index.empty) index.empty.add(path);
  if (change.index.byOthers) index.byOthers = true;
  index.generation = change.index.generation;
  index.before = change.index.before;
  index.at = change.index.at;
}
