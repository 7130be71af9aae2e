// Finds files, folders, clips, projects, volumes, carriers and archives by parts of their names and by filters, for the
// search field and `keramion find`. With a name index it answers at once at any size; without one, or while that is
// still reading, the database looks through its rows.
import { type SQL, sql } from 'drizzle-orm';
import type { Kind } from '#core/model.ts';
import { hereIn } from '#core/wording/archives.ts';
import { count } from '#core/wording/amounts.ts';
import { asksForSomething, type Query, understand } from '#core/search/query.ts';
import type { Database } from '../db/connect.ts';
import { hasPart, idList } from '../db/conditions.ts';
import type { NamedTable, NameIndex } from './names.ts';
import { type Only, type Stored, whereStored } from './where.ts';

export interface Hit {
  what:
    | 'project'
    | 'volume'
    | 'carrier'
    | 'archive'
    | 'timeline'
    | 'clip'
    | 'folder'
    | 'file'
    | 'archived'
    | 'archived clip'
    | 'archived bin';
  id: number;
  name: string;
  where: string;
  /** The project of a clip, the folder of a file, the archive of what lies in one or is in its documents: where a click leads. */
  parentId: number | null;
  bytes: number | null;
}

export interface Found {
  hits: Hit[];
  /** What was taken as a filter, in words, and what could not be. */
  filters: string[];
  trouble: string | null;
}

const EACH = 6;
const FILES = 12;
/** Names that fit, of which those that fit the filters as well are looked for. */
const MOST_CANDIDATES = 20_000;
const CANDIDATES_AT_ONCE = 2_000;
/** Of clips, bins and folders no more are looked for: the newest come first. */
const NEWEST = 500;
/** Folders looked through for filters alone, those with the largest files first. */
const LIKELY_FOLDERS = 200;

type Row = { what: Hit['what']; id: number; name: string; place: string; parent: number | null; bytes: number | null };

/** At most six of each and twelve files, in the order a person would look for them. */
export async function search(db: Database, text: string, names?: NameIndex): Promise<Found> {
  const { query, filters, trouble } = understand(text);
  if (trouble !== null || !asksForSomething(query)) return { hits: [], filters, trouble };
  const filtered = filters.length > 0;
  const fileIds = await candidates(names, 'files', query.words, MOST_CANDIDATES);
  const parts = await Promise.all([
    filtered ? [] : small(db, query),
    filtered ? [] : clips(db, query, names),
    filtered ? [] : folders(db, query, names),
    files(db, query, fileIds),
    filtered ? [] : stored(db, query, names),
    filtered ? [] : archivedClips(db, query, names),
    filtered ? [] : archivedBins(db, query, names),
  ]);
  const [few, ofClips, ofFolders, ofFiles, ...inArchives] = parts;
  const hits = [...few, ...ofClips, ...ofFolders, ...ofFiles.rows, ...inArchives.flat()].map((row) => ({
    what: row.what,
    id: Number(row.id),
    name: row.name,
    where: row.place,
    parentId: row.parent === null ? null : Number(row.parent),
    bytes: row.bytes === null ? null : Number(row.bytes),
  }));
  const cut = filtered && ofFiles.cut && ofFiles.rows.length < FILES;
  return { hits, filters, trouble: cut ? TOO_COMMON : null };
}

const TOO_COMMON = `More than ${count(MOST_CANDIDATES)} files have these words in their names, and not all were looked through. Add a longer part of the name.`;

async function rowsOf(db: Database, query: SQL): Promise<Row[]> {
  const [rows] = (await db.execute(query)) as unknown as [Row[]];
  return rows;
}

/** Every word in the column, in any case. */
const like = (column: string, words: readonly string[]): SQL =>
  sql.join(
    words.map((word) => hasPart(sql.raw(column), word)),
    sql` AND `,
  );

/** Tables that stay small. */
const small = (db: Database, { words }: Query): Promise<Row[]> =>
  rowsOf(
    db,
    sql`
    (SELECT 'project' AS what, id, name, state AS place, NULL AS parent, NULL AS bytes FROM projects WHERE ${like('name', words)} LIMIT ${EACH})
    UNION ALL (SELECT 'volume', id, name, path, NULL, NULL FROM volumes WHERE retired_at IS NULL AND ${like('name', words)} LIMIT ${EACH})
    UNION ALL (SELECT 'carrier', id, name, place, NULL, NULL FROM carriers WHERE ${like('name', words)} LIMIT ${EACH})
    UNION ALL (SELECT 'timeline', MIN(t.id), t.name, CONCAT('archived with ', a.name, ', ', a.folder), a.id, NULL FROM archive_timelines t JOIN archives a ON a.id = t.archive_id AND a.state = 'sealed'
      WHERE ${like('t.name', words)} GROUP BY a.id, t.name ORDER BY a.id DESC LIMIT ${EACH})
    UNION ALL (SELECT 'archive', a.id, a.name, a.folder, a.project_id, a.bytes FROM archives a WHERE a.state = 'sealed' AND ${like('a.name', words)} LIMIT ${EACH})`,
  );

/** Numbers from the index; null where there is none that is ready, so that the rows themselves are looked through. */
async function candidates(
  names: NameIndex | undefined,
  table: NamedTable,
  words: readonly string[],
  most: number,
): Promise<number[] | null> {
  if (!names || words.length === 0) return null;
  const found = await names.find(table, words, most);
  return found.ready ? found.ids : null;
}

const among = (column: string, ids: readonly number[] | null, words: readonly string[]): SQL =>
  ids === null ? like(column.replace('.id', '.name'), words) : sql`${sql.raw(column)} IN ${idList(ids)}`;

async function clips(db: Database, { words }: Query, names?: NameIndex): Promise<Row[]> {
  const ids = await candidates(names, 'clips', words, NEWEST);
  if (ids?.length === 0) return [];
  return rowsOf(
    db,
    sql`SELECT 'clip' AS what, MIN(c.id) AS id, c.name, p.name AS place, p.id AS parent, NULL AS bytes FROM clips c JOIN documents o ON o.id = c.document_id AND o.superseded_by IS NULL JOIN projects p ON p.id = o.project_id
    WHERE ${among('c.id', ids, words)} GROUP BY c.name, p.name, p.id LIMIT ${EACH}`,
  );
}

async function folders(db: Database, { words }: Query, names?: NameIndex): Promise<Row[]> {
  const ids = await candidates(names, 'folders', words, NEWEST);
  if (ids?.length === 0) return [];
  return rowsOf(
    db,
    sql`SELECT 'folder' AS what, d.id, d.name, CONCAT(v.name, ' / ', d.path) AS place, d.parent_id AS parent, d.total_bytes AS bytes FROM folders d JOIN volumes v ON v.id = d.volume_id AND v.retired_at IS NULL
    WHERE d.gone_at IS NULL AND ${among('d.id', ids, words)} LIMIT ${EACH}`,
  );
}

/** What lies in archives, with the carriers that it is on. */
async function stored(db: Database, { words }: Query, names?: NameIndex): Promise<Row[]> {
  const ids = await candidates(names, 'archive_files', words, CANDIDATES_AT_ONCE);
  const found = await whereStored(db, { words, ids, most: EACH });
  return found.map(({ archiveFileId, archiveId, archive, name, bytes, copies }) => ({
    ...{ what: 'archived' as const, id: archiveFileId, name, parent: archiveId, bytes },
    place: `${archive} on ${copies.map(({ carrier, place }) => `${carrier}, ${place}`).join('; ') || 'no good copy'}${untilWords(copies[0])}`,
  }));
}

/** How long until the first of the copies is here; nothing where it is. */
const untilWords = (copy: Stored['copies'][number] | undefined): string =>
  !copy || (copy.isThere && copy.waitSeconds === 0) ? '' : ` · ${hereIn(copy)}`;

/** Clips of archived documents, of each project and name the latest; not those that are called as their file is, which is found by itself. */
async function archivedClips(db: Database, { words }: Query, names?: NameIndex): Promise<Row[]> {
  const ids = await candidates(names, 'archive_clips', words, NEWEST);
  if (ids?.length === 0) return [];
  return rowsOf(
    db,
    sql`SELECT 'archived clip' AS what, MAX(c.id) AS id, c.name, CONCAT('archived with ', a.name, IF(MAX(c.bin) = '', '', CONCAT(', in ', MAX(c.bin)))) AS place, MAX(a.id) AS parent, NULL AS bytes
    FROM archive_clips c JOIN archives a ON a.id = c.archive_id AND a.state = 'sealed' AND a.purpose = 'archive' LEFT JOIN archive_files f ON f.id = c.archive_file_id
    WHERE ${among('c.id', ids, words)} AND c.name <> COALESCE(SUBSTRING_INDEX(f.payload_path, '/', -1), '') GROUP BY c.name, a.name ORDER BY parent DESC, id LIMIT ${EACH}`,
  );
}

/** Their bins, in the same way. */
async function archivedBins(db: Database, { words }: Query, names?: NameIndex): Promise<Row[]> {
  const ids = await candidates(names, 'archive_bins', words, NEWEST);
  if (ids?.length === 0) return [];
  return rowsOf(
    db,
    sql`SELECT 'archived bin' AS what, MAX(b.id) AS id, b.name, CONCAT('archived with ', a.name, ', ', MAX(a.folder)) AS place, MAX(a.id) AS parent, NULL AS bytes
    FROM archive_bins b JOIN archives a ON a.id = b.archive_id AND a.state = 'sealed' AND a.purpose = 'archive' WHERE ${among('b.id', ids, words)} GROUP BY b.name, a.name ORDER BY parent DESC, id LIMIT ${EACH}`,
  );
}

/** What lies in archives and has these words in its name, the latest archives first, with the carriers that it is on. */
export async function insideArchives(
  db: Database,
  { text, only, most, names }: { text: string; only: Only; most: number; names?: NameIndex },
): Promise<Stored[]> {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  return whereStored(db, { words, ids: await candidates(names, 'archive_files', words, MOST_CANDIDATES), most, only });
}

/** Files with every word in their names that fit the filters, whatever their number up to a bound: for what is done with all of them. */
export async function foundFiles(
  db: Database,
  text: string,
  names?: NameIndex,
): Promise<{ ids: number[]; trouble: string | null }> {
  const { query, trouble } = understand(text);
  if (trouble !== null) return { ids: [], trouble };
  if (query.words.length === 0)
    return { ids: [], trouble: 'Give a part of the name: filters alone are too many files. Space narrows by them.' };
  const ids = await candidates(names, 'files', query.words, MOST_CANDIDATES);
  const also = fileConditions(query);
  const found: number[] = [];
  const slices = ids === null ? [like('f.name', query.words)] : [];
  for (let i = 0; ids !== null && i < ids.length; i += CANDIDATES_AT_ONCE)
    slices.push(sql`f.id IN ${idList(ids.slice(i, i + CANDIDATES_AT_ONCE))}`);
  for (const slice of slices) {
    const rows = await rowsOf(db, sql`${FILE} AND ${slice} ${also} LIMIT ${MOST_CANDIDATES}`);
    for (const row of rows) found.push(Number(row.id));
  }
  const cut = Math.max(ids?.length ?? 0, found.length) >= MOST_CANDIDATES;
  return { ids: found, trouble: cut ? TOO_COMMON : null };
}

const FILE = sql`SELECT 'file' AS what, f.id, f.name, CONCAT(v.name, ' / ', d.path) AS place, d.id AS parent, f.size_bytes AS bytes
  FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id AND v.retired_at IS NULL LEFT JOIN projects p ON p.id = f.project_id WHERE f.gone_at IS NULL`;

/** `cut`: there are more that have the words than were looked through. */
async function files(
  db: Database,
  query: Query,
  ids: readonly number[] | null,
): Promise<{ rows: Row[]; cut: boolean }> {
  const also = fileConditions(query);
  if (query.words.length === 0) return { rows: await filteredFiles(db, query, also, LIKELY_FOLDERS), cut: false };
  const named = like('f.name', query.words);
  if (ids === null) return { rows: await rowsOf(db, sql`${FILE} AND ${named} ${also} LIMIT ${FILES}`), cut: false };
  const rows: Row[] = [];
  for (let i = 0; i < ids.length && rows.length < FILES; i += CANDIDATES_AT_ONCE)
    rows.push(
      ...(await rowsOf(
        db,
        sql`${FILE} AND f.id IN ${idList(ids.slice(i, i + CANDIDATES_AT_ONCE))} ${also} LIMIT ${FILES - rows.length}`,
      )),
    );
  if (ids.length < MOST_CANDIDATES || rows.length === FILES) return { rows, cut: false };
  // Words that many share: the folders that hold what fits the filters are looked through instead.
  const known = new Set(rows.map((row) => row.id));
  const more = await filteredFiles(db, query, sql`AND ${named} ${also}`, LIKELY_FOLDERS * 2);
  return { rows: [...rows, ...more.filter((row) => !known.has(row.id))].slice(0, FILES), cut: true };
}

/** By filters alone: the largest that fit, found through the rollups of folders. */
function filteredFiles(db: Database, query: Query, also: SQL, folders: number): Promise<Row[]> {
  const today = Math.floor(Date.now() / 86_400_000);
  const where: SQL[] = [sql`TRUE`];
  if (query.kind) where.push(sql`h.kind = ${query.kind}`);
  if (query.minBytes !== undefined) where.push(sql`h.largest_bytes >= ${query.minBytes}`);
  if (query.olderDays !== undefined) where.push(sql`h.day <= ${today - Math.floor(query.olderDays)}`);
  if (query.newerDays !== undefined) where.push(sql`h.day >= ${today - Math.ceil(query.newerDays)}`);
  if (query.project !== undefined)
    where.push(sql`h.project_id IN (SELECT id FROM projects WHERE ${like('name', [query.project])})`);
  if (query.volume !== undefined)
    where.push(sql`h.volume_id IN (SELECT id FROM volumes WHERE ${like('name', [query.volume])})`);
  return rowsOf(
    db,
    sql`${FILE} ${also} AND f.folder_id IN (SELECT folder_id FROM (SELECT h.folder_id FROM folder_holdings h WHERE ${sql.join(where, sql` AND `)} ORDER BY h.largest_bytes DESC LIMIT ${folders}) x) ORDER BY f.size_bytes DESC LIMIT ${FILES}`,
  );
}

function fileConditions(query: Query): SQL {
  const now = Date.now() * 1000;
  const ago = (days: number) => now - days * 86_400_000_000;
  const all: SQL[] = [];
  if (query.kind) all.push(sql`AND f.kind = ${query.kind satisfies Kind}`);
  if (query.minBytes !== undefined) all.push(sql`AND f.size_bytes >= ${query.minBytes}`);
  if (query.maxBytes !== undefined) all.push(sql`AND f.size_bytes <= ${query.maxBytes}`);
  if (query.olderDays !== undefined) all.push(sql`AND f.modified_us < ${Math.round(ago(query.olderDays))}`);
  if (query.newerDays !== undefined) all.push(sql`AND f.modified_us > ${Math.round(ago(query.newerDays))}`);
  if (query.project !== undefined) all.push(sql`AND ${like('p.name', [query.project])}`);
  if (query.volume !== undefined) all.push(sql`AND ${like('v.name', [query.volume])}`);
  return sql.join(all, sql` `);
}
