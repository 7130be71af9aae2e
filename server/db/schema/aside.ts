// What was set aside: files that left their place and lie in Keramion's own folder on the same volume, until they are taken
// back or removed for good.
import { index, int, mysqlEnum, mysqlTable, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { KINDS } from '#core/model.ts';
import { amount, at, bytes, id, longPath } from './columns.ts';

export const ASIDE_STATES = ['aside', 'taken back', 'removed'] as const;

export const aside = mysqlTable(
  'aside',
  {
    id: id(),
    /** The item of the step that set it aside. */
    itemId: amount('item_id').notNull(),
    stepId: amount('step_id').notNull(),
    fileId: amount('file_id').notNull(),
    volumeId: amount('volume_id').notNull(),
    projectId: amount('project_id'),
    kind: mysqlEnum('kind', KINDS).notNull(),
    /** Where it was. */
    path: longPath('path').notNull(),
    rawPath: bytes('raw_path', 'varbinary(4096)'),
    /** Where it lies. */
    asidePath: longPath('aside_path').notNull(),
    asideRaw: bytes('aside_raw', 'varbinary(4096)'),
    sizeBytes: amount('size_bytes').notNull(),
    modifiedUs: amount('modified_us').notNull(),
    device: amount('device'),
    inode: amount('inode'),
    changedUs: amount('changed_us'),
    /** How replaceable it was told to be: 2 a verified copy exists, 3 the only copy. */
    level: int('level').$type<2 | 3>().notNull(),
    /** Why it went, in words. */
    reason: varchar('reason', { length: 300 }).notNull(),
    at: at('at').notNull(),
    state: mysqlEnum('state', ASIDE_STATES).notNull().default('aside'),
    endedAt: at('ended_at'),
  },
  (t) => [
    uniqueIndex('aside_item').on(t.itemId),
    index('aside_file').on(t.fileId, t.state),
    index('aside_state').on(t.state, t.at, t.id),
    index('aside_step').on(t.stepId, t.state),
  ],
);

/** Rollup: what lies aside on a volume, of one step. */
export const asideSums = mysqlTable(
  'aside_sums',
  {
    stepId: amount('step_id').notNull(),
    volumeId: amount('volume_id').notNull(),
    level: int('level').$type<2 | 3>().notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
  },
  (t) => [uniqueIndex('aside_sums_key').on(t.stepId, t.volumeId, t.level), index('aside_sums_volume').on(t.volumeId)],
);
