// The tables. One word a concept, as in the glossary. Byte and frame counts are bigint read as numbers: all stay below
// 2^53. The database's collation compares byte for byte (see the first migration): 'a' and 'a ' are two names.
import {
  bigint,
  boolean,
  char,
  customType,
  datetime,
  index,
  int,
  mysqlEnum,
  mysqlTable,
  primaryKey,
  text,
  uniqueIndex,
  varchar,
} from 'drizzle-orm/mysql-core';
import { DUTIES, KINDS, PROJECT_STATES } from '#core/model.ts';
import { HELD_REASONS, type StepWhat } from '#core/plan/plan.ts';

const amount = (name: string) => bigint(name, { mode: 'number' });
const id = () => amount('id').primaryKey().autoincrement();
const at = (name: string) => datetime(name, { mode: 'date', fsp: 3 });
/** Paths up to 4,095 bytes; TEXT so that rows stay small. */
const bytes = (name: string, type: string) => customType<{ data: Buffer }>({ dataType: () => type })(name);
/** JSON; MariaDB hands it over as text. */
const jsonOf = <T>(name: string) =>
  customType<{ data: T; driverData: string }>({
    dataType: () => 'json',
    toDriver: (value) => JSON.stringify(value),
    fromDriver: (value) => (typeof value === 'string' ? (JSON.parse(value) as T) : value),
  })(name);
const longPath = customType<{ data: string }>({ dataType: () => 'varchar(4096)' });

export const site = mysqlTable('site', {
  key: varchar('key', { length: 64 }).primaryKey(),
  value: text('value').notNull(),
});

export const stations = mysqlTable(
  'stations',
  {
    id: id(),
    name: varchar('name', { length: 120 }).notNull(),
    role: mysqlEnum('role', ['workstation', 'server', 'portable']).notNull(),
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
    type: mysqlEnum('type', ['disk', 'tape', 'remote store']).notNull(),
    place: varchar('place', { length: 120 }).notNull(),
    path: longPath('path').notNull(),
    capacityBytes: amount('capacity_bytes').notNull(),
    identity: varchar('identity', { length: 64 }),
    state: mysqlEnum('state', STORE_STATES).notNull().default('not looked at'),
    seenAt: at('seen_at'),
  },
  (t) => [uniqueIndex('carriers_name').on(t.name)],
);

export const folders = mysqlTable(
  'folders',
  {
    /** Taken from the sequence folder_ids, so that a reader can number folders before they are written. */
    id: amount('id').primaryKey(),
    volumeId: amount('volume_id').notNull(),
    parentId: amount('parent_id'),
    name: varchar('name', { length: 1020 }).notNull(),
    path: longPath('path').notNull(),
    /** XXH3-128 of the path: paths are too long for a key. */
    pathHash: bytes('path_hash', 'binary(16)').notNull(),
    rawPath: bytes('raw_path', 'varbinary(4096)'),
    projectId: amount('project_id'),
    fingerprint: char('fingerprint', { length: 32 }),
    /** Everything below it, itself included. */
    totalFiles: amount('total_files').notNull().default(0),
    totalBytes: amount('total_bytes').notNull().default(0),
    seenAt: at('seen_at'),
    goneAt: at('gone_at'),
  },
  (t) => [uniqueIndex('folders_path').on(t.volumeId, t.pathHash), index('folders_parent').on(t.parentId)],
);

export const files = mysqlTable(
  'files',
  {
    id: id(),
    volumeId: amount('volume_id').notNull(),
    folderId: amount('folder_id').notNull(),
    name: varchar('name', { length: 1020 }).notNull(),
    rawName: bytes('raw_name', 'varbinary(255)'),
    sizeBytes: amount('size_bytes').notNull(),
    modifiedUs: amount('modified_us').notNull(),
    kind: mysqlEnum('kind', KINDS).notNull(),
    projectId: amount('project_id'),
    goneAt: at('gone_at'),
  },
  (t) => [index('files_folder').on(t.folderId), index('files_project').on(t.projectId)],
);

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
  },
  (t) => [
    primaryKey({ columns: [t.folderId, t.kind, t.projectId, t.day] }),
    index('folder_holdings_kind').on(t.kind, t.volumeId),
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

export const readings = mysqlTable('readings', {
  id: id(),
  volumeId: amount('volume_id').notNull(),
  startedAt: at('started_at').notNull(),
  finishedAt: at('finished_at'),
  looked: amount('looked').notNull().default(0),
  added: amount('added').notNull().default(0),
  changed: amount('changed').notNull().default(0),
  gone: amount('gone').notNull().default(0),
  notices: amount('notices').notNull().default(0),
});

export const readingNotices = mysqlTable(
  'reading_notices',
  {
    id: id(),
    readingId: amount('reading_id').notNull(),
    path: longPath('path').notNull(),
    code: varchar('code', { length: 40 }).notNull(),
    detail: varchar('detail', { length: 1000 }).notNull(),
  },
  (t) => [index('reading_notices_reading').on(t.readingId)],
);

export const projects = mysqlTable(
  'projects',
  {
    id: id(),
    name: varchar('name', { length: 250 }).notNull(),
    slug: varchar('slug', { length: 250 }).notNull(),
    state: mysqlEnum('state', PROJECT_STATES).notNull(),
    stateSince: at('state_since').notNull(),
  },
  (t) => [uniqueIndex('projects_slug').on(t.slug)],
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

export const documents = mysqlTable(
  'documents',
  {
    id: id(),
    projectId: amount('project_id').notNull(),
    fileId: amount('file_id').notNull(),
    name: varchar('name', { length: 1020 }).notNull(),
    state: mysqlEnum('state', ['read', 'broken']).notNull(),
    trouble: text('trouble'),
    readSizeBytes: amount('read_size_bytes').notNull(),
    readModifiedUs: amount('read_modified_us').notNull(),
    readAt: at('read_at').notNull(),
  },
  (t) => [uniqueIndex('documents_file').on(t.fileId), index('documents_project').on(t.projectId)],
);

export const bins = mysqlTable(
  'bins',
  {
    id: id(),
    documentId: amount('document_id').notNull(),
    parentId: amount('parent_id'),
    name: varchar('name', { length: 1000 }).notNull(),
  },
  (t) => [index('bins_document').on(t.documentId)],
);

export const media = mysqlTable(
  'media',
  {
    id: id(),
    documentId: amount('document_id').notNull(),
    projectId: amount('project_id').notNull(),
    name: varchar('name', { length: 1020 }).notNull(),
    /** How the first target was understood; 'nowhere' where the document itself says the media is missing. */
    place: mysqlEnum('place', ['inside', 'outside', 'unknown', 'nowhere']).notNull(),
    targets: int('targets').notNull(),
    found: int('found').notNull(),
    startFrame: amount('start_frame'),
    durationFrames: amount('duration_frames'),
    rateNum: int('rate_num'),
    rateDen: int('rate_den'),
    /** A timeline of the document uses it. */
    used: boolean('used').notNull(),
  },
  (t) => [index('media_document').on(t.documentId), index('media_project').on(t.projectId)],
);

export const mediaTargets = mysqlTable(
  'media_targets',
  {
    mediaId: amount('media_id').notNull(),
    ord: int('ord').notNull(),
    target: longPath('target').notNull(),
    fileId: amount('file_id'),
  },
  (t) => [primaryKey({ columns: [t.mediaId, t.ord] }), index('media_targets_file').on(t.fileId)],
);

export const clips = mysqlTable(
  'clips',
  {
    id: id(),
    documentId: amount('document_id').notNull(),
    binId: amount('bin_id'),
    mediaId: amount('media_id'),
    name: varchar('name', { length: 1020 }).notNull(),
  },
  (t) => [index('clips_document').on(t.documentId, t.binId), index('clips_media').on(t.mediaId)],
);

export const timelines = mysqlTable(
  'timelines',
  {
    id: id(),
    documentId: amount('document_id').notNull(),
    binId: amount('bin_id'),
    name: varchar('name', { length: 1020 }).notNull(),
    durationFrames: amount('duration_frames').notNull(),
    rateNum: int('rate_num').notNull(),
    rateDen: int('rate_den').notNull(),
  },
  (t) => [index('timelines_document').on(t.documentId)],
);

export const uses = mysqlTable(
  'uses',
  {
    id: id(),
    timelineId: amount('timeline_id').notNull(),
    mediaId: amount('media_id').notNull(),
    startFrame: amount('start_frame').notNull(),
    durationFrames: amount('duration_frames').notNull(),
    rateNum: int('rate_num').notNull(),
    rateDen: int('rate_den').notNull(),
  },
  (t) => [index('uses_timeline').on(t.timelineId), index('uses_media').on(t.mediaId)],
);

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
  },
  (t) => [index('steps_plan').on(t.planId)],
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
    state: mysqlEnum('state', ['waiting', 'started', 'done', 'held']).notNull().default('waiting'),
    reason: mysqlEnum('reason', HELD_REASONS),
    detail: varchar('detail', { length: 1000 }),
  },
  (t) => [index('step_items_state').on(t.stepId, t.state)],
);

export const JOB_STATES = ['queued', 'running', 'done', 'failed', 'cancelled'] as const;

export const jobs = mysqlTable(
  'jobs',
  {
    id: id(),
    kind: mysqlEnum('kind', ['read volume', 'remove', 'archive', 'restore']).notNull(),
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

export const receipts = mysqlTable('receipts', {
  id: id(),
  at: at('at').notNull(),
  who: varchar('who', { length: 120 }).notNull(),
  action: mysqlEnum('action', [
    'caches removed',
    'originals removed',
    'archive sealed',
    'project restored',
    'work ended early',
    'volume added',
    'volume changed',
    'volume retired',
    'carrier added',
    'state changed',
    'home changed',
  ]).notNull(),
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
});

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
