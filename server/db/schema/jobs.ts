// Work: what is asked for, who has it leased, and the stores it needs.
import { boolean, char, index, int, mysqlEnum, mysqlTable, primaryKey, text, varchar } from 'drizzle-orm/mysql-core';
import { amount, id, at, jsonOf } from './columns.ts';

export const JOB_STATES = ['queued', 'running', 'done', 'failed', 'cancelled'] as const;

export const jobs = mysqlTable(
  'jobs',
  {
    id: id(),
    kind: mysqlEnum('kind', [
      'read volume',
      'remove',
      'archive',
      'restore',
      'move',
      'make folders',
      'apply kinds',
      'relink',
    ]).notNull(),
    title: varchar('title', { length: 500 }).notNull(),
    params: jsonOf<Record<string, unknown>>('params').notNull(),
    stepId: amount('step_id'),
    who: varchar('who', { length: 120 }).notNull(),
    state: mysqlEnum('state', JOB_STATES).notNull().default('queued'),
    phase: varchar('phase', { length: 60 }).notNull().default(''),
    /** 'bytes' or 'files': what done and total count. */
    unit: mysqlEnum('unit', ['bytes', 'files']).notNull().default('bytes'),
    done: amount('done').notNull().default(0),
    total: amount('total').notNull().default(0),
    /** A second, smoothed by the worker. */
    rate: amount('rate').notNull().default(0),
    cancelAsked: boolean('cancel_asked').notNull().default(false),
    worker: varchar('worker', { length: 120 }),
    lease: char('lease', { length: 36 }),
    leaseUntil: at('lease_until'),
    attempts: int('attempts').notNull().default(0),
    trouble: text('trouble'),
    createdAt: at('created_at').notNull(),
    startedAt: at('started_at'),
    finishedAt: at('finished_at'),
  },
  (t) => [index('jobs_state').on(t.state, t.id)],
);

/** Volumes and carriers a job touches: a worker takes it only where it reaches them all. */
export const jobStores = mysqlTable(
  'job_stores',
  {
    jobId: amount('job_id').notNull(),
    store: mysqlEnum('store', ['volume', 'carrier']).notNull(),
    storeId: amount('store_id').notNull(),
  },
  (t) => [primaryKey({ columns: [t.jobId, t.store, t.storeId] })],
);
