// The ledger.
import { char, index, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { amount, id, at, jsonOf } from './columns.ts';

export const receipts = mysqlTable(
  'receipts',
  {
    id: id(),
    at: at('at').notNull(),
    who: varchar('who', { length: 120 }).notNull(),
    /** What was done; the kinds of steps and of work say which there are. */
    action: varchar('action', { length: 60 }).notNull(),
    title: varchar('title', { length: 500 }).notNull(),
    projectId: amount('project_id'),
    jobId: amount('job_id'),
    stepId: amount('step_id'),
    files: amount('files').notNull(),
    bytes: amount('bytes').notNull(),
    held: amount('held').notNull(),
    facts: jsonOf<Record<string, unknown>>('facts').notNull(),
    /** SHA-256 over the items, one line each, as the receipt's page lists them. */
    itemsSha256: char('items_sha256', { length: 64 }).notNull(),
    /** SHA-256 over this receipt and the one before it: a receipt changed later shows. */
    chainSha256: char('chain_sha256', { length: 64 }).notNull(),
  },
  // The ledger is looked through by each.
  (t) => [
    index('receipts_project').on(t.projectId),
    index('receipts_who').on(t.who),
    index('receipts_action').on(t.action),
    index('receipts_at').on(t.at),
  ],
);
