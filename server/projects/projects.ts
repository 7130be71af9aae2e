// Projects as the lenses show them: sizes from the rollups, found and missing from the documents.
import { and, eq, inArray, sql } from 'drizzle-orm';
import { grouped } from '#core/grouped.ts';
import { type Kind, KINDS, type ProjectId, type ProjectState, type VolumeId } from '#core/model.ts';
import { exactTime } from '#core/wording/amounts.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { archives } from '../db/schema/archives.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents } from '../db/schema/documents.ts';
import { projects, projectStates } from '../db/schema/projects.ts';
import { projectSums, volumeSums } from '../db/schema/sums.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';

const sum = (column: typeof volumeSums.bytes) => sql`COALESCE(SUM(${column}), 0)`.mapWith(Number);

export interface ProjectRow {
  projectId: ProjectId;
  name: string;
  client: string;
  state: ProjectState;
  stateSince: Date;
  files: number;
  bytes: number;
  onVolumes: { volumeId: VolumeId; bytes: number }[];
  /** In the usual order of kinds; of what is narrowed to. */
  byKind: { kind: Kind; bytes: number }[];
  media: number;
  missing: number;
  unusedBytes: number;
  archived: boolean;
}

const bytesOf = (rows: readonly { bytes: number }[]): number => rows.reduce((n, row) => n + row.bytes, 0);

/** Every project with what it holds where. `only` narrows sizes to the chosen volumes. */
export async function projectRows(db: Database, only: readonly VolumeId[] = []): Promise<ProjectRow[]> {
  const all = await db.select().from(projects).orderBy(projects.name);
  const holdings = await db
    .select({
      projectId: volumeSums.projectId,
      volumeId: volumeSums.volumeId,
      kind: volumeSums.kind,
      files: volumeSums.files,
      bytes: volumeSums.bytes,
    })
    .from(volumeSums)
    .where(
      and(sql`${volumeSums.projectId} > 0`, only.length > 0 ? inArray(volumeSums.volumeId, [...only]) : undefined),
    );
  const byProject = grouped(holdings, (row) => row.projectId);
  const counts = await mediaCounts(db);
  const sealed = new Set(
    (
      await db
        .select({ id: archives.projectId })
        .from(archives)
        .where(and(eq(archives.state, 'sealed'), eq(archives.night, false)))
    ).map((row) => row.id),
  );
  return all.map((project) => {
    const own = byProject.get(project.id) ?? [];
    const found = counts.get(project.id);
    return {
      projectId: project.id as ProjectId,
      name: project.name,
      client: project.client,
      state: project.state,
      stateSince: project.stateSince,
      files: own.reduce((n, h) => n + h.files, 0),
      bytes: own.reduce((n, h) => n + h.bytes, 0),
      onVolumes: [...grouped(own, (row) => row.volumeId)].map(([volumeId, rows]) => ({
        volumeId: volumeId as VolumeId,
        bytes: bytesOf(rows),
      })),
      byKind: KINDS.map((kind) => ({ kind, bytes: bytesOf(own.filter((row) => row.kind === kind)) })).filter(
        ({ bytes }) => bytes > 0,
      ),
      media: found?.total ?? 0,
      missing: found?.missing ?? 0,
      unusedBytes: found?.unusedBytes ?? 0,
      archived: sealed.has(project.id),
    };
  });
}

export interface MediaCounts {
  total: number;
  missing: number;
  /** Bytes of media that no timeline of any project reaches. */
  unusedBytes: number;
}

async function mediaCounts(db: Database, projectId?: ProjectId): Promise<Map<number, MediaCounts>> {
  const rows = await db
    .select()
    .from(projectSums)
    .where(projectId === undefined ? undefined : eq(projectSums.projectId, projectId));
  return new Map(
    rows.map((row) => [row.projectId, { total: row.media, missing: row.missing, unusedBytes: row.unusedBytes }]),
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
      kind: volumeSums.kind,
      volumeId: volumeSums.volumeId,
      files: sum(volumeSums.files),
      bytes: sum(volumeSums.bytes),
    })
    .from(volumeSums)
    .where(eq(volumeSums.projectId, projectId))
    .groupBy(volumeSums.kind, volumeSums.volumeId);
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
      notes: documents.notes,
      readAt: documents.readAt,
      supersededBy: documents.supersededBy,
      fileId: files.id,
      volumeId: files.volumeId,
      folder: folders.path,
      goneAt: files.goneAt,
    })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .innerJoin(folders, eq(folders.id, files.folderId))
    .where(eq(documents.projectId, projectId))
    .orderBy(sql`${files.goneAt} IS NOT NULL`, sql`${documents.supersededBy} IS NOT NULL`, documents.name);
}

/** The day each state of a project began, as far as it is known, in the order of the states. */
export async function statesOf(db: Database, projectId: ProjectId) {
  return db
    .select({ state: projectStates.state, since: projectStates.since })
    .from(projectStates)
    .where(eq(projectStates.projectId, projectId))
    .orderBy(projectStates.state);
}

export interface StateChange {
  projectId: ProjectId;
  state: ProjectState;
  since: Date;
  who: string;
  now: Date;
}

/** Sets the state of a project and leaves a receipt. */
export async function setState(
  db: Database,
  { projectId, state, since, who, now }: StateChange,
): Promise<number | null> {
  return inTransaction(db, async (tx) => {
    const [project] = await tx.select().from(projects).where(eq(projects.id, projectId)).for('update');
    if (!project) throw new Refused('There is no such project. Nothing was changed.');
    if (since > now) throw new Refused('That day is still to come. Nothing was changed.');
    // The same state again tells nothing new, unless it is said to have begun earlier.
    if (project.state === state && since >= project.stateSince) return null;
    const [earlier] = await tx
      .select()
      .from(projectStates)
      .where(and(eq(projectStates.projectId, projectId), eq(projectStates.state, state)));
    const before = { sinceMs: project.stateSince.getTime(), earlierMs: earlier?.since.getTime() ?? null };
    await tx.update(projects).set({ state, stateSince: since }).where(eq(projects.id, projectId));
    await tx.insert(projectStates).values({ projectId, state, since }).onDuplicateKeyUpdate({ set: { since } });
    return writeReceipt(tx, {
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
      facts: { from: project.state, to: state, since: exactTime(since.getTime()), sinceMs: since.getTime(), before },
      itemsSha256: itemsHash([]),
    });
  });
}

export interface StateFacts {
  from: ProjectState;
  to: ProjectState;
  sinceMs: number;
  /** Since when it was in the state before, and what was known of an earlier time in the state it went to. */
  before: { sinceMs: number; earlierMs: number | null };
}

/** The state before, as if the change had not been; false where the project is not as that change left it. */
export async function takeStateBack(
  tx: Transaction,
  projectId: ProjectId,
  { from, to, sinceMs, before }: StateFacts,
): Promise<boolean> {
  const [project] = await tx.select().from(projects).where(eq(projects.id, projectId)).for('update');
  if (!project || project.state !== to || project.stateSince.getTime() !== sinceMs) return false;
  await tx
    .update(projects)
    .set({ state: from, stateSince: new Date(before.sinceMs) })
    .where(eq(projects.id, projectId));
  const of = (state: ProjectState) => and(eq(projectStates.projectId, projectId), eq(projectStates.state, state));
  if (before.earlierMs === null) await tx.delete(projectStates).where(of(to));
  else
    await tx
      .update(projectStates)
      .set({ since: new Date(before.earlierMs) })
      .where(of(to));
  const since = new Date(before.sinceMs);
  await tx.insert(projectStates).values({ projectId, state: from, since }).onDuplicateKeyUpdate({ set: { since } });
  return true;
}

/** Every project by name, for choosing one. */
export async function projectNames(
  db: Database,
): Promise<{ projectId: ProjectId; name: string; state: ProjectState }[]> {
  const rows = await db
    .select({ projectId: projects.id, name: projects.name, state: projects.state })
    .from(projects)
    .orderBy(projects.name);
  return rows.map((row) => ({ ...row, projectId: row.projectId as ProjectId }));
}
