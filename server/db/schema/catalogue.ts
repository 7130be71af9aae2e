// What lies on the volumes: folders, files, readings of them, and what the heads of media files say.
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
import { sql } from 'drizzle-orm';
import { KINDS } from '#core/model.ts';
import { amount, id, at, bytes, longPath } from './columns.ts';

export const folders = mysqlTable(
  'folders',
  {
    /** Taken from the sequence folder_ids, so that a reader can number folders before they are written. */
    id: amount('id').primaryKey(),
    volumeId: amount('volume_id').notNull(),
    parentId: amount('parent_id'),
    name: varchar('name', { length: 1020 }).notNull(),
    path: longPath('path').notNull(),
    /** XXH3-128 of the path: paths are too long for a key. */
    pathHash: bytes('path_hash', 'binary(16)').notNull(),
    rawPath: bytes('raw_path', 'varbinary(4096)'),
    projectId: amount('project_id'),
    fingerprint: char('fingerprint', { length: 32 }),
    /** Everything below it, itself included. */
    totalFiles: amount('total_files').notNull().default(0),
    totalBytes: amount('total_bytes').notNull().default(0),
    seenAt: at('seen_at'),
    goneAt: at('gone_at'),
    /** How many folders deep it lies; 0 for a volume's top. */
    depth: int('depth').generatedAlwaysAs(
      sql`(IF(path = '', 0, 1 + CHAR_LENGTH(path) - CHAR_LENGTH(REPLACE(path, '/', ''))))`,
      { mode: 'stored' },
    ),
  },
  (t) => [
    uniqueIndex('folders_path').on(t.volumeId, t.pathHash),
    index('folders_parent').on(t.parentId),
    index('folders_depth').on(t.depth),
  ],
);

export const files = mysqlTable(
  'files',
  {
    id: id(),
    volumeId: amount('volume_id').notNull(),
    folderId: amount('folder_id').notNull(),
    name: varchar('name', { length: 1020 }).notNull(),
    rawName: bytes('raw_name', 'varbinary(255)'),
    sizeBytes: amount('size_bytes').notNull(),
    modifiedUs: amount('modified_us').notNull(),
    /** Which file it is on its file system, and when anything of it last changed; null: not seen since these are kept. */
    inode: amount('inode'),
    changedUs: amount('changed_us'),
    kind: mysqlEnum('kind', KINDS).notNull(),
    projectId: amount('project_id'),
    goneAt: at('gone_at'),
  },
  (t) => [index('files_folder').on(t.folderId), index('files_project').on(t.projectId)],
);

export const readings = mysqlTable('readings', {
  id: id(),
  volumeId: amount('volume_id').notNull(),
  startedAt: at('started_at').notNull(),
  finishedAt: at('finished_at'),
  looked: amount('looked').notNull().default(0),
  added: amount('added').notNull().default(0),
  changed: amount('changed').notNull().default(0),
  gone: amount('gone').notNull().default(0),
  notices: amount('notices').notNull().default(0),
});

export const readingNotices = mysqlTable(
  'reading_notices',
  {
    id: id(),
    readingId: amount('reading_id').notNull(),
    path: longPath('path').notNull(),
    code: varchar('code', { length: 40 }).notNull(),
    detail: varchar('detail', { length: 1000 }).notNull(),
  },
  (t) => [index('reading_notices_reading').on(t.readingId)],
);

/** What a file's own head says, read once for a size and modified time. */
export const essence = mysqlTable(
  'essence',
  {
    fileId: amount('file_id').primaryKey(),
    readSizeBytes: amount('read_size_bytes').notNull(),
    readModifiedUs: amount('read_modified_us').notNull(),
    format: varchar('format', { length: 40 }).notNull(),
    codec: varchar('codec', { length: 80 }),
    width: int('width'),
    height: int('height'),
    channels: int('channels'),
    sampleRate: int('sample_rate'),
    rateNum: int('rate_num'),
    rateDen: int('rate_den'),
    durationFrames: amount('duration_frames'),
    /** First frame, counted at the rate from midnight. */
    startFrame: amount('start_frame'),
    dropFrame: boolean('drop_frame'),
    reel: varchar('reel', { length: 120 }),
    trouble: varchar('trouble', { length: 500 }),
    /** What of it nothing can take, in words: it counts as not told. */
    note: varchar('note', { length: 500 }),
    /** Of its size, its beginning, middle and end; see disk/documents/essence-source.ts. */
    fingerprint: char('fingerprint', { length: 32 }),
  },
  (t) => [index('essence_reel').on(t.reel)],
);

/** Small films of what is archived, made while its originals are there. */
export const viewingCopies = mysqlTable('viewing_copies', {
  fileId: amount('file_id').primaryKey(),
  /** Of the file that it was made of. */
  modifiedUs: amount('modified_us').notNull(),
  /** 0 where none could be made. */
  bytes: amount('bytes').notNull(),
  /** Why none could be made, as the end of a sentence. */
  trouble: varchar('trouble', { length: 300 }),
  madeAt: at('made_at').notNull(),
});

/** What they are, in parts of one size: so that any second of one can be asked for. */
export const viewingParts = mysqlTable(
  'viewing_parts',
  {
    fileId: amount('file_id').notNull(),
    part: int('part').notNull(),
    content: bytes('content', 'mediumblob').notNull(),
  },
  (t) => [primaryKey({ columns: [t.fileId, t.part] })],
);

/** Small pictures of media, made by a worker when somebody wants to see one; those not seen for longest go first. */
export const posters = mysqlTable(
  'posters',
  {
    fileId: amount('file_id').notNull(),
    /** Which moment of a strip; see server/projects/posters.ts. */
    moment: int('moment').notNull(),
    modifiedUs: amount('modified_us').notNull(),
    /** JPEG; null where none can be made. */
    picture: bytes('picture', 'mediumblob'),
    bytes: int('bytes').notNull(),
    seenAt: at('seen_at').notNull(),
  },
  (t) => [primaryKey({ columns: [t.fileId, t.moment] }), index('posters_seen').on(t.seenAt)],
);
