// What of a project goes into an archive, and where in it. Pure: the service brings the facts, the lens and the job use
// the same answer.
import type { FileId, Kind, VolumeId } from '../model.ts';
import { folderOf, joinPath, liesIn } from '../paths.ts';
import { encodedName, type Encoding, type Encodings } from './encoding.ts';
import { type Handles, type Kept, partBytes, partName } from './lengths.ts';
import { KEPT_NAMES, nameBy, placeNames, stemOf, type Wish } from './names.ts';

/** A file of the project, as far as the catalogue knows it. */
export interface ProjectFile<Identity = unknown> {
  fileId: FileId;
  volumeId: VolumeId;
  /** The volume's name. */
  volume: string;
  path: string;
  name: string;
  sizeBytes: number;
  modifiedUs: number;
  kind: Kind;
  /** A timeline of the project uses it. */
  used: boolean;
  /** The project owns it. */
  isOwn: boolean;
  /** The name of a clip of it; null where none has one, and of stills, whose names are their numbers. */
  clip?: string | null;
  /** A still of a sequence: its name is never changed. */
  isStill?: boolean;
  /** Bins that hold a clip of it, outermost first; the first by name where several do. */
  bins: string[];
  /** It is a document the project is read from. */
  isDocument: boolean;
  /** A document that holds no paths to relink, or none as text: it goes along byte for byte. */
  asItIs?: boolean;
  /** No timeline of the project uses it, and it was asked for all the same: as what it would have stayed out. */
  asked?: LeftOut;
  /** A sidecar of this file, or another piece of the same recording: it goes where that goes, whole, and lies beside it. */
  goesWith?: FileId;
  /** How much of it is kept, and of how many frames; left out where all of it is. */
  kept?: { length: Kept; frames: number };
  /** What says on disk which file it is; goes along as it came. */
  identity: Identity;
}

/** A range of a file under a name of its own. */
export interface PlacedPart {
  payloadPath: string;
  from: number;
  to: number;
  /** About, until its tables were read. */
  bytes: number;
  isExact: boolean;
}

export interface PlacedFile<Identity = unknown> extends ProjectFile<Identity> {
  /** Path in the bag's payload folder. Of a document: where the relinked one lies; the original goes beside it. */
  payloadPath: string;
  originalPath: string | null;
  /** What goes in instead of the whole; empty where the whole does. */
  parts: PlacedPart[];
  /** All of it goes in, encoded anew. */
  encoding: Encoding | null;
  /** What of it goes in. */
  keptBytes: number;
  whyWhole: string | null;
}

/** Parts of a project that no timeline of it uses: each goes in or stays out as a whole. */
export const LEFT_OUT = ['delivery', 'render', 'proxy', 'unused', 'lent', 'backup', 'cache', 'other'] as const;
export type LeftOut = (typeof LEFT_OUT)[number];

/** What goes in beside the media that timelines use. */
export interface ArchiveScope {
  parts: readonly LeftOut[];
  /** Of each document all versions, or the newest alone. */
  versions: 'all' | 'newest';
  /** Media that timelines use: whole, or what is used of it, with handles. */
  handles: Handles | null;
  /** Only what these timelines use, by their names; none named: what any uses. */
  timelines: readonly string[];
  /** What lies in these bins or below, used or not, whole; by their names from the outermost, with '/' between. */
  bins: readonly string[];
  /** These files whole, as clips of them were chosen one by one. */
  files: readonly number[];
  /** Media by the bins of their clips, as they lie on disk, by kind, or all in one bundle with the newest document. */
  layout: Layout;
  /** Names of media: a pattern of {file}, {clip} and {bin}. */
  names: string;
  /** A file that cannot be read when it is its turn stays out, and is told; else the whole work ends with it. */
  goOn: boolean;
  /** As a folder, or all of it as one file. */
  pack: PackedAs;
  /** Timelines that were not chosen, and clips in bins whose media stays behind: they stay in the documents, or leave them. */
  rest: 'stays' | 'leaves';
  /** Documents go in as they were as well, byte for byte. */
  originals: boolean;
  /** What is encoded anew, and how; all else goes in as it is. */
  encode: Encodings;
}

export const PACKED_AS = ['folder', 'tar', 'zip'] as const;
export type PackedAs = (typeof PACKED_AS)[number];

/** Something of the project was chosen, and only that goes in. */
export const isNarrow = ({ timelines, bins, files }: ArchiveScope): boolean =>
  timelines.length + bins.length + files.length > 0;

export const LAYOUTS = ['bins', 'disk', 'kind', 'bundle'] as const;
export type Layout = (typeof LAYOUTS)[number];

/** What was delivered is the work itself. */
export const USUAL_SCOPE: ArchiveScope = {
  parts: ['delivery'],
  versions: 'all',
  handles: null,
  timelines: [],
  bins: [],
  files: [],
  layout: 'bins',
  names: KEPT_NAMES,
  goOn: true,
  pack: 'folder',
  rest: 'stays',
  originals: true,
  encode: {},
};

/** Who gets something gets what was chosen, in documents that name nothing else. */
export const USUAL_HAND_OVER: ArchiveScope = {
  ...USUAL_SCOPE,
  ...{ parts: [], versions: 'newest', rest: 'leaves', originals: false },
};

export interface Selection<Identity = unknown> {
  chosen: PlacedFile<Identity>[];
  chosenBytes: number;
  leftOut: { why: LeftOut; files: number; bytes: number }[];
  /** All that the project owns on disk, each file once. */
  totalBytes: number;
  /** What goes along and is another's, a library's or nobody's. */
  borrowedBytes: number;
  /** What of the project's own files stays out because no timeline uses that range of them. */
  trimmedBytes: number;
  /** Stills of sequences among that. */
  trimmedStills: number;
  /** How much smaller the project's own files are once they are encoded anew; less than nothing where they grow. */
  encodedBytes: number;
  /** What there is to encode; see encodingWork. */
  encodingWork: Record<Encoding, number>;
}

/** What the project has besides the files that are told one by one, by kind. */
export interface Others {
  kind: Kind;
  files: number;
  bytes: number;
  /** It stays because timelines of other projects alone use it. */
  isLent?: boolean;
}

/** Media that timelines use, whole; documents, relinked and original; what was asked for. Of `others` nothing goes along. */
export function selectForArchive<Identity>(
  files: readonly ProjectFile<Identity>[],
  others: readonly Others[] = [],
  {
    layout = 'bins',
    originals = true,
    names = KEPT_NAMES,
  }: { layout?: Layout; originals?: boolean; names?: string } = {},
): Selection<Identity> {
  const isTrimmed = (file: ProjectFile) => !file.isDocument && file.used && file.kept?.length.is === 'nothing';
  const byId = new Map(files.map((file) => [file.fileId, file]));
  const mainOf = (file: ProjectFile) => (file.goesWith === undefined ? file : (byId.get(file.goesWith) ?? file));
  const goesItself = (file: ProjectFile) =>
    file.isDocument || (file.used && !isTrimmed(file)) || file.asked !== undefined;
  const goes = (file: ProjectFile) => goesItself(mainOf(file));
  const trimmed = files.filter((file) => isTrimmed(file) && file.isOwn);
  const chosen = files.filter(goes);
  const rest = new Map<LeftOut, { why: LeftOut; files: number; bytes: number }>();
  const leave = ({ kind, files: count, bytes, isLent = false }: Others) => {
    const why = isLent ? 'lent' : partOf(kind);
    const sum = rest.get(why) ?? { why, files: 0, bytes: 0 };
    sum.files += count;
    sum.bytes += bytes;
    if (count > 0) rest.set(why, sum);
  };
  for (const file of files)
    if (!goes(file) && file.isOwn && !isTrimmed(file)) leave({ kind: file.kind, files: 1, bytes: file.sizeBytes });
  others.forEach(leave);
  const how = {
    ...{ shared: sharedFolders(chosen), layout, names, folders: new Map<string | readonly string[], string[]>() },
    bundle: layout === 'bundle' ? bundledIn(chosen) : null,
  };
  const places = placeNames(chosen.flatMap((file) => wishesWith(file, mainOf(file), how)));
  const placed = chosen.map((file) => placedAt(file, places));
  placed.sort((a, b) => (a.payloadPath < b.payloadPath ? -1 : 1));
  return {
    chosen: placed,
    chosenBytes: placed.reduce((sum, file) => sum + file.keptBytes * (file.originalPath && originals ? 2 : 1), 0),
    leftOut: [...rest.values()].sort((a, b) => b.bytes - a.bytes),
    totalBytes:
      files.reduce((sum, file) => sum + (file.isOwn ? file.sizeBytes : 0), 0) +
      others.reduce((sum, other) => sum + other.bytes, 0),
    ...sumsOf(placed, trimmed),
  };
}

/** A file where it goes. Field by field: a copy that is added to takes ten times as long, and there may be many thousands. */
function placedAt<Identity>(file: ProjectFile<Identity>, places: ReadonlyMap<WishKey, string>): PlacedFile<Identity> {
  const parts = partsOf(file, places);
  const length = file.kept?.length;
  const encoded = length?.is === 'encoded' ? length : null;
  return {
    fileId: file.fileId,
    volumeId: file.volumeId,
    volume: file.volume,
    path: file.path,
    name: file.name,
    sizeBytes: file.sizeBytes,
    modifiedUs: file.modifiedUs,
    kind: file.kind,
    used: file.used,
    isOwn: file.isOwn,
    clip: file.clip,
    isStill: file.isStill,
    bins: file.bins,
    isDocument: file.isDocument,
    asItIs: file.asItIs,
    asked: file.asked,
    goesWith: file.goesWith,
    kept: file.kept,
    identity: file.identity,
    payloadPath: parts[0]?.payloadPath ?? places.get(file.fileId)!,
    originalPath: file.isDocument ? (places.get(`${file.fileId} original`) ?? null) : null,
    parts,
    encoding: encoded?.as ?? null,
    keptBytes: encoded?.bytes ?? (parts.length > 0 ? parts.reduce((sum, part) => sum + part.bytes, 0) : file.sizeBytes),
    whyWhole: length?.is === 'whole' ? length.why : null,
  };
}

/** What comes along, what stays out of files that go in, and what of it becomes smaller. */
function sumsOf(
  placed: readonly PlacedFile[],
  trimmed: readonly ProjectFile[],
): Pick<Selection, 'borrowedBytes' | 'trimmedBytes' | 'trimmedStills' | 'encodedBytes' | 'encodingWork'> {
  const sum = (of: (file: PlacedFile) => number) => placed.reduce((bytes, file) => bytes + of(file), 0);
  const less = (file: PlacedFile) => (file.isOwn ? file.sizeBytes - file.keptBytes : 0);
  return {
    borrowedBytes: sum((file) => (file.isOwn ? 0 : file.keptBytes)),
    trimmedBytes:
      sum((file) => (file.encoding ? 0 : less(file))) + trimmed.reduce((bytes, file) => bytes + file.sizeBytes, 0),
    trimmedStills: trimmed.length,
    encodedBytes: sum((file) => (file.encoding ? less(file) : 0)),
    encodingWork: {
      lossless: sum((file) => workOf(file, 'lossless')),
      viewing: sum((file) => workOf(file, 'viewing')),
    },
  };
}

const workOf = ({ kept }: ProjectFile, as: Encoding): number =>
  kept?.length.is === 'encoded' && kept.length.as === as ? kept.length.work : 0;

/** A file's own number, or it with what of it is wished. */
type WishKey = FileId | string;

const partKey = (file: ProjectFile, from: number): string => `${file.fileId} part ${from}`;

function partsOf(file: ProjectFile, places: ReadonlyMap<WishKey, string>): PlacedPart[] {
  const { kept } = file;
  if (kept?.length.is !== 'parts') return [];
  return kept.length.parts.map((part) => ({
    ...{ from: part.from, to: part.to, isExact: part.isExact ?? false },
    payloadPath: places.get(partKey(file, part.from))!,
    bytes: partBytes(file.sizeBytes, kept.frames, part),
  }));
}

/** The folder of documents in a payload. */
export const DOCUMENTS = 'documents';

/** The ending of a bundle's folder and the name of its document: an OpenTimelineIO file bundle. */
const BUNDLE = '.otiod';
const IN_BUNDLE = 'content.otio';

/** The document that a bundle is of. */
export const isOfBundle = (path: string): boolean => path.endsWith(`${BUNDLE}/${IN_BUNDLE}`);

export const isDocumentPlace = (payloadPath: string): boolean =>
  liesIn(payloadPath, DOCUMENTS) || isOfBundle(payloadPath);

interface Bundle {
  fileId: FileId;
  folder: string;
}

/** The document that a bundle is made of, and what its folder is called: the newest that can be written anew. */
export function bundledIn(files: readonly ProjectFile[]): Bundle | null {
  const newest = files
    .filter((file) => file.isDocument && !file.asItIs)
    .sort((a, b) => b.modifiedUs - a.modifiedUs || (a.path < b.path ? -1 : 1))[0];
  return newest ? { fileId: newest.fileId, folder: `${stemOf(newest.name)}${BUNDLE}` } : null;
}

/** The deepest folder that all asked files of a part share on a volume: what lies below it keeps its place. */
function sharedFolders(files: readonly ProjectFile[]): Map<string, string> {
  const shared = new Map<string, string>();
  for (const file of files) {
    if (file.asked === undefined) continue;
    const key = `${file.asked} ${file.volumeId}`;
    let at = shared.get(key) ?? folderOf(file.path);
    while (at !== '' && !liesIn(file.path, at)) at = folderOf(at);
    shared.set(key, at);
  }
  return shared;
}

const FOLDERS: Record<LeftOut, readonly string[]> = {
  delivery: ['deliveries'],
  render: ['renders'],
  proxy: ['proxies'],
  unused: ['media', 'not used'],
  lent: ['media', 'used by others'],
  backup: ['backups'],
  cache: ['caches'],
  other: ['other files'],
};

/** As what a file of a kind stays out where no timeline uses it. */
export function partOf(kind: Kind): LeftOut {
  switch (kind) {
    case 'cache':
    case 'render':
    case 'proxy':
    case 'backup':
    case 'delivery':
      return kind;
    case 'source':
    case 'audio':
      return 'unused';
    // A library is never unused.
    case 'library':
    case 'document':
    case 'other':
      return 'other';
  }
}

/** The folder of media that timelines use. */
function mediaFolder({ bins, volume, path, kind, isStill }: ProjectFile, { layout, bundle, folders }: How): string[] {
  const onDisk = () => ['media', volume, ...folderOf(path).split('/').filter(Boolean)];
  // In a bundle media lie side by side, but stills keep their names, which are numbers.
  if (bundle) return [bundle.folder, ...(isStill ? onDisk() : ['media'])];
  switch (layout) {
    case 'bundle':
    case 'bins': {
      const known = folders.get(bins);
      if (known) return known;
      const folder = ['media', ...(bins.length > 0 ? bins : ['not in any bin'])];
      folders.set(bins, folder);
      return folder;
    }
    case 'disk':
      return onDisk();
    case 'kind':
      return ['media', kind];
  }
}

interface How {
  /** Of each part that was asked for, the folder that all of it shares. */
  shared: ReadonlyMap<string, string>;
  layout: Layout;
  names: string;
  bundle: Bundle | null;
  /** Folders that were made up so far, by the list of bins or by what else they are of. */
  folders: Map<string | readonly string[], string[]>;
}

/** What goes with another lies beside it, and is renamed as that is. */
function wishesWith(file: ProjectFile, main: ProjectFile, how: How): Wish<WishKey>[] {
  if (main === file) return wishesOf(file, how);
  const [beside] = wishesOf(main, how);
  if (!beside) return wishesOf(file, how);
  const follows = { key: main.fileId, name: main.name };
  return [
    { key: file.fileId, folder: beside.folder, name: file.name, order: `${beside.order}\0${file.path}`, follows },
  ];
}

/** Under its name, with another ending where it is encoded anew. */
function ownName({ kept }: ProjectFile, name: string): string {
  const length = kept?.length;
  return length?.is === 'encoded' ? encodedName(name, length.as, length.isSound) : name;
}

/** What lies in one folder goes into one folder, which is made up once. */
function askedFolder(
  asked: keyof typeof FOLDERS,
  above: string,
  { file, how }: { file: ProjectFile; how: How },
): string[] {
  const at = folderOf(file.path);
  const key = `${asked}\0${above}\0${at}`;
  const known = how.folders.get(key);
  if (known) return known;
  const below = at
    .slice(above === '' ? 0 : above.length + 1)
    .split('/')
    .filter(Boolean);
  const folder = [...FOLDERS[asked], ...below];
  how.folders.set(key, folder);
  return folder;
}

function wishesOf(file: ProjectFile, how: How): Wish<WishKey>[] {
  const { shared, names, bundle } = how;
  const order = `${file.path}\0${String(file.volumeId).padStart(12, '0')}`;
  if (!file.isDocument && !file.used && file.asked !== undefined) {
    const folder = askedFolder(file.asked, shared.get(`${file.asked} ${file.volumeId}`) ?? '', { file, how });
    return [{ key: file.fileId, folder, name: ownName(file, file.name), order }];
  }
  if (!file.isDocument) {
    const folder = mediaFolder(file, how);
    const { clip = null } = file;
    const name = file.isStill ? file.name : nameBy(names, { name: file.name, clip, bin: file.bins.at(-1) ?? null });
    if (file.kept?.length.is === 'parts')
      return file.kept.length.parts.map(({ from }) => ({
        key: partKey(file, from),
        folder,
        name: partName(name, from),
        order: `${order}\0${String(from).padStart(15, '0')}`,
      }));
    return [{ key: file.fileId, folder, name: ownName(file, name), order }];
  }
  const place =
    file.fileId === bundle?.fileId
      ? { folder: [bundle.folder], name: IN_BUNDLE }
      : { folder: [DOCUMENTS], name: file.name };
  const itself = { key: file.fileId, ...place, order };
  if (file.asItIs) return [itself];
  return [
    itself,
    // Another ending, so that nobody takes the one with the old places for the document itself.
    { key: `${file.fileId} original`, folder: [DOCUMENTS], name: `${file.name}.original`, order },
  ];
}

/** The top folder of an archive: the project's slug and the day it was made. */
export const archiveFolderName = (slug: string, isoDay: string): string =>
  joinPath('', `${slug || 'project'}_${isoDay}`);

/** Bytes a second; of what is encoded, work a second. */
export interface Rates {
  write: number;
  readBack: number;
  encode: Record<Encoding, number>;
}

/** What encoding, writing and reading back will take, from rates measured on earlier work or assumed before there is any. */
export function estimateSeconds(
  { chosenBytes, encodingWork }: Pick<Selection, 'chosenBytes' | 'encodingWork'>,
  { write, readBack, encode }: Rates,
): number {
  const encoding = encodingWork.lossless / encode.lossless + encodingWork.viewing / encode.viewing;
  return encoding + chosenBytes / write + chosenBytes / readBack;
}
