// Archives, their parts, and the copies of them on carriers, file by file.
import {
  boolean,
  char,
  index,
  int,
  mysqlEnum,
  mysqlTable,
  primaryKey,
  uniqueIndex,
  varchar,
} from 'drizzle-orm/mysql-core';
import { ENCODINGS } from '#core/archive/encoding.ts';
import type { FileFacts, StillUse } from '#core/archive/lengths.ts';
import { amount, at, bytes, id, jsonOf, longPath } from './columns.ts';

export const archives = mysqlTable(
  'archives',
  {
    id: id(),
    projectId: amount('project_id').notNull(),
    name: varchar('name', { length: 250 }).notNull(),
    folder: varchar('folder', { length: 250 }).notNull(),
    state: mysqlEnum('state', ['writing', 'sealed', 'ended early', 'let go']).notNull(),
    /** What is handed over is no archive: its rows are the journal of its writing, and go with the end of it. */
    purpose: mysqlEnum('purpose', ['archive', 'hand over']).notNull().default('archive'),
    /** One of those that are made of a project in work night after night. */
    night: boolean('night').notNull().default(false),
    /** How its files are laid out on a carrier: one of server/carriers/packers.ts. */
    packer: varchar('packer', { length: 40 }).notNull().default('folder'),
    /** The earlier archive it builds on: what that holds already is not written again. */
    baseId: amount('base_id'),
    /** All that it holds, also what lies in the one it builds on. */
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
    /** Files that were to go in and could not: told in it, and here. */
    gaps: int('gaps').notNull().default(0),
    sealedAt: at('sealed_at'),
    /** How long it is kept: until somebody decides, until a day, for ever. */
    keepRule: mysqlEnum('keep_rule', ['ask', 'until', 'for ever']).notNull().default('ask'),
    keepUntil: at('keep_until'),
    /** Legal hold: why, by whom, since when; null without one. */
    holdReason: varchar('hold_reason', { length: 300 }),
    holdBy: varchar('hold_by', { length: 120 }),
    holdAt: at('hold_at'),
    jobId: amount('job_id'),
  },
  (t) => [index('archives_project').on(t.projectId)],
);

/** An archive is made of parts, each whole on one carrier: several where it does not fit on one. */
export const archiveParts = mysqlTable(
  'archive_parts',
  {
    id: id(),
    archiveId: amount('archive_id').notNull(),
    ord: int('ord').notNull(),
    /** Its top folder on every carrier. */
    folder: varchar('folder', { length: 250 }).notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
    /** SHA-512 of its tag manifest: what a copy is known by. Written before any copy is sealed. */
    manifestSha512: char('manifest_sha512', { length: 128 }),
  },
  (t) => [index('archive_parts_archive').on(t.archiveId)],
);

export const COPY_STATES = ['writing', 'good', 'damaged', 'ended early', 'let go'] as const;

/** The copies of an archive. One is as good as the worst of its parts. */
export const archiveCopies = mysqlTable(
  'archive_copies',
  {
    id: id(),
    archiveId: amount('archive_id').notNull(),
    state: mysqlEnum('state', COPY_STATES).notNull(),
    writtenAt: at('written_at'),
    readBackAt: at('read_back_at'),
    /** The copy that was made instead of this one, which is damaged: nobody has to do anything about it any more. */
    replacedBy: amount('replaced_by'),
  },
  (t) => [index('archive_copies_archive').on(t.archiveId)],
);

/** Where each part of each copy lies. */
export const copyParts = mysqlTable(
  'copy_parts',
  {
    id: id(),
    copyId: amount('copy_id').notNull(),
    partId: amount('part_id').notNull(),
    /** Null for what is handed over: its step says where. */
    carrierId: amount('carrier_id'),
    /** Of what was found on a carrier: how it is packed there, and where it lies. Null of what is written by us. */
    packer: varchar('packer', { length: 40 }),
    folder: longPath('folder'),
    /** Where on the carrier it begins, as the kind of carrier counts; null where the folder says it. */
    position: varchar('position', { length: 200 }),
    state: mysqlEnum('state', COPY_STATES).notNull(),
    readBackAt: at('read_back_at'),
  },
  (t) => [index('copy_parts_copy').on(t.copyId), index('copy_parts_carrier').on(t.carrierId)],
);

export const archiveFiles = mysqlTable(
  'archive_files',
  {
    id: id(),
    archiveId: amount('archive_id').notNull(),
    /** Of this archive; or of an earlier one that holds the very same file already. */
    partId: amount('part_id').notNull(),
    /** A part is a range of a media file: it never stands for the whole, whoever asks whether a copy of it exists. */
    role: mysqlEnum('role', ['media', 'part', 'encoded', 'document', 'original document']).notNull(),
    /** Of what was encoded anew: how. It never stands for its original either, which its `ofBytes` are of. */
    encoding: mysqlEnum('encoding', ENCODINGS),
    /** Path below the bag's data folder. */
    payloadPath: longPath('payload_path').notNull(),
    volumeId: amount('volume_id').notNull(),
    fileId: amount('file_id').notNull(),
    path: longPath('path').notNull(),
    rawPath: bytes('raw_path', 'varbinary(4096)'),
    /** The original's facts when it was copied; of a part its own size, so that no comparison takes it for the whole. */
    sizeBytes: amount('size_bytes').notNull(),
    modifiedUs: amount('modified_us').notNull(),
    device: amount('device'),
    inode: amount('inode'),
    changedUs: amount('changed_us'),
    /** Of a part: the original's size, and the range of it, in frames of its picture or of its sound. */
    ofBytes: amount('of_bytes'),
    partFrom: amount('part_from'),
    partTo: amount('part_to'),
    /** Of a part, and of what is encoded anew: its size is known to the byte. */
    measured: boolean('measured').notNull().default(false),
    /** Of media that was to be cut or encoded and stays as it is: why, as the end of a sentence. */
    whyWhole: varchar('why_whole', { length: 250 }),
    /** What lies in the payload: of a relinked document its own size and sums. Null until it was read. */
    payloadBytes: amount('payload_bytes'),
    sha512: char('sha512', { length: 128 }),
    /** Null in archives that were sealed before XXH64 was kept. */
    xxh64: char('xxh64', { length: 16 }),
  },
  (t) => [
    index('archive_files_archive').on(t.archiveId, t.partId),
    index('archive_files_part').on(t.partId),
    index('archive_files_file').on(t.fileId),
    index('archive_files_sum').on(t.sizeBytes, t.xxh64),
  ],
);

/** What an archive that was taken in says of itself that lies elsewhere, and is not in the catalogue yet. */
export const awaitedFiles = mysqlTable(
  'awaited_files',
  {
    id: id(),
    archiveId: amount('archive_id').notNull(),
    /** Of the archive, or part of one, in which it lies. */
    folder: varchar('folder', { length: 250 }).notNull(),
    /** Path below the bag's data folder. */
    path: longPath('path').notNull(),
    sha512: char('sha512', { length: 128 }).notNull(),
  },
  (t) => [index('awaited_files_archive').on(t.archiveId, t.sha512)],
);

/** How far each file of each copy is. */
export const copyFiles = mysqlTable(
  'copy_files',
  {
    copyPartId: amount('copy_part_id').notNull(),
    archiveFileId: amount('archive_file_id').notNull(),
    state: mysqlEnum('state', ['written', 'read back', 'damaged']).notNull(),
    readBackAt: at('read_back_at'),
    /** The block where it begins, on a carrier that is wound; null on others. */
    position: amount('position'),
  },
  // What is asked is mostly where the copies of a file are.
  (t) => [primaryKey({ columns: [t.copyPartId, t.archiveFileId] }), index('copy_files_file').on(t.archiveFileId)],
);

/**
 * What an archive's documents say, kept when it is sealed: so that it can be searched, and brought back by timeline, by bin or by
 * clip, while its carriers are on the shelf and its documents long gone.
 */
export const archiveTimelines = mysqlTable(
  'archive_timelines',
  {
    id: id(),
    archiveId: amount('archive_id').notNull(),
    /** The document that it is in, as a file of the catalogue. */
    documentFileId: amount('document_file_id').notNull(),
    name: varchar('name', { length: 1020 }).notNull(),
    durationFrames: amount('duration_frames').notNull(),
    rateNum: int('rate_num').notNull(),
    rateDen: int('rate_den').notNull(),
    /** Media that it uses and that did not go in. */
    missing: int('missing').notNull().default(0),
  },
  (t) => [index('archive_timelines_archive').on(t.archiveId)],
);

/** What each of them uses of the archive's files. */
export const archiveUses = mysqlTable(
  'archive_uses',
  {
    timelineId: amount('timeline_id').notNull(),
    archiveFileId: amount('archive_file_id').notNull(),
    /** Which frames of it, and what the file says of itself; null for all of it, or where that is not known. */
    frames: jsonOf<UsedFrames | UsedStill>('frames'),
  },
  (t) => [primaryKey({ columns: [t.timelineId, t.archiveFileId] })],
);

/** Frames of a file of an archive that a timeline uses, without handles. */
export interface UsedFrames {
  file: FileFacts;
  /** From the first to the one after the last. */
  ranges: [number, number][];
}

/** The same of a still of a sequence, which comes whole or not at all: what each media of the timeline's document takes of the sequence. */
export interface UsedStill {
  stills: StillUse[];
}

export const archiveClips = mysqlTable(
  'archive_clips',
  {
    id: id(),
    archiveId: amount('archive_id').notNull(),
    documentFileId: amount('document_file_id').notNull(),
    /** Names of its bins from the outermost, with '/' between; empty for none. */
    bin: varchar('bin', { length: 4000 }).notNull(),
    name: varchar('name', { length: 1020 }).notNull(),
    /** Null where its media did not go in. */
    archiveFileId: amount('archive_file_id'),
  },
  (t) => [index('archive_clips_archive').on(t.archiveId), index('archive_clips_file').on(t.archiveFileId)],
);

/** Bins of an archive's clips, each once: so that they are found by their names. Follows from the clips. */
export const archiveBins = mysqlTable(
  'archive_bins',
  {
    id: id(),
    archiveId: amount('archive_id').notNull(),
    name: varchar('name', { length: 4000 }).notNull(),
  },
  (t) => [index('archive_bins_archive').on(t.archiveId)],
);

/** Folders of volumes that hold what was handed over: what lies there is nobody's work, and its documents are no projects. */
export const handedOver = mysqlTable(
  'handed_over',
  {
    id: id(),
    volumeId: amount('volume_id').notNull(),
    folder: varchar('folder', { length: 250 }).notNull(),
    projectId: amount('project_id').notNull(),
    /** Who got it. */
    toWhom: varchar('to_whom', { length: 120 }).notNull(),
    at: at('at').notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
  },
  (t) => [index('handed_over_volume').on(t.volumeId)],
);

/** Shapes of archives, kept by name and offered again. */
export const shapes = mysqlTable(
  'shapes',
  {
    id: id(),
    name: varchar('name', { length: 120 }).notNull(),
    /** Parsed as the step's own when it is read back. */
    scope: jsonOf<unknown>('scope').notNull(),
    savedBy: varchar('saved_by', { length: 120 }).notNull(),
    savedAt: at('saved_at').notNull(),
  },
  (t) => [uniqueIndex('shapes_name').on(t.name)],
);
