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
import { sql } from 'drizzle-orm';
import type { TemplateHome } from '#core/homes/homes.ts';
import { DUTIES, KINDS, PROJECT_ORIGINS, PROJECT_STATES } from '#core/model.ts';
import { DOCUMENT_FORMATS } from '#core/documents/model.ts';
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
    /** How many folders deep it lies; 0 for a volume's top. */
    depth: int('depth').generatedAlwaysAs(
      sql`(IF(path = '', 0, 1 + CHAR_LENGTH(path) - CHAR_LENGTH(REPLACE(path, '/', ''))))`,
      { mode: 'stored' },
    ),
  },
  (t) => [
    uniqueIndex('folders_path').on(t.volumeId, t.pathHash),
    index('folders_parent').on(t.parentId),
    index('folders_depth').on(t.depth),
  ],
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
    settled: boolean('settled').notNull().default(false),
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
    format: mysqlEnum('format', DOCUMENT_FORMATS).notNull().default('otio'),
    state: mysqlEnum('state', ['read', 'broken']).notNull(),
    trouble: text('trouble'),
    readSizeBytes: amount('read_size_bytes').notNull(),
    readModifiedUs: amount('read_modified_us').notNull(),
    readAt: at('read_at').notNull(),
    /** A newer version of the same document that counts in its stead. */
    supersededBy: amount('superseded_by'),
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
    place: mysqlEnum('place', ['inside', 'outside', 'unknown', 'nowhere', 'bundled']).notNull(),
    targets: int('targets').notNull(),
    found: int('found').notNull(),
    /** A file of it is not there, or none is named. */
    lacks: boolean('lacks').generatedAlwaysAs(sql`found < GREATEST(targets, 1)`, { mode: 'stored' }),
    startFrame: amount('start_frame'),
    durationFrames: amount('duration_frames'),
    rateNum: int('rate_num'),
    rateDen: int('rate_den'),
    /** Name of the tape or card it was recorded on, as the document has it. */
    reel: varchar('reel', { length: 120 }),
    /** What the document's timelines use of it, joined, in frames of its rate; null: the whole of it. */
    ranges: jsonOf<[start: number, duration: number][] | null>('ranges'),
    /** Numbers of the timelines that use it. */
    timelineIds: jsonOf<number[]>('timeline_ids'),
    /** A timeline of the document uses it. */
    used: boolean('used').notNull(),
  },
  (t) => [
    index('media_document').on(t.documentId),
    index('media_project').on(t.projectId),
    index('media_lacks').on(t.lacks, t.projectId),
  ],
);

export const mediaTargets = mysqlTable(
  'media_targets',
  {
    mediaId: amount('media_id').notNull(),
    ord: int('ord').notNull(),
    target: longPath('target').notNull(),
    fileId: amount('file_id'),
    /** By its path, or, where the document writes no paths, by name, reel and timecode that no other file shares. */
    foundBy: mysqlEnum('found_by', ['path', 'evidence']).notNull().default('path'),
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
    /** How many uses it has. */
    uses: int('uses').notNull().default(0),
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
    /** In frames of the rate; 0 for the whole of a medium whose length nobody knows. */
    durationFrames: amount('duration_frames').notNull(),
    rateNum: int('rate_num').notNull(),
    rateDen: int('rate_den').notNull(),
    /** False where it, or what it lies in, is switched off. */
    enabled: boolean('enabled').notNull().default(true),
    /** Of its sound; else of its picture. */
    sound: boolean('sound').notNull().default(false),
  },
  (t) => [index('uses_timeline').on(t.timelineId), index('uses_media').on(t.mediaId)],
);

/** What a file's own head says, read once for a size and modified time. */
export const essence = mysqlTable(
  'essence',
  {
    fileId: amount('file_id').primaryKey(),
    readSizeBytes: amount('read_size_bytes').notNull(),
    readModifiedUs: amount('read_modified_us').notNull(),
    format: varchar('format', { length: 40 }).notNull(),
    codec: varchar('codec', { length: 80 }),
    width: int('width'),
    height: int('height'),
    channels: int('channels'),
    sampleRate: int('sample_rate'),
    rateNum: int('rate_num'),
    rateDen: int('rate_den'),
    durationFrames: amount('duration_frames'),
    /** First frame, counted at the rate from midnight. */
    startFrame: amount('start_frame'),
    dropFrame: boolean('drop_frame'),
    reel: varchar('reel', { length: 120 }),
    trouble: varchar('trouble', { length: 500 }),
    /** Of its size, its beginning, middle and end; see disk/documents/essence-source.ts. */
    fingerprint: char('fingerprint', { length: 32 }),
  },
  (t) => [index('essence_reel').on(t.reel)],
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
    /** Where a moved file goes, inside the step's volume. */
    targetPath: longPath('target_path'),
    /** XXH3-128 of a file that was copied, as read back. */
    xxh128: char('xxh128', { length: 32 }),
  },
  (t) => [index('step_items_file').on(t.fileId), index('step_items_state').on(t.stepId, t.state)],
);

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
    'files moved',
    'folders made',
    'media relinked',
    'project added',
    'project changed',
    'kinds changed',
    'template changed',
    'station retired',
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
