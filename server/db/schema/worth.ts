// What may go, file by file, as it was worked out last: see server/reclaim/assess.ts. A new assessment is written beside the
// old one and takes its place at once. Steps look at every file anew; nothing goes on the word of these rows.
import { char, index, int, mysqlEnum, mysqlTable, primaryKey } from 'drizzle-orm/mysql-core';
import { GROUPS, REASONS } from '#core/reclaim/worth.ts';
import { amount } from './columns.ts';

export const worth = mysqlTable(
  'worth',
  {
    run: int('run').notNull(),
    fileId: amount('file_id').notNull(),
    volumeId: amount('volume_id').notNull(),
    folderId: amount('folder_id').notNull(),
    /** 0: nobody's. */
    projectId: amount('project_id').notNull(),
    what: mysqlEnum('what', GROUPS).notNull(),
    level: int('level').$type<0 | 1 | 2 | 3>().notNull(),
    reason: mysqlEnum('reason', REASONS).notNull(),
    /** The archive that has it, or the file that it is the same as; null where neither is known. */
    other: amount('other'),
    sizeBytes: amount('size_bytes').notNull(),
    /** Days since 1970 of its modified time. */
    day: int('day').notNull(),
  },
  (t) => [primaryKey({ columns: [t.run, t.fileId] }), index('worth_folder').on(t.run, t.folderId)],
);

/** Rollup: what may go of a folder that goes together: of one project, group, level and reason. */
export const worthLines = mysqlTable(
  'worth_lines',
  {
    run: int('run').notNull(),
    what: mysqlEnum('what', GROUPS).notNull(),
    volumeId: amount('volume_id').notNull(),
    folderId: amount('folder_id').notNull(),
    projectId: amount('project_id').notNull(),
    level: int('level').$type<0 | 1 | 2 | 3>().notNull(),
    reason: mysqlEnum('reason', REASONS).notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
    /** Of the newest. */
    day: int('day').notNull(),
  },
  (t) => [
    primaryKey({ columns: [t.run, t.folderId, t.what, t.projectId, t.level, t.reason] }),
    index('worth_lines_largest').on(t.run, t.what, t.bytes),
  ],
);

/** Rollup: what may go, by group, volume, project and level. */
export const worthSums = mysqlTable(
  'worth_sums',
  {
    run: int('run').notNull(),
    what: mysqlEnum('what', GROUPS).notNull(),
    volumeId: amount('volume_id').notNull(),
    projectId: amount('project_id').notNull(),
    level: int('level').$type<0 | 1 | 2 | 3>().notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
  },
  (t) => [primaryKey({ columns: [t.run, t.what, t.volumeId, t.projectId, t.level] })],
);

/** Sums of files that may be the same as others, for the size and times they had then. */
export const fileSums = mysqlTable(
  'file_sums',
  {
    fileId: amount('file_id').primaryKey(),
    sizeBytes: amount('size_bytes').notNull(),
    modifiedUs: amount('modified_us').notNull(),
    inode: amount('inode'),
    changedUs: amount('changed_us'),
    /** XXH64 of its beginning and its end. */
    ends: char('ends', { length: 16 }).notNull(),
    /** XXH64 of the whole; null where its ends tell it from all others of its size. */
    xxh64: char('xxh64', { length: 16 }),
    /** Bytes in blocks that other files hold as well; null where its file system shares none, or does not tell. */
    sharedBytes: amount('shared_bytes'),
  },
  (t) => [index('file_sums_same').on(t.sizeBytes, t.xxh64)],
);
