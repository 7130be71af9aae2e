// What may go as the reclaim lens shows it: sums of every group by level, and lines, each the files of one folder, project,
// group and level that go together. From rollups and from the last assessment.
import { eq, type SQL, sql } from 'drizzle-orm';
import type { FolderId, Level, ProjectId, VolumeId } from '#core/model.ts';
import { againRate, type AgainRate } from '#core/reclaim/again.ts';
import type { Candidate } from '#core/reclaim/goal.ts';
import { type Group, GROUPS, type Reason, REASONS } from '#core/reclaim/worth.ts';
import { idList } from '../db/conditions.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { site } from '../db/schema/site.ts';
import { currentAssessment } from '../db/worth.ts';
import { wholeUnits } from './whole-units.ts';

/** Which files are meant: of these volumes (all where none is named), of one project, of projects in work or not. */
export interface Scope {
  only: readonly VolumeId[];
  projectId: ProjectId | null;
  /** Also of projects that are in work. */
  inWork: boolean;
  /** Only of projects that are delivered or archived. */
  finished?: boolean;
  /** Only what lies in these folders, at whatever depth. */
  below?: readonly FolderId[] | null;
  /** Only these files, as a search found them, and their units: caches and empty folders are not told file by file, and stay out. */
  among?: readonly number[] | null;
}

export interface GroupSum {
  group: Group;
  files: number;
  bytes: number;
  /** Bytes, and files, of each level. */
  byLevel: Record<Level, number>;
  filesByLevel: Record<Level, number>;
}

/** A line without the names of where it is. */
export interface BareLine extends Candidate {
  folderId: FolderId;
  projectId: number;
  reason: Reason;
  files: number;
}

export interface Line extends BareLine {
  volume: string;
  path: string;
  project: string | null;
  projectState: string | null;
}

const IN_WORK = sql.raw(`('in work', 'finishing')`);

/** The folders of a scope that is some folders, before everything else that is asked. */
const belowOf = ({ below }: Scope): SQL =>
  below
    ? sql`WITH RECURSIVE below AS (SELECT id FROM folders WHERE id IN ${[...below]} UNION DISTINCT SELECT f.id FROM folders f JOIN below b ON f.parent_id = b.id)`
    : sql``;

/** Conditions on a table with volume_id and project_id; with folder_id where the scope is some folders. */
function within({ only, projectId, inWork, finished, below }: Scope, table: string): SQL {
  const [volume, project] = [sql.raw(`${table}.volume_id`), sql.raw(`${table}.project_id`)];
  return sql`${only.length > 0 ? sql`${volume} IN ${[...only]}` : sql`TRUE`}
    ${projectId === null ? sql`` : sql`AND ${project} = ${projectId}`}
    ${inWork || projectId !== null ? sql`` : sql`AND ${project} NOT IN (SELECT id FROM projects WHERE state IN ${IN_WORK})`}
    ${finished ? sql`AND ${project} IN (SELECT id FROM projects WHERE state IN ('delivered', 'archived'))` : sql``}
    ${below ? sql`AND ${sql.raw(table)}.folder_id IN (SELECT id FROM below)` : sql``}
    AND ${volume} IN (SELECT id FROM volumes WHERE retired_at IS NULL)`;
}

/** Rollup lines of an assessment; of a search the same, summed from the files that were found. */
const linesOf = (run: number, { among }: Scope): SQL =>
  among
    ? sql`(SELECT run, what, MIN(volume_id) AS volume_id, folder_id, project_id, level, reason, COUNT(*) AS files, SUM(size_bytes) AS bytes, MAX(day) AS day
        FROM worth WHERE run = ${run} AND file_id IN ${idList([...among, 0])} GROUP BY run, folder_id, what, project_id, level, reason)`
    : sql`worth_lines`;

const noneOfAny = (): Record<Level, number> => ({ 0: 0, 1: 0, 2: 0, 3: 0 });

/** Every group, also those of which there is nothing. */
export async function groupSums(db: Db, scope: Scope): Promise<GroupSum[]> {
  const run = (await currentAssessment(db))?.run ?? 0;
  // Whole volumes have smaller rollups of their own.
  const worth = scope.below || scope.among ? linesOf(run, scope) : sql`worth_sums`;
  const caches = scope.among
    ? sql``
    : sql`UNION ALL SELECT 'caches', 0, SUM(s.files), SUM(s.bytes) FROM ${sql.raw(scope.below ? 'folder_holdings' : 'volume_sums')} s WHERE s.kind = 'cache' AND ${within(scope, 's')}`;
  const [rows] = (await db.execute(sql`
    ${belowOf(scope)} SELECT w.what, w.level, SUM(w.files) AS files, SUM(w.bytes) AS bytes FROM ${worth} w WHERE w.run = ${run} AND ${within(scope, 'w')} GROUP BY w.what, w.level
    ${caches}`)) as unknown as [{ what: Group; level: Level; files: number | null; bytes: number | null }[]];
  return GROUPS.map((group) => {
    const sum: GroupSum = { group, files: 0, bytes: 0, byLevel: noneOfAny(), filesByLevel: noneOfAny() };
    for (const row of rows.filter((one) => one.what === group)) {
      sum.files += Number(row.files);
      sum.bytes += Number(row.bytes);
      sum.byLevel[Number(row.level) as Level] += Number(row.bytes);
      sum.filesByLevel[Number(row.level) as Level] += Number(row.files);
    }
    return sum;
  });
}

export const lineKey = (line: { group: Group; folderId: number; projectId: number; level: Level; reason: Reason }) =>
  [GROUPS.indexOf(line.group), line.folderId, line.projectId, line.level, REASONS.indexOf(line.reason)].join('-');

export interface LineChoice {
  group: Group;
  folderId: number;
  projectId: number;
  level: Level;
  reason: Reason;
}

/** Null where the text is no key of a line. */
export function lineOf(key: string): LineChoice | null {
  const parts = key.split('-').map(Number);
  const [group, folderId, projectId, level, reason] = parts;
  if (parts.length !== 5 || !parts.every((part) => Number.isSafeInteger(part) && part >= 0)) return null;
  const known = GROUPS[group!] !== undefined && REASONS[reason!] !== undefined && level! <= 3 && folderId! > 0;
  if (!known) return null;
  return {
    group: GROUPS[group!]!,
    folderId: folderId!,
    projectId: projectId!,
    level: level as Level,
    reason: REASONS[reason!]!,
  };
}

interface LineRow {
  what: Group;
  folderId: number;
  volumeId: number;
  projectId: number;
  level: Level;
  reason: Reason;
  files: number;
  bytes: number;
  day: number;
}

interface LinesAsked {
  group?: Group;
  cutDay: number;
  most: number;
}

/** Lines of one group, or of all; those with most bytes first. Caches are those not changed since the day of the cut. */
export async function lines(db: Db, scope: Scope, asked: LinesAsked): Promise<Line[]> {
  return named(db, await bareLines(db, scope, asked));
}

/** The same without names: for whoever chooses among very many. */
export async function bareLines(db: Db, scope: Scope, asked: LinesAsked): Promise<BareLine[]> {
  const rows = await lineRows(db, scope, asked);
  const rates = await againRates(db);
  return rows.map((row): BareLine => {
    const line: BareLine = {
      key: '',
      group: row.what,
      folderId: Number(row.folderId) as FolderId,
      volumeId: Number(row.volumeId),
      projectId: Number(row.projectId),
      level: Number(row.level) as Level,
      reason: row.reason,
      files: Number(row.files),
      bytes: Number(row.bytes),
      day: Number(row.day),
      costSeconds: 0,
    };
    line.key = lineKey(line);
    line.costSeconds = costOf(line, rates);
    return line;
  });
}

export async function named(db: Db, bare: readonly BareLine[]): Promise<Line[]> {
  const names = await namesOf(db, bare);
  return bare.map((line) => ({ ...line, ...names(line) }));
}

async function lineRows(db: Db, scope: Scope, { group, cutDay, most }: LinesAsked): Promise<LineRow[]> {
  const run = (await currentAssessment(db))?.run ?? 0;
  const parts: SQL[] = [];
  // Each part in order by itself, so that only the largest of it are looked at where there are many.
  const largest = sql`ORDER BY bytes DESC, folderId DESC LIMIT ${most}`;
  const index = group && !scope.below && !scope.among ? sql`FORCE INDEX (worth_lines_largest)` : sql``;
  if (group !== 'caches')
    parts.push(sql`(SELECT w.what, w.folder_id AS folderId, w.volume_id AS volumeId, w.project_id AS projectId, w.level, w.reason, w.files, w.bytes, w.day
      FROM ${linesOf(run, scope)} w ${index} WHERE w.run = ${run} ${group ? sql`AND w.what = ${group}` : sql`AND w.bytes > 0`} AND ${within(scope, 'w')} ${largest})`);
  if (!scope.among && (group === undefined || group === 'caches'))
    parts.push(sql`(SELECT 'caches' AS what, h.folder_id AS folderId, h.volume_id AS volumeId, h.project_id AS projectId, 0 AS level, 'rebuilds itself' AS reason, SUM(h.files) AS files, SUM(h.bytes) AS bytes, MAX(h.day) AS day
      FROM folder_holdings h WHERE h.kind = 'cache' AND h.day < ${cutDay} AND ${within(scope, 'h')} GROUP BY h.volume_id, h.folder_id, h.project_id HAVING bytes > 0 ${largest})`);
  if (parts.length === 0) return [];
  const [rows] = (await db.execute(
    sql`${belowOf(scope)} ${sql.join(parts, sql` UNION ALL `)} ${parts.length === 1 ? sql`` : largest}`,
  )) as unknown as [LineRow[]];
  return rows;
}

async function namesOf(db: Db, rows: readonly BareLine[]) {
  const ids = [...new Set<number>(rows.map((row) => row.folderId))];
  const paths = new Map<number, string>();
  for (let i = 0; i < ids.length; i += 5000) {
    const [some] = (await db.execute(
      sql`SELECT id, path FROM folders WHERE id IN ${[...ids.slice(i, i + 5000), 0]}`,
    )) as unknown as [{ id: number; path: string }[]];
    for (const row of some) paths.set(Number(row.id), row.path);
  }
  const [all] = (await db.execute(
    sql`SELECT id, name, NULL AS state, 'volume' AS is_ FROM volumes UNION ALL SELECT id, name, state, 'project' FROM projects`,
  )) as unknown as [{ id: number; name: string; state: string | null; is_: string }[]];
  const known = new Map(all.map((row) => [`${row.is_} ${row.id}`, row]));
  return ({ folderId, volumeId, projectId }: { folderId: number; volumeId: number; projectId: number }) => ({
    path: paths.get(folderId) ?? '',
    volume: known.get(`volume ${volumeId}`)?.name ?? '',
    project: known.get(`project ${projectId}`)?.name ?? null,
    projectState: known.get(`project ${projectId}`)?.state ?? null,
  });
}

const RATES = 'rates of making again';

/** How fast each volume's caches and renders came, by volume and kind: as the last assessment worked it out. */
export async function againRates(db: Db): Promise<Map<string, AgainRate>> {
  const [row] = await db.select().from(site).where(eq(site.key, RATES));
  return row ? new Map(JSON.parse(row.value) as [string, AgainRate][]) : workOutRates(db);
}

/** Keeps them for those who only look. */
export async function keepRates(tx: Transaction): Promise<void> {
  const value = JSON.stringify([...(await workOutRates(tx))]);
  await tx.insert(site).values({ key: RATES, value }).onDuplicateKeyUpdate({ set: { value } });
}

async function workOutRates(db: Db): Promise<Map<string, AgainRate>> {
  const [rows] = (await db.execute(sql`
    SELECT volume_id AS volumeId, kind, day, SUM(bytes) AS bytes FROM samples WHERE kind IN ('cache', 'render', 'proxy') GROUP BY volume_id, kind, day ORDER BY volume_id, kind, day`)) as unknown as [
    { volumeId: number; kind: string; day: number; bytes: number }[],
  ];
  const samples = new Map<string, { day: number; bytes: number }[]>();
  for (const row of rows) {
    const key = `${row.volumeId} ${row.kind}`;
    const own = samples.get(key) ?? [];
    own.push({ day: Number(row.day), bytes: Number(row.bytes) });
    samples.set(key, own);
  }
  return new Map([...samples].map(([key, own]) => [key, againRate(own)]));
}

/** Of one file and its unit: what may go, as lines; none where it is not offered. */
export async function linesOfUnit(db: Db, fileId: number): Promise<Line[]> {
  const among = await wholeUnits(db, [fileId]);
  return lines(db, { only: [], projectId: null, inWork: true, among }, { cutDay: 0, most: among.length });
}

const KIND_OF: Partial<Record<Group, string>> = { caches: 'cache', renders: 'render', proxies: 'proxy' };

function costOf(
  { group, level, volumeId, bytes }: { group: Group; level: Level; volumeId: number; bytes: number },
  rates: ReadonlyMap<string, AgainRate>,
): number {
  if (level > 1) return 0;
  const rate = rates.get(`${volumeId} ${KIND_OF[group]}`) ?? againRate([]);
  return bytes / rate.bytesPerSecond;
}
