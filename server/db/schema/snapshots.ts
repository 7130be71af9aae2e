// Snapshots of project documents: copies of how they were at some moments, on another volume than theirs.
import type { Contents } from '#core/snapshots/contents.ts';
import type { Summary } from '#core/snapshots/snapshots.ts';
import { char, index, mysqlEnum, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { amount, at, id, jsonOf, longPath } from './columns.ts';

export const snapshots = mysqlTable(
  'snapshots',
  {
    id: id(),
    projectId: amount('project_id').notNull(),
    /** The document, as a file of the catalogue, and its name at the time. */
    fileId: amount('file_id').notNull(),
    name: varchar('name', { length: 1020 }).notNull(),
    onVolumeId: amount('on_volume_id').notNull(),
    /** Below that volume. */
    path: longPath('path').notNull(),
    /** What is not kept yet, or goes, is finished by the next run: only what is kept counts. */
    state: mysqlEnum('state', ['being kept', 'kept', 'going']).notNull(),
    takenAt: at('taken_at').notNull(),
    /** Of the document when it was copied. */
    modifiedUs: amount('modified_us').notNull(),
    sizeBytes: amount('size_bytes').notNull(),
    xxh64: char('xxh64', { length: 16 }).notNull(),
    summary: jsonOf<Summary>('summary').notNull(),
  },
  (t) => [index('snapshots_project').on(t.projectId), index('snapshots_file').on(t.fileId)],
);

/** What the document of a snapshot takes of its media, for whoever compares it; none of one from before this was kept, or with too much. */
export const snapshotContents = mysqlTable('snapshot_contents', {
  snapshotId: amount('snapshot_id').primaryKey(),
  contents: jsonOf<Contents>('contents').notNull(),
});
