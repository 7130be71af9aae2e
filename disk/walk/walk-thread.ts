// Reads folders inside a worker thread: names, sizes and times, kinds by the rules, one fingerprint a folder. A folder
// whose fingerprint is known costs nothing further; a new one comes back as rows ready for the database. Synchronous
// calls on purpose: inside a thread they are several times faster than promises.
import { type Dirent, lstatSync, readdirSync } from 'node:fs';
import { xxh3 } from '@node-rs/xxhash';
import { field } from '#core/load-rows.ts';
import { kindsInFolder } from '#core/kinds/kinds.ts';
import { type Kind, KINDS } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { dayOfUs } from '#core/wording/amounts.ts';
import { changedUsOf, codeOf, inodeOf, modifiedUsOf } from '../facts.ts';
import { readableName } from '../paths.ts';
import { PRIVATE_FOLDER } from '../identity.ts';
import { serve } from '../threads/serve.ts';
import {
  askedOfRow,
  type FolderAsked,
  type FolderFound,
  type Holding,
  type LargeFolder,
  type NewFiles,
  type Notice,
  type NoticeCode,
  type Part,
  type PartFound,
  type SubFolder,
  type WalkRequest,
  type WalkResponse,
} from './protocol.ts';

const KIND_NUMBER = Object.fromEntries(KINDS.map((kind, i) => [kind, i])) as Record<Kind, number>;

/** Files of a large folder that are looked at in one go. */
const FILES_A_PART = 4_000;

interface Seen {
  name: string;
  raw: string | null;
  size: number;
  us: number;
  inode: number;
  changedUs: number;
}

serve<WalkRequest, WalkResponse>(({ request, stopped }) => {
  const folders: WalkResponse['folders'] = [];
  for (const row of request.folders) {
    if (stopped()) break;
    const asked = askedOfRow(row);
    folders.push(asked.part ? readPart(request, asked, asked.part) : readFolder(request, asked));
  }
  return { folders };
});

// A tree of small folders asks a hundred thousand times: functions made anew for every folder, and empty lists told one by
// one, took a quarter of the time.
const NOTHING: never[] = [];
const orNothing = <T>(list: T[]): T[] => (list.length === 0 ? NOTHING : list);

function readFolder(request: WalkRequest, asked: FolderAsked): FolderFound | LargeFolder | number {
  const place =
    asked.raw === null
      ? joinPlace(request.root, asked.path)
      : Buffer.concat([Buffer.from(`${request.root}/`), Buffer.from(asked.raw, 'hex')]);
  let entries: Dirent[];
  let listing: Listing | null;
  try {
    const own = lstatSync(place);
    if (!own.isDirectory()) return unreadable(asked, 'vanished', 'it is no longer a folder');
    if (own.dev !== request.device) return unreadable(asked, 'other file system', 'another disk is mounted there');
    entries = readdirSync(place, { withFileTypes: true });
    listing = listingOf(place, entries, asked.raw === null && entries.length >= request.largeFrom);
  } catch (error) {
    const code = codeOf(error);
    const is = code === 'ENOENT' ? 'vanished' : code === 'EACCES' || code === 'EPERM' ? 'not permitted' : 'unreadable';
    return unreadable(asked, is, code);
  }
  const context: Context = { request, asked, place, files: [], subFolders: [], notices: [] };
  const { files } = context;
  if (listing === null) {
    const { state, parts } = parted(entries, context);
    return {
      folderId: asked.folderId,
      notices: context.notices,
      subFolders: context.subFolders,
      entries: 0,
      state,
      parts,
    };
  }
  for (const entry of listing) lookAt(entry, context);
  files.sort(byName);
  context.subFolders.sort(byName);
  const fingerprint = fingerprintOf(request.ruleMark, files, context.subFolders);
  const same = fingerprint === asked.known;
  if (same && context.subFolders.length === 0 && context.notices.length === 0) return files.length;
  const base = {
    folderId: asked.folderId,
    notices: orNothing(context.notices),
    subFolders: orNothing(context.subFolders),
    entries: files.length,
  };
  if (same) return { ...base, state: 'same' };
  const kinds = kindsOf(request, asked, files);
  if (asked.known !== null) return { ...base, state: 'changed', fingerprint, columns: columnsOf(files, kinds) };
  return { ...base, state: 'new', fingerprint, ...rowsOf(request, asked, files, kinds) };
}

function unreadable(asked: FolderAsked, code: NoticeCode, detail: string): FolderFound {
  const notices = [{ path: asked.path, code, detail }];
  return { folderId: asked.folderId, state: 'unreadable', code, notices, subFolders: NOTHING, entries: 0 };
}

/** A large folder is only listed; who asked has its files looked at in parts, by all threads. */
function parted(entries: readonly Dirent[], context: Context): Pick<LargeFolder, 'state' | 'parts'> {
  const names: string[] = [];
  for (const entry of entries)
    if (entry.isDirectory() || entry.isSymbolicLink()) lookAt({ name: entry.name, raw: null, entry }, context);
    else names.push(entry.name);
  context.subFolders.sort(byName);
  names.sort();
  const parts: string[] = [];
  for (let i = 0; i < names.length; i += FILES_A_PART) parts.push(names.slice(i, i + FILES_A_PART).join('/'));
  return { state: 'large', parts };
}

function readPart(request: WalkRequest, asked: FolderAsked, { names, content }: Part): PartFound {
  const [files, notices]: [Seen[], Notice[]] = [[], []];
  const place = joinPlace(request.root, asked.path);
  for (const name of names.split('/')) lookAtFile(name, null, `${place}/${name}`, { asked, files, notices });
  const base = { folderId: asked.folderId, notices, subFolders: [], entries: files.length };
  const found: PartFound = { ...base, state: 'part', mark: fingerprintOf(request.ruleMark, files, []) };
  if (content === 'none') return found;
  const kinds = kindsOf(request, asked, files);
  if (content === 'rows') found.made = rowsOf(request, asked, files, kinds);
  else found.columns = columnsOf(files, kinds);
  return found;
}

function kindsOf(request: WalkRequest, asked: FolderAsked, files: readonly Seen[]): Uint8Array {
  const kindOf = kindsInFolder(request.rules, asked.path, request.duty);
  return Uint8Array.from(files, (file) => KIND_NUMBER[kindOf(file.name)]);
}

const joinPlace = (root: string, path: string) => (path === '' ? root : `${root}/${path}`);
const byName = (a: { name: string }, b: { name: string }) => (a.name < b.name ? -1 : a.name > b.name ? 1 : 0);

type Listing = { name: string; raw: Buffer | null; entry: Dirent | Dirent<Buffer> }[];

/** Names as text; only where one is not valid UTF-8 is the folder listed again as bytes. Null: a large folder whose names are all text. */
function listingOf(place: string | Buffer, entries: readonly Dirent[], isLarge: boolean): Listing | null {
  if (!entries.some((entry) => entry.name.includes('\uFFFD')))
    return isLarge ? null : entries.map((entry) => ({ name: entry.name, raw: null, entry }));
  return readdirSync(place, { withFileTypes: true, encoding: 'buffer' }).map((entry) => {
    const raw = entry.name as unknown as Buffer;
    const name = readableName(raw);
    return { name, raw: name === raw.toString('utf8') ? null : raw, entry };
  });
}

interface Context {
  request: WalkRequest;
  asked: FolderAsked;
  place: string | Buffer;
  files: Seen[];
  subFolders: SubFolder[];
  notices: Notice[];
}

const note = ({ asked, notices }: Pick<Context, 'asked' | 'notices'>, name: string, code: NoticeCode, detail = '') =>
  notices.push({ path: joinPath(asked.path, name), code, detail });

function lookAt({ name, raw, entry }: Listing[number], context: Context): void {
  const { request, asked } = context;
  if (asked.path === '' && name === PRIVATE_FOLDER) return;
  const place =
    raw === null && typeof context.place === 'string'
      ? `${context.place}/${name}`
      : Buffer.concat([Buffer.from(context.place), Buffer.from('/'), raw ?? Buffer.from(name)]);
  const rawHex = raw === null && asked.raw === null ? null : (raw ?? Buffer.from(name)).toString('hex');
  if (raw) note(context, name, 'name not UTF-8', raw.toString('hex'));
  if (entry.isDirectory()) {
    if (typeof place === 'string' && request.exclude.includes(place)) return;
    const rawPath =
      rawHex === null
        ? null
        : asked.raw === null
          ? Buffer.concat([Buffer.from(asked.path === '' ? '' : `${asked.path}/`), raw ?? Buffer.from(name)]).toString(
              'hex',
            )
          : `${asked.raw}2f${rawHex}`;
    context.subFolders.push({ name, raw: rawPath });
    return;
  }
  if (entry.isSymbolicLink()) note(context, name, 'link', 'links are not followed');
  else lookAtFile(name, raw === null ? null : rawHex, place, context);
}

function lookAtFile(
  name: string,
  raw: string | null,
  place: string | Buffer,
  context: Pick<Context, 'asked' | 'files' | 'notices'>,
): void {
  try {
    const stats = lstatSync(place);
    if (stats.isFile())
      context.files.push({
        name,
        raw,
        size: stats.size,
        us: modifiedUsOf(stats),
        inode: inodeOf(stats),
        changedUs: changedUsOf(stats),
      });
    else note(context, name, 'special file');
  } catch (error) {
    note(context, name, codeOf(error) === 'ENOENT' ? 'vanished' : 'unreadable', codeOf(error));
  }
}

/** XXH3-128 over the sorted listing. Names cannot hold '/', so the text has one reading. */
function fingerprintOf(ruleMark: string, files: readonly Seen[], subFolders: readonly SubFolder[]): string {
  let text = `${ruleMark}/`;
  for (const folder of subFolders) text += `${folder.raw ?? folder.name}/`;
  text += '/';
  for (const file of files) text += `${file.raw ?? file.name}/${file.size}/${file.us}/${file.inode}/${file.changedUs}/`;
  return xxh3.xxh128(text).toString(16).padStart(32, '0');
}

function columnsOf(files: readonly Seen[], kinds: Uint8Array) {
  const raws: Record<number, string> = {};
  files.forEach((file, i) => file.raw !== null && (raws[i] = file.raw));
  return {
    names: files.map((file) => file.name),
    raws,
    sizes: Float64Array.from(files, (file) => file.size),
    modifiedUs: Float64Array.from(files, (file) => file.us),
    inodes: Float64Array.from(files, (file) => file.inode),
    changedUs: Float64Array.from(files, (file) => file.changedUs),
    kinds,
  };
}

/** Columns: volume, folder, name, raw name in hex, size, modified µs, inode, changed µs, kind, project; as LOAD DATA reads them. */
function rowsOf(request: WalkRequest, asked: FolderAsked, files: readonly Seen[], kinds: Uint8Array): NewFiles {
  const holdings = new Map<number, Holding>();
  const head = `${request.volumeId}\t${asked.folderId}\t`;
  const tail = `\t${field(asked.projectId)}\n`;
  let text = '';
  let bytes = 0;
  files.forEach((file, i) => {
    const kind = kinds[i]!;
    const day = dayOfUs(file.us);
    text += `${head}${field(file.name)}\t${field(file.raw)}\t${file.size}\t${file.us}\t${file.inode}\t${file.changedUs}\t${KINDS[kind]}${tail}`;
    bytes += file.size;
    const holding = holdings.get(day * 16 + kind);
    if (holding) {
      holding.files++;
      holding.bytes += file.size;
      holding.newestUs = Math.max(holding.newestUs, file.us);
      holding.oldestUs = Math.min(holding.oldestUs, file.us);
      holding.largestBytes = Math.max(holding.largestBytes, file.size);
    } else
      holdings.set(day * 16 + kind, {
        kind,
        day,
        files: 1,
        bytes: file.size,
        newestUs: file.us,
        oldestUs: file.us,
        largestBytes: file.size,
      });
  });
  return { files: files.length, bytes, rows: [text], holdings: [...holdings.values()] };
}
