// Work: what is asked for, who has it leased, and the stores it needs.
import { boolean, char, index, int, mysqlEnum, mysqlTable, primaryKey, text, varchar } from 'drizzle-orm/mysql-core';
import type { HeldReason } from '#core/plan/plan.ts';
import { amount, id, at, jsonOf, longPath } from './columns.ts';

/** What work can need: a volume's disk, a carrier, and what the catalogue says of a volume (its number is the volume's). */
export const STORES = ['volume', 'carrier', 'catalogue'] as const;
export const ANSWERS = ['leave out', 'try again'] as const;
export const JOB_STATES = ['queued', 'running', 'done', 'failed', 'cancelled'] as const;

export const jobs = mysqlTable(
  'jobs',
  {
    id: id(),
    /** A kind of work known to the registry of work; its parameters are parsed by it when they are read. */
    kind: varchar('kind', { length: 60 }).notNull(),
    /** Random: private names on disks carry it, so that no other database's work is taken for this one's. */
    mark: char('mark', { length: 36 }).notNull(),
    title: varchar('title', { length: 500 }).notNull(),
    params: jsonOf<Record<string, unknown>>('params').notNull(),
    stepId: amount('step_id'),
    /** Too small to be told of in the tray. */
    quiet: boolean('quiet').notNull().default(false),
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
    /** Nobody takes it before: what it needs takes its time. */
    notBefore: at('not_before'),
    attempts: int('attempts').notNull().default(0),
    /** How often a worker that had it went silent, since it last got on. */
    crashes: int('crashes').notNull().default(0),
    trouble: text('trouble'),
    createdAt: at('created_at').notNull(),
    startedAt: at('started_at'),
    finishedAt: at('finished_at'),
  },
  (t) => [index('jobs_state').on(t.state, t.id)],
);

/** What a job needs: a worker takes it only where it reaches the volumes and carriers, and nobody else has them. */
export const jobStores = mysqlTable(
  'job_stores',
  {
    jobId: amount('job_id').notNull(),
    store: mysqlEnum('store', STORES).notNull(),
    storeId: amount('store_id').notNull(),
    /** Shared for looking, alone for changing. */
    mode: mysqlEnum('mode', ['look', 'change']).notNull(),
  },
  (t) => [primaryKey({ columns: [t.jobId, t.store, t.storeId] }), index('job_stores_store').on(t.store, t.storeId)],
);

/** What work asks of people before it goes on: of a file that it cannot take. Until there is an answer no worker takes it. */
export const jobQuestions = mysqlTable(
  'job_questions',
  {
    id: id(),
    jobId: amount('job_id').notNull(),
    fileId: amount('file_id').notNull(),
    path: longPath('path').notNull(),
    sizeBytes: amount('size_bytes').notNull(),
    reason: varchar('reason', { length: 40 }).$type<HeldReason>().notNull(),
    askedAt: at('asked_at').notNull(),
    answer: mysqlEnum('answer', ANSWERS),
    who: varchar('who', { length: 120 }),
    answeredAt: at('answered_at'),
  },
  (t) => [index('job_questions_job').on(t.jobId, t.answer)],
);
