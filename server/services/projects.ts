// Projects as the lenses show them: sizes from the rollups, found and missing from the documents.
import { and, eq, inArray, isNull, sql } from 'drizzle-orm';
import type { Kind, ProjectId, ProjectState, VolumeId } from '#core/model.ts';
import { exactTime } from '#core/say/amounts.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import { archives, documents, files, folders, media, projects, volumeHoldings } from '../db/schema.ts';
import { Refused } from '../refused.ts';
import { itemsHash, writeReceipt } from './ledger.ts';

const sum = (column: typeof volumeHoldings.bytes) => sql`COALESCE(SUM(${column}), 0)`.mapWith(Number);

export interface ProjectRow {
  projectId: ProjectId;
  name: string;
  state: ProjectState;
  stateSince: Date;
  files: number;
  bytes: number;
  onVolumes: { volumeId: VolumeId; bytes: number }[];
  media: number;
  missing: number;
  unusedBytes: number;
  archived: boolean;
}

/** Every project with what it holds where. `only` narrows sizes to the chosen volumes. */
export async function projectRows(db: Database, only: readonly VolumeId[] = []): Promise<ProjectRow[]> {
  const all = await db.select().from(projects).orderBy(projects.name);
  const holdings = await db
    .select({
      projectId: volumeHoldings.projectId,
      volumeId: volumeHoldings.volumeId,
      files: sum(volumeHoldings.files),
      bytes: sum(volumeHoldings.bytes),
    })
    .from(volumeHoldings)
    .where(
      and(
        sql`${volumeHoldings.projectId} > 0`,
        only.length > 0 ? inArray(volumeHoldings.volumeId, [...only]) : undefined,
      ),
    )
    .groupBy(volumeHoldings.projectId, volumeHoldings.volumeId);
  const counts = await mediaCounts(db);
  const sealed = new Set(
    (await db.select({ id: archives.projectId }).from(archives).where(eq(archives.state, 'sealed'))).map(
      (row) => row.id,
    ),
  );
  return all.map((project) => {
    const own = holdings.filter((h) => h.projectId === project.id);
    const found = counts.get(project.id);
    return {
      projectId: project.id as ProjectId,
      name: project.name,
      state: project.state,
      stateSince: project.stateSince,
      files: own.reduce((n, h) => n + h.files, 0),
      bytes: own.reduce((n, h) => n + h.bytes, 0),
      onVolumes: own.map((h) => ({ volumeId: h.volumeId as VolumeId, bytes: h.bytes })),
      media: found?.total ?? 0,
      missing: found?.missing ?? 0,
      unusedBytes: found?.unusedBytes ?? 0,
      archived: sealed.has(project.id),
    };
  });
}

interface MediaCounts {
  total: number;
  missing: number;
  unusedBytes: number;
}

/** Media of living documents: how many, how many not found whole, and the bytes that no timeline reaches. */
async function mediaCounts(db: Database, projectId?: ProjectId): Promise<Map<number, MediaCounts>> {
  const rows = await db
    .select({
      projectId: media.projectId,
      total: sql`COUNT(*)`.mapWith(Number),
      missing: sql`SUM(${media.found} < GREATEST(${media.targets}, 1))`.mapWith(Number),
    })
    .from(media)
    .innerJoin(documents, eq(documents.id, media.documentId))
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(and(isNull(files.goneAt), projectId === undefined ? undefined : eq(media.projectId, projectId)))
    .groupBy(media.projectId);
  const unused = await db.execute(sql`
    SELECT x.project_id AS projectId, SUM(x.size_bytes) AS bytes FROM (
      SELECT m.project_id, f.id, f.size_bytes, MAX(m.used) AS used FROM media m
      JOIN documents o ON o.id = m.document_id JOIN files of ON of.id = o.file_id AND of.gone_at IS NULL
      JOIN media_targets t ON t.media_id = m.id JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL
      ${projectId === undefined ? sql`` : sql`WHERE m.project_id = ${projectId}`}
      GROUP BY m.project_id, f.id, f.size_bytes) x WHERE x.used = 0 GROUP BY x.project_id`);
  const bytes = new Map(
    (unused as unknown as [{ projectId: number; bytes: string }[]])[0].map((row) => [
      Number(row.projectId),
      Number(row.bytes),
    ]),
  );
  return new Map(
    rows.map((row) => [
      row.projectId,
      { total: row.total, missing: row.missing, unusedBytes: bytes.get(row.projectId) ?? 0 },
    ]),
  );
}

export async function projectById(db: Database, projectId: ProjectId) {
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  return project ?? null;
}

/** What a project holds by kind and volume. */
export async function projectHoldings(
  db: Database,
  projectId: ProjectId,
): Promise<{ kind: Kind; volumeId: VolumeId; files: number; bytes: number }[]> {
  const rows = await db
    .select({
      kind: volumeHoldings.kind,
      volumeId: volumeHoldings.volumeId,
      files: sum(volumeHoldings.files),
      bytes: sum(volumeHoldings.bytes),
    })
    .from(volumeHoldings)
    .where(eq(volumeHoldings.projectId, projectId))
    .groupBy(volumeHoldings.kind, volumeHoldings.volumeId);
  return rows.map((row) => ({ ...row, volumeId: row.volumeId as VolumeId }));
}

export async function projectMedia(db: Database, projectId: ProjectId): Promise<MediaCounts> {
  return (await mediaCounts(db, projectId)).get(projectId) ?? { total: 0, missing: 0, unusedBytes: 0 };
}

/** A project's documents, the ones still there first. */
export async function projectDocuments(db: Database, projectId: ProjectId) {
  return db
    .select({
      documentId: documents.id,
      name: documents.name,
      state: documents.state,
      trouble: documents.trouble,
      readAt: documents.readAt,
      volumeId: files.volumeId,
      folder: folders.path,
      goneAt: files.goneAt,
    })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .innerJoin(folders, eq(folders.id, files.folderId))
    .where(eq(documents.projectId, projectId))
    .orderBy(sql`${files.goneAt} IS NOT NULL`, documents.name);
}

export interface StateChange {
  projectId: ProjectId;
  state: ProjectState;
  since: Date;
  who: string;
  now: Date;
}

/** Sets the state of a project and leaves a receipt. */
export async function setState(db: Database, { projectId, state, since, who, now }: StateChange): Promise<void> {
  await inTransaction(db, async (tx) => {
    const [project] = await tx.select().from(projects).where(eq(projects.id, projectId)).for('update');
    if (!project) throw new Refused('There is no such project. Nothing was changed.');
    // The same state again tells nothing new, unless it is said to have begun earlier.
    if (project.state === state && since >= project.stateSince) return;
    await tx.update(projects).set({ state, stateSince: since }).where(eq(projects.id, projectId));
    await writeReceipt(tx, {
      at: now,
      who,
      action: 'state changed',
      title:
        project.state === state
          ? `${project.name}: ${state} since an earlier day`
          : `${project.name}: ${project.state} to ${state}`,
      projectId,
      files: 0,
      bytes: 0,
      held: 0,
      facts: { from: project.state, to: state, since: exactTime(since.getTime()) },
      itemsSha256: itemsHash([]),
    });
  });
}
