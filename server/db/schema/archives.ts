// Archives, their parts, and the copies of them on carriers, file by file.
import { char, index, mysqlEnum, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { HELD_REASONS } from '#core/plan/plan.ts';
import { amount, id, at, bytes, longPath } from './columns.ts';

export const archives = mysqlTable(
  'archives',
  {
    id: id(),
    projectId: amount('project_id').notNull(),
    name: varchar('name', { length: 250 }).notNull(),
    folder: varchar('folder', { length: 250 }).notNull(),
    state: mysqlEnum('state', ['writing', 'sealed', 'ended early']).notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
    sealedAt: at('sealed_at'),
    manifestSha512: char('manifest_sha512', { length: 128 }),
    jobId: amount('job_id'),
  },
  (t) => [index('archives_project').on(t.projectId)],
);

export const archiveCopies = mysqlTable(
  'archive_copies',
  {
    id: id(),
    archiveId: amount('archive_id').notNull(),
    carrierId: amount('carrier_id').notNull(),
    state: mysqlEnum('state', ['writing', 'good', 'damaged', 'ended early']).notNull(),
    writtenAt: at('written_at'),
    readBackAt: at('read_back_at'),
  },
  (t) => [index('archive_copies_archive').on(t.archiveId), index('archive_copies_carrier').on(t.carrierId)],
);

export const archiveFiles = mysqlTable(
  'archive_files',
  {
    id: id(),
    archiveId: amount('archive_id').notNull(),
    role: mysqlEnum('role', ['media', 'document', 'original document']).notNull(),
    /** Path below the bag's data folder. */
    payloadPath: longPath('payload_path').notNull(),
    volumeId: amount('volume_id').notNull(),
    fileId: amount('file_id').notNull(),
    path: longPath('path').notNull(),
    rawPath: bytes('raw_path', 'varbinary(4096)'),
    /** The original's facts when it was copied. */
    sizeBytes: amount('size_bytes').notNull(),
    modifiedUs: amount('modified_us').notNull(),
    /** What lies in the payload: of a relinked document its own size and sums. */
    payloadBytes: amount('payload_bytes'),
    sha512: char('sha512', { length: 128 }),
    xxh128: char('xxh128', { length: 32 }),
    state: mysqlEnum('state', ['waiting', 'copied', 'read back', 'held']).notNull().default('waiting'),
    reason: mysqlEnum('reason', HELD_REASONS),
  },
  (t) => [index('archive_files_archive').on(t.archiveId), index('archive_files_file').on(t.fileId)],
);
