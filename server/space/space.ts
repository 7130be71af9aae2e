// What folders and volumes hold, for the space lens: by folder, project, kind or age, narrowed by any of these; the
// largest, newest, oldest and deepest; the files of one folder as units. All from rollups but for the files of a folder.
import { and, asc, desc, eq, inArray, isNull, type SQL, sql } from 'drizzle-orm';
import { type FolderId, type Kind, KINDS, type ProjectId, type VolumeId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { gapWords, type Unit, unitsOf } from '#core/units/units.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import type { Database } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';

/** Where to look: one folder with everything below it, or volumes; none chosen stands for all. */
export type Scope = { folder: FolderAt } | { volumeIds: readonly VolumeId[] };

/** Bands of age, by when files were last changed; each ends where the next begins. Days ago, whole days in UTC. */
export const BANDS = [
  { name: 'this week', days: 7 },
  { name: 'this month', days: 31 },
  { name: '31 to 90 days', days: 91 },
  { name: '91 to 365 days', days: 366 },
  { name: 'before', days: Infinity },
] as const;

export interface Narrowing {
  /** 0: what belongs to no project. */
  projectId?: number;
  kind?: Kind;
  /** Place in BANDS. */
  band?: number;
}

export const AREAS_BY = ['folder', 'project', 'kind', 'age'] as const;
export type AreaBy = (typeof AREAS_BY)[number];

export interface Area {
  /** What a click narrows to: a folder's number, a project's, a kind, a band. */
  key: string;
  name: string;
  path: string;
  files: number;
  bytes: number;
}

const MOST_AREAS = 500;

/** The parts of what is looked at, largest first. `today` in days since 1970. */
export async function areas(
  db: Database,
  { scope, by, only, today }: { scope: Scope; by: AreaBy; only: Narrowing; today: number },
): Promise<Area[]> {
  const narrowed = only.projectId !== undefined || only.kind !== undefined || only.band !== undefined;
  if (by === 'folder' && !narrowed) return foldersBelow(db, scope);
  if (by === 'folder') return foldersNarrowed(db, scope, only, today);
  return parts(db, { scope, by, only, today });
}

/** Folders one level below; of volumes their tops. */
export const oneLevelBelow = (scope: Scope, table: Pick<typeof folders, 'parentId' | 'volumeId'> = folders) =>
  'folder' in scope
    ? eq(table.parentId, scope.folder.folderId)
    : and(
        isNull(table.parentId),
        scope.volumeIds.length > 0 ? inArray(table.volumeId, [...scope.volumeIds]) : undefined,
      );

/** The same by their totals. */
async function foldersBelow(db: Database, scope: Scope): Promise<Area[]> {
  const rows = await db
    .select({
      folderId: folders.id,
      name: folders.name,
      path: folders.path,
      files: folders.totalFiles,
      bytes: folders.totalBytes,
      volume: volumes.name,
    })
    .from(folders)
    .innerJoin(volumes, eq(volumes.id, folders.volumeId))
    .where(and(oneLevelBelow(scope), isNull(folders.goneAt), isNull(volumes.retiredAt), sql`${folders.totalFiles} > 0`))
    .orderBy(desc(folders.totalBytes))
    .limit(MOST_AREAS);
  return rows.map(({ volume, folderId, ...row }) => ({
    ...row,
    key: String(folderId),
    name: row.path === '' ? volume : row.name,
  }));
}

/** The same for what is left after narrowing, from the rollups of single folders. */
async function foldersNarrowed(db: Database, scope: Scope, only: Narrowing, today: number): Promise<Area[]> {
  const depth = 'folder' in scope && scope.folder.path !== '' ? scope.folder.path.split('/').length : 0;
  const inVolume = 'folder' in scope;
  const at = inVolume ? sql`SUBSTRING_INDEX(d.path, '/', ${depth + 1})` : sql`''`;
  const [rows] = (await db.execute(sql`
    ${belowOf(scope)} SELECT d.volume_id AS volumeId, ${at} AS part, SUM(h.files) AS files, SUM(h.bytes) AS bytes
    FROM folder_holdings h JOIN folders d ON d.id = h.folder_id ${belowJoin(scope)}
    WHERE ${conditions(scope, only, today)} GROUP BY d.volume_id, part ORDER BY bytes DESC LIMIT ${MOST_AREAS}`)) as unknown as [
    { volumeId: number; part: string; files: string; bytes: string }[],
  ];
  // What lies directly in the folder itself is shown as files.
  const inner = rows
    .map(({ part, ...row }) => ({ ...row, path: part }))
    .filter((row) => !inVolume || row.path !== scope.folder.path);
  if (inner.length === 0) return [];
  const known = await db
    .select({
      folderId: folders.id,
      volumeId: folders.volumeId,
      path: folders.path,
      name: folders.name,
      volume: volumes.name,
    })
    .from(folders)
    .innerJoin(volumes, eq(volumes.id, folders.volumeId))
    .where(
      sql`(${folders.volumeId}, ${folders.pathHash}) IN ${inner.map((row) => sql`(${row.volumeId}, ${pathHash(row.path)})`)}`,
    );
  return inner.flatMap((row) => {
    const folder = known.find((k) => k.volumeId === Number(row.volumeId) && k.path === row.path);
    if (!folder) return [];
    const name = folder.path === '' ? folder.volume : folder.name;
    return [{ key: String(folder.folderId), name, path: row.path, files: Number(row.files), bytes: Number(row.bytes) }];
  });
}

/** Parts by project, kind or age. */
async function parts(
  db: Database,
  { scope, by, only, today }: { scope: Scope; by: Exclude<AreaBy, 'folder'>; only: Narrowing; today: number },
): Promise<Area[]> {
  // Whole volumes have a smaller rollup of their own.
  const whole = !('folder' in scope) || scope.folder.path === '';
  // Without ages the days need not be looked at.
  const dayless = whole && by !== 'age' && only.band === undefined;
  const key = by === 'project' ? sql`h.project_id` : by === 'kind' ? sql`h.kind` : bandOf(today);
  const bareAges = whole && by === 'age' && only.projectId === undefined && only.kind === undefined;
  const from = whole
    ? sql`FROM ${sql.raw(dayless ? 'volume_sums' : bareAges ? 'volume_days' : 'volume_holdings')} h`
    : sql`FROM folder_holdings h ${belowJoin(scope)}`;
  const volumeIds = 'folder' in scope || scope.volumeIds.length > 0 ? [] : await inUse(db);
  const [rows] = (await db.execute(sql`
    ${whole ? sql`` : belowOf(scope)} SELECT ${key} AS part, SUM(h.files) AS files, SUM(h.bytes) AS bytes ${from}
    WHERE ${conditions(volumeIds.length > 0 ? { volumeIds } : scope, only, today)} GROUP BY part ORDER BY bytes DESC`)) as unknown as [
    { part: string | number; files: string; bytes: string }[],
  ];
  const names =
    by === 'project'
      ? new Map(
          (await db.select({ id: projects.id, name: projects.name }).from(projects)).map((p) => [String(p.id), p.name]),
        )
      : null;
  const list = rows.map((row) => {
    const part = String(row.part);
    const name = by === 'kind' ? part : by === 'age' ? BANDS[Number(part)]!.name : (names!.get(part) ?? 'no project');
    return { key: part, name, path: '', files: Number(row.files), bytes: Number(row.bytes) };
  });
  return by === 'age' ? list.sort((a, b) => Number(a.key) - Number(b.key)) : list;
}

/** Volumes in use: named one by one, so that an index alone answers. */
async function inUse(db: Database): Promise<VolumeId[]> {
  const rows = await db.select({ id: volumes.id }).from(volumes).where(isNull(volumes.retiredAt));
  return rows.map((row) => row.id as VolumeId);
}

/** The place in BANDS of a row `h`. */
export const bandOf = (today: number): SQL =>
  sql`CASE WHEN h.day > ${today - 7} THEN 0 WHEN h.day > ${today - 31} THEN 1 WHEN h.day > ${today - 92} THEN 2 WHEN h.day > ${today - 366} THEN 3 ELSE 4 END`;

/** The folders of a scope that is one folder, as a table `below`; nothing where it is whole volumes. */
export const belowOf = (scope: Scope): SQL =>
  'folder' in scope && scope.folder.path !== ''
    ? sql`WITH RECURSIVE below AS (SELECT id FROM folders WHERE id = ${scope.folder.folderId} UNION ALL SELECT f.id FROM folders f JOIN below b ON f.parent_id = b.id)`
    : sql``;
export const belowJoin = (scope: Scope): SQL =>
  'folder' in scope && scope.folder.path !== '' ? sql`JOIN below ON below.id = h.folder_id` : sql``;

export function conditions(scope: Scope, only: Narrowing, today: number): SQL {
  const all: SQL[] = [sql`h.files > 0`];
  if ('folder' in scope) all.push(sql`h.volume_id = ${scope.folder.volumeId}`);
  else if (scope.volumeIds.length > 0) all.push(sql`h.volume_id IN ${[...scope.volumeIds]}`);
  if (only.projectId !== undefined) all.push(sql`h.project_id = ${only.projectId}`);
  if (only.kind !== undefined) all.push(sql`h.kind = ${only.kind}`);
  if (only.band !== undefined) {
    const [newer, older] = [BANDS[only.band - 1]?.days, BANDS[only.band]?.days ?? Infinity];
    if (newer !== undefined) all.push(sql`h.day <= ${today - newer}`);
    if (older !== Infinity) all.push(sql`h.day > ${today - older}`);
  }
  return sql.join(all, sql` AND `);
}

export const EXTREMES = ['largest', 'newest', 'oldest', 'deepest'] as const;
export type Extreme = (typeof EXTREMES)[number];

export interface ExtremeRow {
  fileId: number | null;
  folderId: FolderId;
  name: string;
  where: string;
  kind: Kind | null;
  bytes: number;
  modifiedUs: number | null;
  depth: number;
}

const MOST_EXTREMES = 100;

/**
 * The hundred largest, newest or oldest files, or deepest folders. Each of the hundred largest files lies in one of the
 * hundred rollup rows with the largest single file, so no more files than those rows have are ever looked at.
 */
export async function extremes(
  db: Database,
  { scope, only, today, which }: { scope: Scope; only: Narrowing; today: number; which: Extreme },
): Promise<ExtremeRow[]> {
  if (which === 'deepest') return deepest(db, scope);
  const [column, order] = {
    largest: [sql`h.largest_bytes DESC`, [desc(files.sizeBytes), asc(files.id)]],
    newest: [sql`h.newest_us DESC`, [desc(files.modifiedUs), asc(files.id)]],
    oldest: [sql`h.oldest_us`, [asc(files.modifiedUs), asc(files.id)]],
  }[which] as [SQL, SQL[]];
  const [rows] = (await db.execute(sql`
    ${belowOf(scope)} SELECT h.folder_id AS folderId, h.kind, h.project_id AS projectId, h.day FROM folder_holdings h ${belowJoin(scope)}
    WHERE ${conditions(scope, only, today)} ORDER BY ${column} LIMIT ${MOST_EXTREMES}`)) as unknown as [
    { folderId: number; kind: Kind; projectId: number; day: number }[],
  ];
  if (rows.length === 0) return [];
  const found = await db
    .select({ file: files, folder: folders.path, volume: volumes.name, depth: folders.depth })
    .from(files)
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .where(
      and(
        inArray(files.folderId, [...new Set(rows.map((row) => Number(row.folderId)))]),
        isNull(files.goneAt),
        sql`(${files.folderId}, ${files.kind}, COALESCE(${files.projectId}, 0), FLOOR(${files.modifiedUs} / 86400000000)) IN ${rows.map((row) => sql`(${row.folderId}, ${row.kind}, ${row.projectId}, ${row.day})`)}`,
      ),
    )
    .orderBy(...order)
    .limit(MOST_EXTREMES);
  return found.map(({ file, folder, volume, depth }) => ({
    fileId: file.id,
    folderId: file.folderId as FolderId,
    name: file.name,
    where: joinPath(volume, folder),
    kind: file.kind,
    bytes: file.sizeBytes,
    modifiedUs: file.modifiedUs,
    depth: depth ?? 0,
  }));
}

async function deepest(db: Database, scope: Scope): Promise<ExtremeRow[]> {
  const inside =
    'folder' in scope
      ? sql`AND d.volume_id = ${scope.folder.volumeId} ${scope.folder.path === '' ? sql`` : sql`AND LEFT(d.path, CHAR_LENGTH(${`${scope.folder.path}/`})) = ${`${scope.folder.path}/`}`}`
      : scope.volumeIds.length > 0
        ? sql`AND d.volume_id IN ${[...scope.volumeIds]}`
        : sql``;
  // The index is named: the database would rather sort all folders than walk it from its end.
  const [rows] = (await db.execute(sql`
    SELECT d.id, d.name, d.path, d.total_bytes AS bytes, d.depth, v.name AS volume FROM folders d FORCE INDEX (folders_depth)
    JOIN volumes v ON v.id = d.volume_id AND v.retired_at IS NULL
    WHERE d.gone_at IS NULL AND d.total_files > 0 ${inside} ORDER BY d.depth DESC, d.id DESC LIMIT ${MOST_EXTREMES}`)) as unknown as [
    { id: number; name: string; path: string; bytes: number; depth: number; volume: string }[],
  ];
  return rows.map((row) => ({
    fileId: null,
    folderId: Number(row.id) as FolderId,
    name: row.name,
    where: joinPath(row.volume, row.path),
    kind: null,
    bytes: Number(row.bytes),
    modifiedUs: null,
    depth: Number(row.depth),
  }));
}

export interface UnitRow {
  /** The first file of the unit. */
  fileId: number;
  name: string;
  is: Unit<never>['is'];
  kind: Kind;
  files: number;
  bytes: number;
  modifiedUs: number;
  /** "frames 1043 and 1050 to 1052 are missing" */
  trouble: string | null;
  /** Its files, where the unit is open. */
  members: { fileId: number; name: string; bytes: number; modifiedUs: number; kind: Kind }[];
}

/** Files of one folder that are turned into units; beyond them the folder says that it has more. */
export const MOST_FILES = 50_000;
const MOST_MEMBERS = 500;

/** The files directly in a folder, as units, largest first. `open` names the unit whose files are wanted. */
export async function unitsIn(
  db: Database,
  folderId: FolderId,
  { only, today, open }: { only: Narrowing; today: number; open: string | null },
): Promise<UnitRow[]> {
  const rows = await db
    .select({
      id: files.id,
      name: files.name,
      kind: files.kind,
      sizeBytes: files.sizeBytes,
      modifiedUs: files.modifiedUs,
      projectId: files.projectId,
    })
    .from(files)
    .where(and(eq(files.folderId, folderId), isNull(files.goneAt)))
    .limit(MOST_FILES);
  const kept = rows.filter((row) => fits(row, only, today));
  return unitsOf(kept)
    .map((unit) => {
      const first = unit.files[0]!;
      return {
        fileId: first.id,
        name: unit.name,
        is: unit.is,
        kind: first.kind,
        files: unit.files.length,
        bytes: unit.files.reduce((sum, file) => sum + file.sizeBytes, 0),
        modifiedUs: unit.files.reduce((newest, file) => Math.max(newest, file.modifiedUs), 0),
        trouble: unit.is === 'sequence' && unit.missing > 0 ? gapWords(unit.gaps) : null,
        members:
          unit.name === open && unit.is !== 'file'
            ? unit.files.slice(0, MOST_MEMBERS).map((file) => ({
                fileId: file.id,
                name: file.name,
                bytes: file.sizeBytes,
                modifiedUs: file.modifiedUs,
                kind: file.kind,
              }))
            : [],
      };
    })
    .sort((a, b) => b.bytes - a.bytes || (a.name < b.name ? -1 : 1));
}

function fits(
  file: { kind: Kind; modifiedUs: number; projectId: number | null },
  only: Narrowing,
  today: number,
): boolean {
  if (only.kind !== undefined && file.kind !== only.kind) return false;
  if (only.projectId !== undefined && (file.projectId ?? 0) !== only.projectId) return false;
  if (only.band === undefined) return true;
  const day = Math.floor(file.modifiedUs / 86_400_000_000);
  const band = BANDS.findIndex(({ days }) => day > today - days);
  return band === only.band;
}

export interface FolderAt {
  folderId: FolderId;
  volumeId: VolumeId;
  volume: string;
  volumePath: string;
  path: string;
  files: number;
  bytes: number;
  project: { projectId: ProjectId; name: string } | null;
  trail: { folderId: FolderId; name: string }[];
}

export async function folderAt(db: Database, folderId: FolderId): Promise<FolderAt | null> {
  const trail: FolderAt['trail'] = [];
  let found: FolderAt | null = null;
  for (let id: number | null = folderId; id !== null;) {
    const [row] = await db
      .select()
      .from(folders)
      .innerJoin(volumes, eq(volumes.id, folders.volumeId))
      .where(eq(folders.id, id));
    if (!row) return found;
    const { folders: f, volumes: v } = row;
    if (!found) {
      const [owner] = f.projectId
        ? await db.select({ id: projects.id, name: projects.name }).from(projects).where(eq(projects.id, f.projectId))
        : [];
      found = {
        folderId,
        volumeId: v.id as VolumeId,
        volume: v.name,
        volumePath: v.path,
        path: f.path,
        files: f.totalFiles,
        bytes: f.totalBytes,
        project: owner ? { projectId: owner.id as ProjectId, name: owner.name } : null,
        trail,
      };
    }
    trail.unshift({ folderId: f.id as FolderId, name: f.path === '' ? v.name : f.name });
    id = f.parentId;
  }
  return found;
}

export interface Stratum {
  name: string;
  bytes: number;
}

/** Bytes by when they were last changed, for the chosen volumes. */
export async function strata(db: Database, only: readonly VolumeId[], today: number): Promise<Stratum[]> {
  const rows = await areas(db, { scope: { volumeIds: only }, by: 'age', only: {}, today });
  return BANDS.map((band, i) => ({ name: band.name, bytes: rows.find((row) => row.key === String(i))?.bytes ?? 0 }));
}

/** A kind from an address, if it is one. */
export const kindFrom = (text: string | null): Kind | undefined => KINDS.find((kind) => kind === text);
