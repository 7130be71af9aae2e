// What the walker and its threads say to each other.
import type { KindRule } from '#core/kinds/kinds.ts';
import type { Duty } from '#core/model.ts';

/** A folder to be read. `path` is for rules and people; `raw` holds its bytes (hex) where it is not valid UTF-8. */
export interface FolderAsked {
  path: string;
  raw: string | null;
  folderId: number;
  projectId: number | null;
  /** Fingerprint of what is known of it; null for a folder met for the first time. */
  known: string | null;
  /** Asked of a large folder that was listed: only these of its files. */
  part?: Part;
}

export interface Part {
  /** Parted by '/', which no name holds; sorted. */
  names: string;
  /** What comes back beside the mark: rows of a new folder, columns of one that changed. */
  content: 'none' | 'rows' | 'columns';
}

export interface WalkRequest {
  root: string;
  volumeId: number;
  device: number;
  duty: Duty;
  rules: readonly KindRule[];
  /** Goes into every fingerprint: with other rules, every folder counts as changed. */
  ruleMark: string;
  /** Real paths that belong to other volumes or carriers, not to be walked into. */
  exclude: readonly string[];
  /** From so many entries on a folder is parted between the threads. */
  largeFrom: number;
  folders: AskedRow[];
}

/** A folder asked for, as it goes to a thread: a row is copied in a third of the time of an object with names. */
export type AskedRow = [
  path: string,
  folderId: number,
  known: string | null,
  projectId: number | null,
  raw: string | null,
  part: Part | undefined,
];

export const rowOfAsked = (asked: FolderAsked): AskedRow => [
  asked.path,
  asked.folderId,
  asked.known,
  asked.projectId,
  asked.raw,
  asked.part,
];

export const askedOfRow = ([path, folderId, known, projectId, raw, part]: AskedRow): FolderAsked => ({
  path,
  raw,
  folderId,
  projectId,
  known,
  part,
});

export type NoticeCode =
  'not permitted' | 'vanished' | 'link' | 'special file' | 'other file system' | 'name not UTF-8' | 'unreadable';

export interface Notice {
  path: string;
  code: NoticeCode;
  detail: string;
}

export interface SubFolder {
  name: string;
  raw: string | null;
}

/** Sums of one kind and one day among the files directly in a folder. */
export interface Holding {
  kind: number;
  day: number;
  files: number;
  bytes: number;
  newestUs: number;
  oldestUs: number;
  largestBytes: number;
}

/** Files of a folder that was known and changed, column by column. Kinds are places in KINDS. */
export interface FileColumns {
  names: string[];
  /** Bytes of names that are not valid UTF-8, in hex, by place in `names`. */
  raws: Record<number, string>;
  sizes: Float64Array;
  modifiedUs: Float64Array;
  inodes: Float64Array;
  changedUs: Float64Array;
  kinds: Uint8Array;
}

/** `entries`: how many files were looked at in it. */
export type FolderFound = { folderId: number; notices: Notice[]; subFolders: SubFolder[]; entries: number } & (
  | { state: 'same' }
  | { state: 'unreadable'; code: NoticeCode }
  | ({ state: 'new'; fingerprint: string } & NewFiles)
  | { state: 'changed'; fingerprint: string; columns: FileColumns }
);

/** Rows ready for LOAD DATA: see their columns in walk-thread.ts. */
export interface NewFiles {
  files: number;
  bytes: number;
  rows: string[];
  holdings: Holding[];
}

/** Only listed: its files in parts, each to be asked for alone. */
export type LargeFolder = Omit<FolderFound, 'state'> & { state: 'large'; parts: string[] };
/** `mark`: hash of what was found of them. */
export type PartFound = Omit<FolderFound, 'state'> & {
  state: 'part';
  mark: string;
  made?: NewFiles;
  columns?: FileColumns;
};

/** What was found of each folder asked for; a bare number is one with so many files, nothing below it, and all as known. */
export interface WalkResponse {
  folders: (FolderFound | LargeFolder | PartFound | number)[];
}
