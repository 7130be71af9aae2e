// Rollups: bytes and counts by folder, volume, project, kind and day, so that no screen sums file rows.
import { index, int, mysqlEnum, mysqlTable, primaryKey } from 'drizzle-orm/mysql-core';
import { KINDS } from '#core/model.ts';
import { amount } from './columns.ts';

/** Rollup: what lies directly in a folder. project_id 0 stands for none, so that it can be part of the key. */
export const folderHoldings = mysqlTable(
  'folder_holdings',
  {
    folderId: amount('folder_id').notNull(),
    kind: mysqlEnum('kind', KINDS).notNull(),
    projectId: amount('project_id').notNull(),
    /** Days since 1970, UTC, of the modified time. */
    day: int('day').notNull(),
    volumeId: amount('volume_id').notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
    newestUs: amount('newest_us').notNull(),
    oldestUs: amount('oldest_us').notNull().default(0),
    /** Bytes of the largest single file of these. */
    largestBytes: amount('largest_bytes').notNull().default(0),
  },
  (t) => [
    primaryKey({ columns: [t.folderId, t.kind, t.projectId, t.day] }),
    // Holds all that the reclaim lens asks for, so that no row has to be fetched.
    index('folder_holdings_kind').on(t.kind, t.volumeId, t.folderId, t.projectId, t.day, t.files, t.bytes, t.newestUs),
    index('folder_holdings_project').on(t.projectId, t.kind),
    index('folder_holdings_largest').on(t.largestBytes),
    index('folder_holdings_newest').on(t.newestUs),
    index('folder_holdings_oldest').on(t.oldestUs),
  ],
);

/** Rollup: what lies on a volume, by project, kind and day. */
export const volumeHoldings = mysqlTable(
  'volume_holdings',
  {
    volumeId: amount('volume_id').notNull(),
    projectId: amount('project_id').notNull(),
    kind: mysqlEnum('kind', KINDS).notNull(),
    day: int('day').notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
  },
  (t) => [
    primaryKey({ columns: [t.volumeId, t.projectId, t.kind, t.day] }),
    index('volume_holdings_project').on(t.projectId),
  ],
);

/** Rollup: what lies on a volume, by the day it was last changed. */
export const volumeDays = mysqlTable(
  'volume_days',
  {
    volumeId: amount('volume_id').notNull(),
    day: int('day').notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
  },
  (t) => [primaryKey({ columns: [t.volumeId, t.day] })],
);

/** Rollup: what lies on a volume now, by project and kind: small enough for every screen. */
export const volumeSums = mysqlTable(
  'volume_sums',
  {
    volumeId: amount('volume_id').notNull(),
    projectId: amount('project_id').notNull(),
    kind: mysqlEnum('kind', KINDS).notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
  },
  (t) => [primaryKey({ columns: [t.volumeId, t.projectId, t.kind] }), index('volume_sums_project').on(t.projectId)],
);

/** Rollup of samples: what a volume held on a day, in all. */
export const sampleSums = mysqlTable(
  'sample_sums',
  {
    volumeId: amount('volume_id').notNull(),
    day: int('day').notNull(),
    bytes: amount('bytes').notNull(),
  },
  (t) => [primaryKey({ columns: [t.volumeId, t.day] })],
);

/** What a volume held on a day, by project and kind: left by the last whole reading of that day. */
export const samples = mysqlTable(
  'samples',
  {
    volumeId: amount('volume_id').notNull(),
    day: int('day').notNull(),
    projectId: amount('project_id').notNull(),
    kind: mysqlEnum('kind', KINDS).notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
  },
  (t) => [primaryKey({ columns: [t.volumeId, t.day, t.projectId, t.kind] })],
);

/** Rollup: what the documents of a project name, what of it is missing, what no timeline reaches. */
export const projectSums = mysqlTable('project_sums', {
  projectId: amount('project_id').primaryKey(),
  media: amount('media').notNull(),
  missing: amount('missing').notNull(),
  unusedBytes: amount('unused_bytes').notNull(),
});

/** Strays by project, kind and volume, worked out anew whenever holdings or homes changed; see services/homes.ts. */
export const strays = mysqlTable(
  'strays',
  {
    projectId: amount('project_id').notNull(),
    kind: mysqlEnum('kind', KINDS).notNull(),
    volumeId: amount('volume_id').notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
  },
  (t) => [primaryKey({ columns: [t.projectId, t.kind, t.volumeId] })],
);
