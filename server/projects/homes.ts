// Homes of projects and what has strayed from them, worked out from the rollups by folder: never from single files.
import { and, desc, eq, sql } from 'drizzle-orm';
import { type Home, KINDS_WITH_HOMES, type Strays, suggestHomes } from '#core/homes/homes.ts';
import type { Kind, ProjectId, VolumeId } from '#core/model.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { folders } from '../db/schema/catalogue.ts';
import { homes, projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { strays } from '../db/schema/sums.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import { Refused } from '../runtime/refused.ts';
import { updateHomeClaims } from '../readings/claims.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import type { By } from '../stores/places.ts';
import { holdingsOf, recomputeProjectSums } from '../readings/project-sums.ts';

export async function homesOf(db: Db, projectId: ProjectId): Promise<Home[]> {
  const rows = await db.select().from(homes).where(eq(homes.projectId, projectId));
  return rows.map((row) => ({ kind: row.kind, volumeId: row.volumeId as VolumeId, folder: row.folder }));
}

/** A home with what stands against writing to it now. */
export interface HomeRow extends Home {
  trouble: 'unreachable' | 'read-only' | 'out of use' | 'not made' | null;
}

async function withTroubles(db: Database, own: readonly Home[]): Promise<HomeRow[]> {
  if (own.length === 0) return [];
  const known = new Map((await db.select().from(volumes)).map((volume) => [volume.id, volume]));
  const there = new Set(
    (
      await db
        .select({ volumeId: folders.volumeId, path: folders.path })
        .from(folders)
        .where(
          sql`(${folders.volumeId}, ${folders.pathHash}) IN ${own.map((home) => sql`(${home.volumeId}, ${pathHash(home.folder)})`)} AND ${folders.goneAt} IS NULL`,
        )
    ).map((row) => `${row.volumeId} ${row.path}`),
  );
  return own.map((home) => {
    const volume = known.get(home.volumeId);
    const trouble =
      !volume || volume.retiredAt
        ? 'out of use'
        : volume.state === 'unreachable' || volume.state === 'swapped'
          ? 'unreachable'
          : volume.readOnly
            ? 'read-only'
            : home.folder !== '' && !there.has(`${home.volumeId} ${home.folder}`)
              ? 'not made'
              : null;
    return { ...home, trouble };
  });
}

export interface ProjectHomes {
  homes: HomeRow[];
  strays: Strays[];
  /** Other projects that have files in one of its homes. */
  neighbours: { kind: Kind; project: string; bytes: number }[];
}

export async function projectHomes(db: Database, projectId: ProjectId): Promise<ProjectHomes> {
  const [own, rows] = await Promise.all([
    homesOf(db, projectId),
    db.select().from(strays).where(eq(strays.projectId, projectId)).orderBy(desc(strays.bytes)),
  ]);
  const neighbours = (await Promise.all(own.map((home) => neighboursIn(db, projectId, home)))).flat();
  return { homes: await withTroubles(db, own), strays: rows.map(strayOf), neighbours };
}

async function neighboursIn(db: Database, projectId: ProjectId, home: Home): Promise<ProjectHomes['neighbours']> {
  // Down from the home's folder, never over the whole volume.
  const [rows] = (await db.execute(sql`
    WITH RECURSIVE below AS (
      SELECT id FROM folders WHERE volume_id = ${home.volumeId} AND path_hash = ${pathHash(home.folder)}
      UNION ALL SELECT f.id FROM folders f JOIN below b ON f.parent_id = b.id)
    SELECT p.name AS project, SUM(h.bytes) AS bytes FROM below JOIN folder_holdings h ON h.folder_id = below.id
    JOIN projects p ON p.id = h.project_id WHERE h.project_id <> ${projectId} GROUP BY p.name`)) as unknown as [
    { project: string; bytes: string }[],
  ];
  return rows.map((row) => ({ kind: home.kind, project: row.project, bytes: Number(row.bytes) }));
}

const strayOf = (row: typeof strays.$inferSelect): Strays => ({
  kind: row.kind,
  volumeId: row.volumeId as VolumeId,
  files: row.files,
  bytes: row.bytes,
});

/** Strays of every project that has homes, the most bytes of a project first. */
export async function allStrays(
  db: Database,
): Promise<(Strays & { projectId: ProjectId; project: string; state: string })[]> {
  const rows = await db
    .select({ stray: strays, project: projects.name, state: projects.state })
    .from(strays)
    .innerJoin(projects, eq(projects.id, strays.projectId))
    .orderBy(projects.name, desc(strays.bytes));
  return rows.map(({ stray, ...project }) => ({
    ...strayOf(stray),
    projectId: stray.projectId as ProjectId,
    ...project,
  }));
}

/** Homes of projects in work on volumes that nobody can write to now. */
export async function homesInTrouble(db: Database) {
  const rows = await db
    .select({
      home: homes,
      project: projects.name,
      volume: volumes.name,
      state: volumes.state,
      readOnly: volumes.readOnly,
      retiredAt: volumes.retiredAt,
    })
    .from(homes)
    .innerJoin(projects, eq(projects.id, homes.projectId))
    .innerJoin(volumes, eq(volumes.id, homes.volumeId))
    .where(
      sql`${projects.state} IN ('planned', 'in work', 'finishing') AND (${volumes.state} IN ('unreachable', 'swapped') OR ${volumes.readOnly} OR ${volumes.retiredAt} IS NOT NULL)`,
    );
  return rows.map((row) => ({
    projectId: row.home.projectId as ProjectId,
    project: row.project,
    kind: row.home.kind,
    volume: row.volume,
    why: row.retiredAt ? 'is retired' : row.readOnly ? 'can only be read' : 'cannot be reached',
  }));
}

/** Sets where files of a kind belong, with a receipt. The folder need not exist yet; nothing is moved. */
export async function setHome(db: Database, projectId: ProjectId, home: Home, { who, now }: By): Promise<number> {
  if (!KINDS_WITH_HOMES.includes(home.kind))
    throw new Refused(`Files of the kind ${home.kind} have no home. Nothing was changed.`);
  const receiptId = await inTransaction(db, async (tx) => {
    const [project] = await tx.select().from(projects).where(eq(projects.id, projectId)).for('update');
    const [volume] = await tx.select().from(volumes).where(eq(volumes.id, home.volumeId));
    if (!project || !volume || volume.retiredAt)
      throw new Refused('The project or the volume is not known. Nothing was changed.');
    const [known] = await tx.select().from(homes).where(homeOf(projectId, home.kind));
    const before = known ? { volumeId: known.volumeId, folder: known.folder } : null;
    await tx
      .insert(homes)
      .values({ projectId, ...home })
      .onDuplicateKeyUpdate({ set: { volumeId: home.volumeId, folder: home.folder } });
    await updateHomeClaims(tx, projectId);
    return writeReceipt(tx, {
      at: now,
      who,
      action: 'home changed',
      title: `${project.name}: ${home.kind} belongs on ${volume.name}${home.folder === '' ? '' : `, in ${home.folder}`}`,
      projectId,
      files: 0,
      bytes: 0,
      held: 0,
      facts: { ...home, before },
      itemsSha256: itemsHash([]),
    });
  });
  await recomputeProjectSums(db, [projectId]);
  return receiptId;
}

const homeOf = (projectId: ProjectId, kind: Kind) => and(eq(homes.projectId, projectId), eq(homes.kind, kind));

export type HomeFacts = Home & { before: Pick<Home, 'volumeId' | 'folder'> | null };

/** The home before, or none; false where it is not as that change left it. Nothing is moved. */
export async function takeHomeBack(
  tx: Transaction,
  projectId: ProjectId,
  { kind, volumeId, folder, before }: HomeFacts,
): Promise<boolean> {
  const [known] = await tx.select().from(homes).where(homeOf(projectId, kind)).for('update');
  if (known?.volumeId !== volumeId || known.folder !== folder) return false;
  if (before === null) await tx.delete(homes).where(homeOf(projectId, kind));
  else await tx.update(homes).set(before).where(homeOf(projectId, kind));
  await updateHomeClaims(tx, projectId);
  return true;
}

/** Gives a project the homes that its files suggest, for every kind that has none. Returns how many. */
export async function takeSuggestedHomes(db: Database, projectId: ProjectId, by: By): Promise<number> {
  const own = await homesOf(db, projectId);
  const wanted = suggestHomes(await holdingsOf(db, [projectId])).filter(
    (home) => !own.some((known) => known.kind === home.kind),
  );
  for (const home of wanted) await setHome(db, projectId, home, by);
  return wanted.length;
}
