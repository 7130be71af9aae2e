// Projects, their states, the folders they claim and the homes of their files.
import type { KindRule } from '#core/kinds/kinds.ts';
import {
  boolean,
  index,
  int,
  mysqlEnum,
  mysqlTable,
  primaryKey,
  text,
  uniqueIndex,
  varchar,
} from 'drizzle-orm/mysql-core';
import type { TemplateHome } from '#core/homes/homes.ts';
import { KINDS, PROJECT_ORIGINS, PROJECT_STATES } from '#core/model.ts';
import { amount, id, at, bytes, jsonOf, longPath } from './columns.ts';

export const projects = mysqlTable(
  'projects',
  {
    id: id(),
    name: varchar('name', { length: 250 }).notNull(),
    slug: varchar('slug', { length: 250 }).notNull(),
    state: mysqlEnum('state', PROJECT_STATES).notNull(),
    stateSince: at('state_since').notNull(),
    origin: mysqlEnum('origin', PROJECT_ORIGINS).notNull().default('documents'),
    client: varchar('client', { length: 200 }).notNull().default(''),
    year: int('year'),
    /** Names and what each does, a line each. */
    people: text('people').notNull().default(''),
    /** For the house alone; never leaves it with an archive or a report. */
    privateNotes: text('private_notes').notNull().default(''),
    /** Goes with archives and reports. */
    publicComments: text('public_comments').notNull().default(''),
  },
  (t) => [uniqueIndex('projects_slug').on(t.slug)],
);

/** The day each state of a project began. */
export const projectStates = mysqlTable(
  'project_states',
  {
    projectId: amount('project_id').notNull(),
    state: mysqlEnum('state', PROJECT_STATES).notNull(),
    since: at('since').notNull(),
  },
  (t) => [primaryKey({ columns: [t.projectId, t.state] })],
);

/** Where the files of a new project belong, by kind; {project} in a folder stands for its short name. */
export const templates = mysqlTable(
  'templates',
  {
    id: id(),
    name: varchar('name', { length: 120 }).notNull(),
    homes: jsonOf<TemplateHome[]>('homes').notNull(),
  },
  (t) => [uniqueIndex('templates_name').on(t.name)],
);

/** Folders whose files keep the kinds they had when they were sealed, whatever the volume is for. */
export const keptKinds = mysqlTable(
  'kept_kinds',
  {
    id: id(),
    volumeId: amount('volume_id').notNull(),
    folder: longPath('folder').notNull(),
    rules: jsonOf<KindRule[]>('rules').notNull(),
    /** Where they come from, in words. */
    reason: varchar('reason', { length: 300 }).notNull(),
  },
  (t) => [index('kept_kinds_volume').on(t.volumeId)],
);

export const claims = mysqlTable(
  'claims',
  {
    id: id(),
    projectId: amount('project_id').notNull(),
    volumeId: amount('volume_id').notNull(),
    folder: longPath('folder').notNull(),
    folderHash: bytes('folder_hash', 'binary(16)').notNull(),
    reason: varchar('reason', { length: 200 }).notNull(),
    /** Files below it have been given to the project. */
    applied: boolean('settled').notNull().default(false),
    /** The project keeps there what it has parked: that has not strayed. */
    parked: boolean('parked').notNull().default(false),
  },
  (t) => [uniqueIndex('claims_folder').on(t.volumeId, t.folderHash), index('claims_project').on(t.projectId)],
);

/** Where a project's files of one kind belong. */
export const homes = mysqlTable(
  'homes',
  {
    projectId: amount('project_id').notNull(),
    kind: mysqlEnum('kind', KINDS).notNull(),
    volumeId: amount('volume_id').notNull(),
    folder: longPath('folder').notNull(),
  },
  (t) => [primaryKey({ columns: [t.projectId, t.kind] })],
);
