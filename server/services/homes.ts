// Homes of projects and what has strayed from them, worked out from the rollups by folder: never from single files.
import { and, eq, sql } from 'drizzle-orm';
import { type Holding, type Home, KINDS_WITH_HOMES, type Strays, straysOf, suggestHomes } from '#core/homes/homes.ts';
import type { Kind, ProjectId, VolumeId } from '#core/model.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import { folderHoldings, folders, homes, projects, volumes } from '../db/schema.ts';
import { Refused } from '../refused.ts';
import { itemsHash, writeReceipt } from './ledger.ts';
import type { By } from './places.ts';

/** What every folder holds of a project, by kind; of all projects where none is given. */
async function holdingsOf(db: Database, projectId?: ProjectId): Promise<(Holding & { projectId: ProjectId })[]> {
  const rows = await db
    .select({
      projectId: folderHoldings.projectId,
      kind: folderHoldings.kind,
      volumeId: folderHoldings.volumeId,
      folder: folders.path,
      files: sql`SUM(${folderHoldings.files})`.mapWith(Number),
      bytes: sql`SUM(${folderHoldings.bytes})`.mapWith(Number),
    })
    .from(folderHoldings)
    .innerJoin(folders, eq(folders.id, folderHoldings.folderId))
    .where(
      projectId === undefined
        ? sql`${folderHoldings.projectId} IN (SELECT project_id FROM homes)`
        : eq(folderHoldings.projectId, projectId),
    )
    .groupBy(folderHoldings.projectId, folderHoldings.kind, folderHoldings.volumeId, folders.path);
  return rows.map((row) => ({ ...row, projectId: row.projectId as ProjectId, volumeId: row.volumeId as VolumeId }));
}

export async function homesOf(db: Database, projectId: ProjectId): Promise<Home[]> {
  const rows = await db.select().from(homes).where(eq(homes.projectId, projectId));
  return rows.map((row) => ({ kind: row.kind, volumeId: row.volumeId as VolumeId, folder: row.folder }));
}

export interface ProjectHomes {
  homes: Home[];
  strays: Strays[];
  /** Other projects that have files in one of its homes. */
  neighbours: { kind: Kind; project: string; bytes: number }[];
}

export async function projectHomes(db: Database, projectId: ProjectId): Promise<ProjectHomes> {
  const [own, holdings] = await Promise.all([homesOf(db, projectId), holdingsOf(db, projectId)]);
  const neighbours = (await Promise.all(own.map((home) => neighboursIn(db, projectId, home)))).flat();
  return { homes: own, strays: straysOf(holdings, own), neighbours };
}

async function neighboursIn(db: Database, projectId: ProjectId, home: Home): Promise<ProjectHomes['neighbours']> {
  const inside =
    home.folder === ''
      ? sql`TRUE`
      : sql`(${folders.path} = ${home.folder} OR LEFT(${folders.path}, ${home.folder.length + 1}) = ${`${home.folder}/`})`;
  const rows = await db
    .select({ project: projects.name, bytes: sql`SUM(${folderHoldings.bytes})`.mapWith(Number) })
    .from(folderHoldings)
    .innerJoin(folders, eq(folders.id, folderHoldings.folderId))
    .innerJoin(projects, eq(projects.id, folderHoldings.projectId))
    .where(and(eq(folderHoldings.volumeId, home.volumeId), sql`${folderHoldings.projectId} <> ${projectId}`, inside))
    .groupBy(projects.name);
  return rows.map((row) => ({ kind: home.kind, ...row }));
}

/** Strays of every project that has homes. */
export async function allStrays(
  db: Database,
): Promise<(Strays & { projectId: ProjectId; project: string; state: string })[]> {
  const [holdings, rows, names] = await Promise.all([
    holdingsOf(db),
    db.select().from(homes),
    db.select().from(projects),
  ]);
  return names.flatMap((project) =>
    straysOf(
      holdings.filter((holding) => holding.projectId === project.id),
      rows
        .filter((row) => row.projectId === project.id)
        .map((row) => ({ kind: row.kind, volumeId: row.volumeId as VolumeId, folder: row.folder })),
    ).map((stray) => ({ ...stray, projectId: project.id as ProjectId, project: project.name, state: project.state })),
  );
}

/** Sets where files of a kind belong, with a receipt. The folder need not exist yet; nothing is moved. */
export async function setHome(db: Database, projectId: ProjectId, home: Home, { who, now }: By): Promise<void> {
  if (!KINDS_WITH_HOMES.includes(home.kind))
    throw new Refused(`Files of the kind ${home.kind} have no home. Nothing was changed.`);
  await inTransaction(db, async (tx) => {
    const [project] = await tx.select().from(projects).where(eq(projects.id, projectId)).for('update');
    const [volume] = await tx.select().from(volumes).where(eq(volumes.id, home.volumeId));
    if (!project || !volume || volume.retiredAt)
      throw new Refused('The project or the volume is not known. Nothing was changed.');
    await tx
      .insert(homes)
      .values({ projectId, ...home })
      .onDuplicateKeyUpdate({ set: { volumeId: home.volumeId, folder: home.folder } });
    await writeReceipt(tx, {
      at: now,
      who,
      action: 'home changed',
      title: `${project.name}: ${home.kind} belongs on ${volume.name}${home.folder === '' ? '' : `, in ${home.folder}`}`,
      projectId,
      files: 0,
      bytes: 0,
      held: 0,
      facts: { ...home },
      itemsSha256: itemsHash([]),
    });
  });
}

/** Gives a project the homes that its files suggest, for every kind that has none. Returns how many. */
export async function takeSuggestedHomes(db: Database, projectId: ProjectId, by: By): Promise<number> {
  const own = await homesOf(db, projectId);
  const wanted = suggestHomes(await holdingsOf(db, projectId)).filter(
    (home) => !own.some((known) => known.kind === home.kind),
  );
  for (const home of wanted) await setHome(db, projectId, home, by);
  return wanted.length;
}
