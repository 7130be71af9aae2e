// The assessment: for every file that may go, how replaceable it is and why. Worked out anew after readings and after work,
// written beside the one before and put in its place at once. Caches are told by folder from the rollups and are not here.
import { sql } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { z } from 'zod';
import type { Kind, ProjectState } from '#core/model.ts';
import { endingOf } from '#core/paths.ts';
import { seriesOf, thinned } from '#core/reclaim/thin.ts';
import { type Worth, worthOf } from '#core/reclaim/worth.ts';
import { unitsOf } from '#core/units/units.ts';
import { type Database, type Db, inTransaction, loadRows, type Transaction, withConnection } from '../db/connect.ts';
import { jobs } from '../db/schema/jobs.ts';
import { currentAssessment, setAssessment, sumWorth } from '../db/worth.ts';
import type { JobContext } from '../runtime/context.ts';
import { enqueue } from '../runtime/queue.ts';
import { writeEmptyFolders } from './empty.ts';
import { addCompressed, type CompressedSounds, keepCompressed } from './compressed.ts';
import { keepRates } from './lines.ts';
import { LEAST_BYTES, sharesAll } from './twins.ts';
import { endAfter, endPlainly, workKind } from '../runtime/work-kind.ts';

const PAGE = 20_000;
const SOME = 50_000;
/** Readings and work often come in a row: one assessment for all of them. */
const QUIET_MS = 4_000;
/** It takes a tenth of the time at most, however large the catalogue is. */
const REST = 10;

interface FileRow {
  id: number;
  volumeId: number;
  folderId: number;
  name: string;
  sizeBytes: number;
  modifiedUs: number;
  kind: Kind;
  projectId: number;
  onSystemDrive: number;
}

/** What is known of files from elsewhere, by their numbers. */
interface Known {
  used: ReadonlySet<number>;
  named: ReadonlySet<number>;
  /** The archive that has the file, read back as it is now. */
  archived: ReadonlyMap<number, number>;
  /** The file that stays, and where it lies, by the one of the same content that may go. */
  twins: ReadonlyMap<number, Twin>;
  thinned: ReadonlySet<number>;
  states: ReadonlyMap<number, ProjectState>;
  withTimelines: ReadonlySet<number>;
  /** When the newest document of a project was last changed. */
  changedUs: ReadonlyMap<number, number>;
  /** Project and name without ending, of every source. */
  sources: ReadonlySet<string>;
}

/** Works it all out and puts it in place. */
export async function assess(db: Database, { check = () => {} }: { check?: () => void } = {}): Promise<void> {
  const began = Date.now();
  const marks = await marksOf(db);
  const run = await inTransaction(db, nextRun);
  const known = await knownOf(db);
  const compressed: CompressedSounds = new Map();
  for await (const folder of folders(db)) {
    check();
    await write(db, run, rowsOf(folder, known));
    addCompressed(compressed, folder);
  }
  await inTransaction(db, async (tx) => {
    const { $connection: connection } = tx;
    // What went while it was worked out has left the one before, and must not come back with this one.
    await connection.query(
      'DELETE w FROM worth w JOIN files f ON f.id = w.file_id WHERE w.run = ? AND f.gone_at IS NOT NULL',
      [run],
    );
    await sumWorth(connection, run);
    await writeEmptyFolders(tx, run);
    await keepRates(tx);
    await keepCompressed(tx, compressed);
    await connection.query(
      `INSERT INTO worth_sums (run, what, volume_id, project_id, level, files, bytes)
       SELECT run, what, volume_id, project_id, level, SUM(files), SUM(bytes) FROM worth_lines WHERE run = ? GROUP BY run, what, volume_id, project_id, level`,
      [run],
    );
    await setAssessment(tx, { run, atMs: Date.now(), marks, tookMs: Date.now() - began });
  });
  await dropOthers(db, run);
}

const nextRun = async ({ $connection: connection }: Transaction): Promise<number> => {
  await connection.query(
    "INSERT INTO site (`key`, value) VALUES ('assessment run', '1') ON DUPLICATE KEY UPDATE value = value + 1",
  );
  const [[row]] = await connection.query<RowDataPacket[]>("SELECT value FROM site WHERE `key` = 'assessment run'");
  return Number(row!.value);
};

/** What earlier assessments left, also those that were cut off. */
async function dropOthers(db: Database, run: number): Promise<void> {
  await db.execute(sql`DELETE FROM worth_sums WHERE run < ${run}`);
  await db.execute(sql`DELETE FROM worth_lines WHERE run < ${run}`);
  for (;;) {
    const [result] = (await db.execute(sql`DELETE FROM worth WHERE run < ${run} LIMIT ${SOME}`)) as unknown as [
      { affectedRows: number },
    ];
    if (result.affectedRows < SOME) return;
  }
}

/** All files that are there and no caches, a few folders at a time, each folder whole. */
async function* folders(db: Database): AsyncGenerator<FileRow[]> {
  let last = { folderId: 0, id: 0 };
  let rest: FileRow[] = [];
  for (;;) {
    const [rows] = (await db.execute(sql`
      SELECT f.id, f.volume_id AS volumeId, f.folder_id AS folderId, f.name, f.size_bytes AS sizeBytes, f.modified_us AS modifiedUs, f.kind, COALESCE(f.project_id, 0) AS projectId, v.system_drive AS onSystemDrive
      FROM files f JOIN volumes v ON v.id = f.volume_id AND v.retired_at IS NULL
      WHERE (f.folder_id > ${last.folderId} OR (f.folder_id = ${last.folderId} AND f.id > ${last.id})) AND f.gone_at IS NULL AND f.kind <> 'cache'
      ORDER BY f.folder_id, f.id LIMIT ${PAGE}`)) as unknown as [FileRow[]];
    const all = [...rest, ...rows];
    if (rows.length < PAGE) {
      if (all.length > 0) yield all;
      return;
    }
    last = { folderId: rows.at(-1)!.folderId, id: rows.at(-1)!.id };
    const cut = all.findIndex((row) => row.folderId === last.folderId);
    rest = all.slice(cut);
    if (cut > 0) yield all.slice(0, cut);
  }
}

function rowsOf(files: readonly FileRow[], known: Known): [FileRow, Worth, number | null][] {
  const rows: [FileRow, Worth, number | null][] = [];
  const units = unitsIn(files);
  const ofUsedUnits = membersOfUsed(units, known.used);
  const torn = tornUnits(units, known.twins);
  for (const file of files) {
    const isArchived = known.archived.has(file.id);
    const twin = torn.has(file.id) ? null : (known.twins.get(file.id) ?? null);
    const worth = worthOf({
      kind: file.kind,
      projectState: known.states.get(file.projectId) ?? null,
      used: known.used.has(file.id) || ofUsedUnits.has(file.id),
      named: known.named.has(file.id),
      hasTimelines: known.withTimelines.has(file.projectId),
      isStale: file.kind === 'render' && file.modifiedUs < (known.changedUs.get(file.projectId) ?? 0),
      hasSource: file.kind === 'proxy' && known.sources.has(stemIn(file.projectId, file.name)),
      isThinned: known.thinned.has(file.id),
      isArchived,
      twin: twin?.is ?? null,
      onSystemDrive: Number(file.onSystemDrive) > 0,
    });
    const stays = twin?.stays ?? null;
    const archive = known.archived.get(file.id) ?? null;
    if (worth) rows.push([file, worth, worth.group === 'same twice' ? stays : (archive ?? stays)]);
  }
  return rows;
}

/** Units of more than one file, of every folder among these. */
function unitsIn(files: readonly FileRow[]): FileRow[][] {
  const units: FileRow[][] = [];
  for (let from = 0; from < files.length;) {
    let to = from;
    while (to < files.length && files[to]!.folderId === files[from]!.folderId) to++;
    if (to - from > 1)
      for (const unit of unitsOf(files.slice(from, to))) if (unit.files.length > 1) units.push(unit.files);
    from = to;
  }
  return units;
}

/** Files that are as others, of units that are not: one black still of a sequence, one piece of a recording. They stay with their unit. */
function tornUnits(units: readonly FileRow[][], twins: Known['twins']): ReadonlySet<number> {
  const torn = new Set<number>();
  for (const unit of units) {
    // Small ones are never compared, and are no reason for the others to stay.
    if (unit.every((file) => twins.has(file.id) || file.sizeBytes < LEAST_BYTES)) continue;
    for (const file of unit) if (twins.has(file.id)) torn.add(file.id);
  }
  return torn;
}

/** Files that go with one that is used: sidecars, pieces of one recording, stills of one sequence. */
function membersOfUsed(units: readonly FileRow[][], used: ReadonlySet<number>): ReadonlySet<number> {
  const all = new Set<number>();
  for (const unit of units) if (unit.some((file) => used.has(file.id))) for (const file of unit) all.add(file.id);
  return all;
}

const stemIn = (projectId: number, name: string): string => {
  const ending = endingOf(name);
  const stem = ending === '' ? name : name.slice(0, -ending.length - 1);
  // Programs mark proxies in their names.
  return `${projectId} ${stem.toLowerCase().replace(/[ _.-]*(proxy|proxies)$/, '')}`;
};

async function write(db: Database, run: number, rows: readonly [FileRow, Worth, number | null][]): Promise<void> {
  if (rows.length === 0) return;
  const text = rows
    .map(([file, worth, other]) =>
      [
        run,
        file.id,
        file.volumeId,
        file.folderId,
        file.projectId,
        worth.group,
        worth.level,
        worth.reason,
        other ?? '\\N',
        file.sizeBytes,
        Math.floor(file.modifiedUs / 86_400_000_000),
      ].join('\t'),
    )
    .join('\n');
  await withConnection(db, (connection) =>
    loadRows(
      connection,
      'worth CHARACTER SET utf8mb4 (run, file_id, volume_id, folder_id, project_id, what, level, reason, other, size_bytes, day)',
      [`${text}\n`],
    ),
  );
}

const idsOf = async (db: Db, query: ReturnType<typeof sql>): Promise<number[]> => {
  const [rows] = (await db.execute(query)) as unknown as [{ id: number }[]];
  return rows.map((row) => Number(row.id));
};
const pairsOf = async (db: Db, query: ReturnType<typeof sql>): Promise<Map<number, number>> => {
  const [rows] = (await db.execute(query)) as unknown as [{ id: number; other: number }[]];
  return new Map(rows.map((row) => [Number(row.id), Number(row.other)]));
};

async function knownOf(db: Database): Promise<Known> {
  const there = sql`JOIN media m ON m.id = t.media_id JOIN documents o ON o.id = m.document_id JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL`;
  const [states] = (await db.execute(sql`SELECT id, state FROM projects`)) as unknown as [
    { id: number; state: ProjectState }[],
  ];
  const used = new Set(
    await idsOf(
      db,
      sql`SELECT DISTINCT t.file_id AS id FROM media_targets t ${there} JOIN projects q ON q.id = m.project_id AND q.state <> 'archived' WHERE t.file_id IS NOT NULL AND m.used`,
    ),
  );
  return {
    used,
    named: new Set(
      await idsOf(db, sql`SELECT DISTINCT t.file_id AS id FROM media_targets t ${there} WHERE t.file_id IS NOT NULL`),
    ),
    archived: new Map([...(await archivedAlike(db)), ...(await archivedThemselves(db))]),
    twins: await twinsOf(db, used),
    thinned: await thinnedOf(db),
    states: new Map(states.map((row) => [Number(row.id), row.state])),
    withTimelines: new Set(
      await idsOf(
        db,
        sql`SELECT DISTINCT o.project_id AS id FROM documents o JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL JOIN timelines l ON l.document_id = o.id WHERE o.state = 'read'`,
      ),
    ),
    changedUs: await pairsOf(
      db,
      sql`SELECT o.project_id AS id, MAX(g.modified_us) AS other FROM documents o JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL GROUP BY o.project_id`,
    ),
    sources: await sourcesOf(db),
  };
}

const READ_BACK = sql.raw(
  "JOIN copy_files c ON c.archive_file_id = a.id AND c.state = 'read back' JOIN copy_parts p ON p.id = c.copy_part_id AND p.state = 'good'",
);

/** Files that an archive has, as they are now. */
const archivedThemselves = (db: Db) =>
  pairsOf(
    db,
    sql`SELECT a.file_id AS id, MAX(a.archive_id) AS other FROM archive_files a JOIN files f ON f.id = a.file_id AND f.size_bytes = a.size_bytes AND f.modified_us = a.modified_us
      ${READ_BACK} GROUP BY a.file_id`,
  );

/** Files of which an archive has the very content under another name: by the sums of a comparison. */
const archivedAlike = (db: Db) =>
  pairsOf(
    db,
    sql`SELECT s.file_id AS id, MAX(a.archive_id) AS other FROM file_sums s JOIN files f ON f.id = s.file_id AND f.gone_at IS NULL AND f.size_bytes = s.size_bytes AND f.modified_us = s.modified_us
        AND f.inode <=> s.inode AND f.changed_us <=> s.changed_us
      JOIN archive_files a ON a.size_bytes = s.size_bytes AND a.xxh64 = s.xxh64 AND a.role = 'media' ${READ_BACK} WHERE s.xxh64 IS NOT NULL GROUP BY s.file_id`,
  );

/** Backups of one folder, project and name are one series, of which the newest stay. */
async function thinnedOf(db: Db): Promise<Set<number>> {
  const [rows] = (await db.execute(sql`
    SELECT f.id, f.folder_id AS folderId, COALESCE(f.project_id, 0) AS projectId, f.name, f.modified_us AS modifiedUs FROM files f
    WHERE f.kind = 'backup' AND f.gone_at IS NULL`)) as unknown as [FileRow[]];
  const series = new Map<string, FileRow[]>();
  for (const row of rows) {
    const key = `${row.folderId} ${row.projectId} ${seriesOf(row.name)}`;
    const own = series.get(key);
    if (own) own.push(row);
    else series.set(key, [row]);
  }
  return new Set([...series.values()].flatMap((own) => [...thinned(own)]));
}

async function sourcesOf(db: Db): Promise<Set<string>> {
  const [rows] = (await db.execute(sql`
    SELECT f.project_id AS projectId, f.name FROM files f WHERE f.kind = 'source' AND f.gone_at IS NULL
      AND f.project_id IN (SELECT DISTINCT project_id FROM volume_sums WHERE kind = 'proxy' AND project_id > 0)`)) as unknown as [
    { projectId: number; name: string }[],
  ];
  return new Set(rows.map((row) => stemIn(Number(row.projectId), row.name)));
}

/**
 * Of files of the same content one stays: what a timeline uses before what none does, what is at home before what strayed, what
 * is shared before what is not, the older before the younger. Others on its own volume are told apart: a volume that dies takes
 * both of its own. What shares its blocks with the one that stays would free nothing.
 */
async function twinsOf(db: Db, used: ReadonlySet<number>): Promise<Map<number, Twin>> {
  const [rows] = (await db.execute(sql`
    SELECT f.id, f.volume_id AS volumeId, f.size_bytes AS sizeBytes, s.xxh64, s.shared_bytes AS sharedBytes, f.inode, v.shared, v.state, f.modified_us AS modifiedUs,
      EXISTS (SELECT 1 FROM homes h JOIN folders d ON d.id = f.folder_id WHERE h.project_id = f.project_id AND h.volume_id = f.volume_id AND h.kind = f.kind
        AND (d.path = h.folder OR d.path LIKE CONCAT(REPLACE(REPLACE(h.folder, '%', '\\%'), '_', '\\_'), '/%'))) AS atHome
    FROM file_sums s JOIN files f ON f.id = s.file_id AND f.gone_at IS NULL AND f.size_bytes = s.size_bytes AND f.modified_us = s.modified_us
      AND (f.changed_us IS NULL OR f.changed_us = s.changed_us)
    JOIN volumes v ON v.id = f.volume_id AND v.retired_at IS NULL
    WHERE s.xxh64 IS NOT NULL ORDER BY s.size_bytes, s.xxh64, f.id`)) as unknown as [TwinRow[]];
  const twins = new Map<number, Twin>();
  for (let from = 0; from < rows.length;) {
    let to = from;
    while (to < rows.length && rows[to]!.sizeBytes === rows[from]!.sizeBytes && rows[to]!.xxh64 === rows[from]!.xxh64)
      to++;
    const same = rows
      .slice(from, to)
      .sort((a, b) => staying(b, used) - staying(a, used) || a.modifiedUs - b.modifiedUs || a.id - b.id);
    const [stays] = same;
    if (stays && stays.state === 'reachable')
      for (const other of same.slice(1)) {
        const is = other.volumeId === stays.volumeId ? 'here' : 'elsewhere';
        if (used.has(other.id) || (is === 'here' && freesNothing(other, stays))) continue;
        twins.set(Number(other.id), { stays: Number(stays.id), is });
      }
    from = to;
  }
  return twins;
}

interface Twin {
  stays: number;
  is: 'elsewhere' | 'here';
}

/** Of one volume: another name of the very file, or a copy that shares its blocks. */
const freesNothing = (other: TwinRow, stays: TwinRow): boolean =>
  (other.inode !== null && other.inode === stays.inode) || sharesAll(other.sharedBytes, other.sizeBytes);

interface TwinRow {
  id: number;
  inode: number | null;
  sharedBytes: number | null;
  volumeId: number;
  sizeBytes: number;
  xxh64: string;
  shared: number;
  state: string;
  modifiedUs: number;
  atHome: number;
}

const staying = (row: TwinRow, used: ReadonlySet<number>): number =>
  (used.has(row.id) ? 8 : 0) +
  (Number(row.atHome) > 0 ? 4 : 0) +
  (Number(row.shared) > 0 ? 2 : 0) +
  (row.state === 'reachable' ? 1 : 0);

/** What an assessment follows from, as one text: where it differs, a new one is due. */
async function marksOf(db: Db): Promise<string> {
  const [rows] = (await db.execute(sql`
    SELECT CONCAT_WS(' ', (SELECT COALESCE(MAX(id), 0) FROM readings WHERE finished_at IS NOT NULL), (SELECT COALESCE(MAX(id), 0) FROM receipts),
      (SELECT COALESCE(MAX(since), 0) FROM project_states), (SELECT COALESCE(MAX(read_at), 0) FROM documents), (SELECT COALESCE(MAX(id), 0) FROM jobs WHERE kind = 'compare files' AND state = 'done'),
      (SELECT COALESCE(MAX(retired_at), 0) FROM volumes)) AS marks`)) as unknown as [{ marks: string }[]];
  return rows[0]!.marks;
}

const params = z.object({});

export const assessWork = workKind<z.infer<typeof params>>({
  kind: 'assess',
  params,
  async run(context: JobContext) {
    context.phase('assessing what may go', 'files', 0);
    try {
      await assess(context.db, { check: () => context.check() });
      await endPlainly(context);
    } catch (thrown) {
      await endAfter(context, thrown);
    }
  },
});
/** Asks for an assessment where the catalogue has changed since the last, and has been still for a moment. */
export async function askToAssess(db: Database, now: Date): Promise<void> {
  const [last, marks] = [await currentAssessment(db), await marksOf(db)];
  if (last?.marks === marks || (last && now.getTime() - last.atMs < last.tookMs * REST)) return;
  const [rows] = (await db.execute(sql`
    SELECT GREATEST(COALESCE((SELECT MAX(finished_at) FROM readings), 0), COALESCE((SELECT MAX(at) FROM receipts), 0)) > ${new Date(now.getTime() - QUIET_MS)} AS busy,
      EXISTS (SELECT 1 FROM readings WHERE finished_at IS NOT NULL) AS any_`)) as unknown as [
    { busy: number; any_: number }[],
  ];
  if (Number(rows[0]!.busy) > 0 || Number(rows[0]!.any_) === 0) return;
  await inTransaction(db, async (tx) => {
    const [waiting] = await tx
      .select({ id: jobs.id })
      .from(jobs)
      .where(sql`${jobs.kind} = ${assessWork.kind} AND ${jobs.state} IN ('queued', 'running')`);
    if (waiting) return;
    await enqueue(
      tx,
      { kind: assessWork.kind, title: 'Work out what may go', params: {}, who: 'Keramion', quiet: true, stores: [] },
      now,
    );
  });
}
