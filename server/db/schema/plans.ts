// Plans, their steps, and the items of each step with what became of them.
import { boolean, char, index, int, mysqlEnum, mysqlTable, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { ENCODINGS } from '#core/archive/encoding.ts';
import { type HeldReason, ITEM_STATES, type StepWhat } from '#core/plan/plan.ts';
import { amount, id, at, bytes, jsonOf, longPath } from './columns.ts';

export const plans = mysqlTable(
  'plans',
  {
    id: id(),
    state: mysqlEnum('state', ['draft', 'running', 'done', 'emptied']).notNull(),
    /** Grows with every change, so that nobody runs a plan other than the one they looked at. */
    version: int('version').notNull().default(1),
    /** 1 while it is the draft, else null: only one plan can be the draft. */
    draft: int('draft'),
    createdAt: at('created_at').notNull(),
    runBy: varchar('run_by', { length: 120 }),
    runAt: at('run_at'),
    doneAt: at('done_at'),
  },
  (t) => [uniqueIndex('plans_draft').on(t.draft)],
);

export const steps = mysqlTable(
  'steps',
  {
    id: id(),
    planId: amount('plan_id').notNull(),
    what: jsonOf<StepWhat>('what').notNull(),
    title: varchar('title', { length: 500 }).notNull(),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
    jobId: amount('job_id'),
    /** Of a step that removes: what its files took on the medium, as far as it went. */
    freedBytes: amount('freed_bytes').notNull().default(0),
    /** Bytes of files that have other names still, and so took no space with them. */
    linkedBytes: amount('linked_bytes').notNull().default(0),
    /** Bytes that were free on each volume before it began, by the volume's number. */
    freeBefore: jsonOf<Record<string, number>>('free_before'),
    /** While it runs: its items up to this number that say 'waiting' are begun, or taken; see runtime/item-marks.ts. */
    begunTo: amount('begun_to').notNull().default(0),
    takenTo: amount('taken_to').notNull().default(0),
  },
  (t) => [index('steps_plan').on(t.planId)],
);

/** Ranges of an item that an archive takes, or a restore leaves, instead of the whole, as they were chosen. */
export const stepParts = mysqlTable(
  'step_parts',
  {
    id: id(),
    stepId: amount('step_id').notNull(),
    /** Of a restore: a file of the archive. */
    fileId: amount('file_id').notNull(),
    /** In frames of its picture, or of its sound; `to` not included. */
    partFrom: amount('part_from').notNull(),
    partTo: amount('part_to').notNull(),
    /** All of it is encoded anew: how; then the range says nothing. */
    encoding: mysqlEnum('encoding', ENCODINGS),
    /** About, until it was weighed. */
    sizeBytes: amount('size_bytes').notNull(),
    measured: boolean('measured').notNull().default(false),
    /** The whole goes in all the same: why, as the end of a sentence. */
    whyWhole: varchar('why_whole', { length: 250 }),
  },
  (t) => [index('step_parts_step').on(t.stepId, t.measured)],
);

export const stepItems = mysqlTable(
  'step_items',
  {
    id: id(),
    stepId: amount('step_id').notNull(),
    volumeId: amount('volume_id').notNull(),
    fileId: amount('file_id').notNull(),
    path: longPath('path').notNull(),
    rawPath: bytes('raw_path', 'varbinary(4096)'),
    sizeBytes: amount('size_bytes').notNull(),
    modifiedUs: amount('modified_us').notNull(),
    device: amount('device'),
    inode: amount('inode'),
    changedUs: amount('changed_us'),
    /** 'taken': it lies under its private name, and only the job's worker can have removed or moved it from there. */
    state: mysqlEnum('state', ITEM_STATES).notNull().default('waiting'),
    /** Why it was held: one of the words in core/plan. */
    reason: varchar('reason', { length: 40 }).$type<HeldReason>(),
    detail: varchar('detail', { length: 1000 }),
    /** Where a moved file goes, inside the step's volume. */
    targetPath: longPath('target_path'),
    /** XXH64 of a file that was copied, as read back, and which file that copy is. */
    xxh64: char('xxh64', { length: 16 }),
    copyDevice: amount('copy_device'),
    copyInode: amount('copy_inode'),
    /** Of a restore: which file of the archive it brings back. */
    archiveFileId: amount('archive_file_id'),
  },
  (t) => [index('step_items_file').on(t.fileId), index('step_items_state').on(t.stepId, t.state)],
);
