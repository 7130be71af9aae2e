// What project documents say: bins, clips, media, timelines and their uses.
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
import { sql } from 'drizzle-orm';
import type { DocumentNote } from '#core/documents/model.ts';
import type { Needs } from '#core/documents/needs.ts';
import type { Stills } from '#core/documents/stills.ts';
import { amount, id, at, jsonOf, longPath } from './columns.ts';

export const documents = mysqlTable(
  'documents',
  {
    id: id(),
    projectId: amount('project_id').notNull(),
    fileId: amount('file_id').notNull(),
    name: varchar('name', { length: 1020 }).notNull(),
    /** One of the formats in core/documents/formats. */
    format: varchar('format', { length: 40 }).notNull().default('otio'),
    state: mysqlEnum('state', ['read', 'broken']).notNull(),
    trouble: text('trouble'),
    /** Details of it that could not be read, with their places. */
    notes: jsonOf<DocumentNote[]>('notes'),
    /** Fonts and plug-ins that it names. */
    needs: jsonOf<Needs>('needs'),
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
    /** Files that it is: of a sequence all its stills, also those that have no row of their own. */
    targets: int('targets').notNull(),
    /** A sequence of stills as a range; its rows are its first still and those that were found. */
    stills: jsonOf<Stills | null>('stills'),
    found: int('found').notNull(),
    /** A file of it is not there, or none is named. */
    incomplete: boolean('incomplete').generatedAlwaysAs(sql`found < GREATEST(targets, 1)`, { mode: 'stored' }),
    /** A sequence that lacks stills, or of which nobody knows how many there are: looked for at every reading. */
    isOpenSequence: boolean('is_open_sequence').generatedAlwaysAs(
      sql`stills IS NOT NULL AND (found < GREATEST(targets, 1) OR JSON_VALUE(stills, '$.count') IS NULL)`,
      { mode: 'stored' },
    ),
    startFrame: amount('start_frame'),
    durationFrames: amount('duration_frames'),
    rateNum: int('rate_num'),
    rateDen: int('rate_den'),
    /** Name of the tape or card it was recorded on, as the document has it. */
    reel: varchar('reel', { length: 120 }),
    /** Its picture in pixels, as the document has it. */
    pictureWidth: int('picture_width'),
    pictureHeight: int('picture_height'),
    /** What the document's timelines use of it, joined, in frames of its rate; null: the whole of it. */
    ranges: jsonOf<[start: number, duration: number][] | null>('ranges'),
    /**
     * The same, joined where one reference of the document uses what lies on both sides: it can lead to one file alone. Null
     * as well where the document was read before this was kept.
     */
    spans: jsonOf<[start: number, duration: number][] | null>('spans'),
    /** Numbers of the timelines that use it. */
    timelineIds: jsonOf<number[]>('timeline_ids'),
    /** A timeline of the document uses it. */
    used: boolean('used').notNull(),
  },
  (t) => [
    index('media_document').on(t.documentId),
    index('media_project').on(t.projectId),
    index('media_incomplete').on(t.incomplete, t.projectId),
    index('media_open_sequence').on(t.isOpenSequence),
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
    /** By which of the document's references, whose uses go together; -1 where it has none that could lead elsewhere. */
    reference: int('reference').notNull().default(-1),
  },
  (t) => [index('uses_timeline').on(t.timelineId), index('uses_media').on(t.mediaId)],
);
