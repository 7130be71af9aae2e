// The shelf as rows, whole enough to be brought back: which tables, which rows of them, what stays at home, and how a row is
// written as a line of JSON. Written beside the pages of an export, read by an import.
import { and, eq, getTableColumns, gt, inArray, type SQL } from 'drizzle-orm';
import type { MySqlColumn, MySqlTable } from 'drizzle-orm/mysql-core';
import { z } from 'zod';
import { carrierKindOf } from '../carriers/kinds.ts';
import type { Db } from '../db/connect.ts';
import {
  archiveClips,
  archiveCopies,
  archiveFiles,
  archiveParts,
  archives,
  archiveTimelines,
  archiveUses,
  awaitedFiles,
  copyFiles,
  copyParts,
} from '../db/schema/archives.ts';
import { projects, projectStates } from '../db/schema/projects.ts';
import { carriers } from '../db/schema/stores.ts';
import { quietly } from '../runtime/run-items.ts';

/** The form of these rows. Another one is refused. */
export const SHELF_FORM = 1;
export const LIST = 'tables/list.json';

export const shelfList = z.object({
  form: z.literal(SHELF_FORM),
  madeAt: z.iso.datetime(),
  site: z.string().max(250),
  tables: z.array(
    z.object({
      name: z.string().max(60),
      rows: z.number().int().nonnegative(),
      sha256: z.string().regex(/^[0-9a-f]{64}$/),
    }),
  ),
});

type Row = Record<string, unknown>;

export interface ShelfTable {
  name: string;
  table: MySqlTable;
  /** What stays at home, taken out of the row itself: as it is on a shelf that nobody has looked at, with originals that are nobody's here. */
  blank: (row: Row) => Row;
  /** Rows of it, a page at a time. */
  pages: (db: Db) => AsyncGenerator<Row[]>;
  /** Exports that were made before there was such a table have none of it. */
  isLater?: boolean;
}

const PAGE = 5000;
const ON_THE_SHELF = and(eq(archives.purpose, 'archive'), inArray(archives.state, ['sealed', 'let go']));
/** Copies that stand: what is being written is none yet. */
const STANDS = ['good', 'damaged', 'let go'] as const;

const idsOf = async (rows: PromiseLike<{ id: number }[]>): Promise<Set<number>> =>
  new Set((await rows).map((row) => row.id));
const archivesHere = (db: Db) => idsOf(db.select({ id: archives.id }).from(archives).where(ON_THE_SHELF));
const projectsHere = (db: Db) => idsOf(db.select({ id: archives.projectId }).from(archives).where(ON_THE_SHELF));
async function copiesHere(db: Db): Promise<Set<number>> {
  const here = await archivesHere(db);
  const { id, archiveId } = archiveCopies;
  const rows = await db
    .select({ id, archiveId })
    .from(archiveCopies)
    .where(inArray(archiveCopies.state, [...STANDS]));
  return new Set(rows.filter((row) => here.has(row.archiveId)).map((row) => row.id));
}
async function copyPartsHere(db: Db): Promise<number[]> {
  const here = await copiesHere(db);
  const rows = await db.select({ id: copyParts.id, copyId: copyParts.copyId }).from(copyParts).orderBy(copyParts.id);
  return rows.filter((row) => here.has(row.copyId)).map((row) => row.id);
}
async function timelinesHere(db: Db): Promise<number[]> {
  const here = await archivesHere(db);
  const { id, archiveId } = archiveTimelines;
  const rows = await db.select({ id, archiveId }).from(archiveTimelines).orderBy(id);
  return rows.filter((row) => here.has(row.archiveId)).map((row) => row.id);
}

/** By a number that grows, so that each page begins where the one before ended. */
async function* paged(db: Db, table: MySqlTable, by: MySqlColumn, where?: SQL): AsyncGenerator<Row[]> {
  const key = Object.entries(getTableColumns(table)).find(([, column]) => column === by)![0];
  const after = (last: number): Promise<Row[]> =>
    db
      .select()
      .from(table)
      .where(and(gt(by, last), where))
      .orderBy(by)
      .limit(PAGE)
      .execute();
  for (let rows = await after(-1); rows.length > 0;) {
    // The database finds the next while this one is written.
    const next = rows.length < PAGE ? Promise.resolve([]) : quietly(after(Number(rows.at(-1)![key])));
    yield rows;
    rows = await next;
  }
}

/** Those of them that belong to what is exported: chosen here, since a database that chooses among them sorts them all for every page. */
const belonging = (table: MySqlTable, by: MySqlColumn, owner: string, here: (db: Db) => Promise<Set<number>>) =>
  async function* (db: Db): AsyncGenerator<Row[]> {
    const ids = await here(db);
    for await (const rows of paged(db, table, by)) {
      const own = rows.filter((row) => ids.has(row[owner] as number));
      if (own.length > 0) yield own;
    }
  };

/** Of a table without a number of its own: all that belongs to one number after the other. */
async function* each(
  db: Db,
  table: MySqlTable,
  { of, owner, by }: { of: readonly number[]; owner: MySqlColumn; by: MySqlColumn },
): AsyncGenerator<Row[]> {
  for (const id of of) yield* paged(db, table, by, eq(owner, id));
}

const asIs = (row: Row): Row => row;

/** In the order in which they can be brought back: what others name comes first. */
export const SHELF_TABLES: readonly ShelfTable[] = [
  {
    name: 'projects',
    table: projects,
    // Private notes never leave the house with an export.
    blank: (row) => Object.assign(row, { privateNotes: '', origin: 'carrier' }),
    pages: belonging(projects, projects.id, 'id', projectsHere),
  },
  {
    name: 'project_states',
    table: projectStates,
    blank: asIs,
    async *pages(db) {
      const here = await projectsHere(db);
      const rows: Row[] = (await db.select().from(projectStates)).filter((row) => here.has(row.projectId));
      if (rows.length > 0) yield rows;
    },
  },
  {
    name: 'carriers',
    table: carriers,
    blank: (row) => Object.assign(row, { settings: withoutSecrets(row), state: 'not looked at', seenAt: null }),
    pages: (db) => paged(db, carriers, carriers.id),
  },
  {
    name: 'archives',
    table: archives,
    blank: (row) => Object.assign(row, { jobId: null }),
    pages: (db) => paged(db, archives, archives.id, ON_THE_SHELF),
  },
  {
    name: 'archive_parts',
    table: archiveParts,
    blank: asIs,
    pages: belonging(archiveParts, archiveParts.id, 'archiveId', archivesHere),
  },
  {
    name: 'archive_copies',
    table: archiveCopies,
    blank: asIs,
    pages: belonging(archiveCopies, archiveCopies.id, 'id', copiesHere),
  },
  {
    name: 'copy_parts',
    table: copyParts,
    blank: asIs,
    pages: belonging(copyParts, copyParts.id, 'copyId', copiesHere),
  },
  {
    name: 'archive_files',
    table: archiveFiles,
    // A number of a file means another file in another catalogue, and no volume here held it.
    blank: (row) => Object.assign(row, { fileId: 0, volumeId: 0, device: null, inode: null, changedUs: null }),
    pages: belonging(archiveFiles, archiveFiles.id, 'archiveId', archivesHere),
  },
  {
    name: 'copy_files',
    table: copyFiles,
    blank: asIs,
    async *pages(db) {
      const of = await copyPartsHere(db);
      yield* each(db, copyFiles, { of, owner: copyFiles.copyPartId, by: copyFiles.archiveFileId });
    },
  },
  {
    name: 'archive_timelines',
    table: archiveTimelines,
    blank: (row) => Object.assign(row, { documentFileId: 0 }),
    pages: belonging(archiveTimelines, archiveTimelines.id, 'archiveId', archivesHere),
  },
  {
    name: 'archive_uses',
    table: archiveUses,
    blank: asIs,
    async *pages(db) {
      const of = await timelinesHere(db);
      yield* each(db, archiveUses, { of, owner: archiveUses.timelineId, by: archiveUses.archiveFileId });
    },
  },
  {
    name: 'archive_clips',
    table: archiveClips,
    blank: (row) => Object.assign(row, { documentFileId: 0 }),
    pages: belonging(archiveClips, archiveClips.id, 'archiveId', archivesHere),
  },
  {
    name: 'awaited_files',
    table: awaitedFiles,
    blank: asIs,
    pages: belonging(awaitedFiles, awaitedFiles.id, 'archiveId', archivesHere),
    isLater: true,
  },
];

/** Names of the settings of a kind of carrier that nobody else is to know. */
export const secretsOf = (kind: string): string[] =>
  carrierKindOf(kind).fields.flatMap((field) => (field.secret ? [field.name] : []));

function withoutSecrets(row: Row): Row {
  const settings = { ...(row.settings as Row) };
  for (const name of secretsOf(row.kind as string)) delete settings[name];
  return settings;
}

/** Days as text, bytes in base64; all else as JSON has it. */
export function lineOf({ table, blank }: ShelfTable): (row: Row) => string {
  const inBytes = Object.entries(getTableColumns(table)).flatMap(([key, column]) => (isBytes(column) ? [key] : []));
  return (row) => {
    const line = blank(row);
    for (const key of inBytes) if (line[key] !== null) line[key] = (line[key] as Buffer).toString('base64');
    return JSON.stringify(line);
  };
}

const isBytes = (column: MySqlColumn): boolean => /blob|binary/.test(column.getSQLType());

/** What a line may say: every column of the table, each of its kind, and nothing else. */
export function rowSchema({ table, blank }: ShelfTable): z.ZodType<Row> {
  const columns = Object.entries(getTableColumns(table));
  return z.strictObject(Object.fromEntries(columns.map(([key, column]) => [key, valueOf(column)]))).transform(blank);
}

/** What came to a table later is in no export that was made before: it is what it is where nobody says anything. */
function valueOf(column: MySqlColumn): z.ZodType {
  const kind = kindOf(column);
  if (!column.notNull) return kind.nullable().default(null);
  return column.hasDefault ? kind.optional() : kind;
}

function kindOf(column: MySqlColumn): z.ZodType {
  const sqlType = column.getSQLType();
  if (column.enumValues) return z.enum(column.enumValues as [string, ...string[]]);
  // A camera whose clock was never set says years before 1970, which are less than nothing.
  if (column.dataType === 'number') return z.number().int();
  if (column.dataType === 'boolean') return z.boolean();
  if (column.dataType === 'date') return z.iso.datetime().transform((text) => new Date(text));
  if (isBytes(column)) return z.base64().transform((text) => Buffer.from(text, 'base64'));
  if (sqlType === 'json') return z.record(z.string(), z.unknown());
  const most = /\((\d+)\)/.exec(sqlType);
  return most ? z.string().max(Number(most[1])) : z.string().max(65_535);
}

/** Of each table, what its rows name in another: whatever is named has to be there. */
export const NAMED: readonly { from: string; column: string; to: string }[] = [
  { from: 'archives', column: 'project_id', to: 'projects' },
  { from: 'archives', column: 'base_id', to: 'archives' },
  { from: 'archive_parts', column: 'archive_id', to: 'archives' },
  { from: 'archive_copies', column: 'archive_id', to: 'archives' },
  { from: 'archive_copies', column: 'replaced_by', to: 'archive_copies' },
  { from: 'copy_parts', column: 'copy_id', to: 'archive_copies' },
  { from: 'copy_parts', column: 'part_id', to: 'archive_parts' },
  { from: 'copy_parts', column: 'carrier_id', to: 'carriers' },
  { from: 'archive_files', column: 'archive_id', to: 'archives' },
  { from: 'archive_files', column: 'part_id', to: 'archive_parts' },
  { from: 'copy_files', column: 'copy_part_id', to: 'copy_parts' },
  { from: 'copy_files', column: 'archive_file_id', to: 'archive_files' },
  { from: 'archive_timelines', column: 'archive_id', to: 'archives' },
  { from: 'archive_uses', column: 'timeline_id', to: 'archive_timelines' },
  { from: 'archive_uses', column: 'archive_file_id', to: 'archive_files' },
  { from: 'archive_clips', column: 'archive_id', to: 'archives' },
  { from: 'archive_clips', column: 'archive_file_id', to: 'archive_files' },
  { from: 'awaited_files', column: 'archive_id', to: 'archives' },
];
