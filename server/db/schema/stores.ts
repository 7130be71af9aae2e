// Stations, the volumes that hang on them, carriers, and which worker reaches which of them.
import { boolean, index, int, mysqlEnum, mysqlTable, primaryKey, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import type { CarrierFacts } from '#core/archive/carrier-facts.ts';
import { DUTIES } from '#core/model.ts';
import { amount, id, at, jsonOf, longPath } from './columns.ts';

export const stations = mysqlTable(
  'stations',
  {
    id: id(),
    name: varchar('name', { length: 120 }).notNull(),
    role: mysqlEnum('role', ['workstation', 'server', 'portable']).notNull(),
    /** Taken out of use: it has no volume in use and is no longer offered. */
    retiredAt: at('retired_at'),
  },
  (t) => [uniqueIndex('stations_name').on(t.name)],
);

export const STORE_STATES = ['reachable', 'unreachable', 'swapped', 'not looked at'] as const;

export const volumes = mysqlTable(
  'volumes',
  {
    id: id(),
    stationId: amount('station_id').notNull(),
    name: varchar('name', { length: 120 }).notNull(),
    path: longPath('path').notNull(),
    duty: mysqlEnum('duty', DUTIES).notNull(),
    capacityBytes: amount('capacity_bytes').notNull(),
    /** True: the capacity is a quota given by a person, and what is free is the quota less what is catalogued. */
    quota: boolean('quota').notNull(),
    freeBytes: amount('free_bytes').notNull().default(0),
    identity: varchar('identity', { length: 64 }),
    state: mysqlEnum('state', STORE_STATES).notNull().default('not looked at'),
    /** A station boots from it: media do not belong there. */
    systemDrive: boolean('system_drive').notNull().default(false),
    portable: boolean('portable').notNull().default(false),
    /** Many stations work on it at once: caches do not belong there. */
    shared: boolean('shared').notNull().default(false),
    /** Speed of the way to it in megabits a second, as a person knows it. */
    linkMbits: int('link_mbits'),
    /** Seen at the last look: nothing can be written there. */
    readOnly: boolean('read_only').notNull().default(false),
    /** Number of its file system at the last reading: all that is read of it lies on that one. */
    device: amount('device'),
    /** What people call the disk or array it lies on, where the system cannot tell; empty: as the system says. */
    disk: varchar('disk', { length: 120 }).notNull().default(''),
    seenAt: at('seen_at'),
    readAt: at('read_at'),
    /** Read again when it was last read this long ago; null: only when asked. */
    readEveryHours: int('read_every_hours'),
    /** Taken out of use: no longer on the rack nor read; what was known of it is kept. */
    retiredAt: at('retired_at'),
  },
  (t) => [uniqueIndex('volumes_name').on(t.name)],
);

/** The path a volume has on another station that mounts it, in that station's own syntax. */
export const mounts = mysqlTable(
  'mounts',
  {
    volumeId: amount('volume_id').notNull(),
    stationId: amount('station_id').notNull(),
    path: longPath('path').notNull(),
  },
  (t) => [primaryKey({ columns: [t.volumeId, t.stationId] })],
);

export const carriers = mysqlTable(
  'carriers',
  {
    id: id(),
    name: varchar('name', { length: 60 }).notNull(),
    /** One of the kinds in server/carriers/kinds.ts; its settings are parsed by it when they are read. */
    kind: varchar('kind', { length: 40 }).notNull(),
    /** Where it is kept: a cabinet, a box, off site. Copies count by it. */
    place: varchar('place', { length: 120 }).notNull(),
    /** Since when it is used, where somebody said so. */
    since: at('since'),
    /** Who has it, since when, and when it is due back; null while it is in its place. */
    lentTo: varchar('lent_to', { length: 120 }),
    lentAt: at('lent_at'),
    dueAt: at('due_at'),
    settings: jsonOf<Record<string, unknown>>('settings').notNull(),
    capacityBytes: amount('capacity_bytes').notNull(),
    /** Room left on it when a worker last looked; null before that. */
    freeBytes: amount('free_bytes'),
    identity: varchar('identity', { length: 64 }),
    /** What its kind saw of it at the last look; null where there is nothing more to say. */
    facts: jsonOf<CarrierFacts>('facts'),
    state: mysqlEnum('state', STORE_STATES).notNull().default('not looked at'),
    seenAt: at('seen_at'),
  },
  (t) => [uniqueIndex('carriers_name').on(t.name)],
);

/** Workers that are, or were, at work. One is alive while its last sign is young. */
export const workers = mysqlTable(
  'workers',
  {
    id: id(),
    name: varchar('name', { length: 120 }).notNull(),
    /** The machine it runs on, as the machine calls itself. */
    machine: varchar('machine', { length: 120 }).notNull(),
    seenAt: at('seen_at').notNull(),
  },
  (t) => [uniqueIndex('workers_name').on(t.name)],
);

/** What each worker reaches, by which path, for itself alone. What is reachable follows from the living ones. */
export const workerReach = mysqlTable(
  'worker_reach',
  {
    workerId: amount('worker_id').notNull(),
    store: mysqlEnum('store', ['volume', 'carrier']).notNull(),
    storeId: amount('store_id').notNull(),
    path: longPath('path').notNull(),
    state: mysqlEnum('state', STORE_STATES).notNull(),
    seenAt: at('seen_at').notNull(),
  },
  (t) => [
    primaryKey({ columns: [t.workerId, t.store, t.storeId] }),
    index('worker_reach_store').on(t.store, t.storeId),
  ],
);

/** Files that a program has open on a worker's machine, as the worker saw it last; written while a plan is being made. */
export const openNow = mysqlTable(
  'open_now',
  {
    workerId: amount('worker_id').notNull(),
    fileId: amount('file_id').notNull(),
    program: varchar('program', { length: 60 }).notNull(),
  },
  (t) => [primaryKey({ columns: [t.workerId, t.fileId] }), index('open_now_file').on(t.fileId)],
);
