// Choosing what moves home: strays of one kind of a project go to their home, with every file that belongs to their units. Touches no file.
import { and, eq, inArray, isNull, sql } from 'drizzle-orm';
import { foldPath, placeMoves } from '#core/homes/moves.ts';
import { isAtHome } from '#core/homes/homes.ts';
import type { FileId, Kind, ProjectId, VolumeId } from '#core/model.ts';
import { moveHome as stepKind } from '#core/steps/move-home.ts';
import { joinPath } from '#core/paths.ts';
import { unitsOf } from '#core/units/units.ts';
import { placeOfFile } from '#disk/paths.ts';
import type { Database, Transaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { stepItems } from '../db/schema/plans.ts';
import { claims, projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { folderHoldings } from '../db/schema/sums.ts';
import { Refused } from '../runtime/refused.ts';
import { homesOf } from '../projects/homes.ts';
import { addFileStep, filesInPlans } from './adding.ts';

interface StrayFile {
  id: number;
  fileId: FileId;
  volumeId: VolumeId;
  volume: string;
  folderId: number;
  folder: string;
  name: string;
  path: string;
  rawPath: Buffer | null;
  sizeBytes: number;
  modifiedUs: number;
  device: number | null;
  inode: number | null;
  changedUs: number | null;
  kind: Kind;
  projectId: number | null;
}

/** Adds the moving home of strays of one kind. */
export async function addMoveHome(
  db: Database,
  { projectId, kind, now }: { projectId: ProjectId; kind: Kind; now: Date },
): Promise<{ files: number; bytes: number }> {
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  if (!project) throw new Refused('There is no such project. Nothing was added.');
  const home = (await homesOf(db, projectId)).find((own) => own.kind === kind);
  if (!home) throw new Refused(`${project.name} has no home for ${kind}. Set one first. Nothing was added.`);
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, home.volumeId));
  if (!volume || volume.retiredAt)
    throw new Refused(`The home of its ${kind} is on a volume that is out of use. Set another. Nothing was added.`);
  const params = {
    projectId,
    project: project.name,
    fileKind: kind,
    volumeId: home.volumeId,
    folder: home.folder,
  };
  return addFileStep(db, { kind: stepKind, params, names: { volume: volume.name }, now }, async (tx, stepId) => {
    const strays = await straysWithUnits(tx, { projectId, kind, home });
    const busy = await filesInPlans(
      tx,
      strays.map((stray) => stray.fileId),
    );
    const free = strays.filter((stray) => !busy.has(stray.fileId));
    const taken = await takenBelow(tx, home);
    const places = placeMoves({
      strays: free,
      claims: (await tx.select().from(claims).where(eq(claims.projectId, projectId))).map((claim) => ({
        volumeId: claim.volumeId as VolumeId,
        folder: claim.folder,
      })),
      home: home.folder,
      taken: (path) => taken.has(foldPath(path)),
    });
    for (const some of inSlices(free, 1000))
      await tx.insert(stepItems).values(
        some.map((stray) => ({
          stepId,
          volumeId: stray.volumeId,
          fileId: stray.fileId,
          path: stray.path,
          rawPath: stray.rawPath,
          sizeBytes: stray.sizeBytes,
          modifiedUs: stray.modifiedUs,
          device: stray.device,
          inode: stray.inode,
          changedUs: stray.changedUs,
          targetPath: places.get(stray.fileId)!,
        })),
      );
    return `All ${kind} of ${project.name} is at home, or in a plan already. Nothing was added.`;
  });
}

/** The strays, and beside each what belongs to its unit and to the same project or to none. */
async function straysWithUnits(
  tx: Transaction,
  {
    projectId,
    kind,
    home,
  }: { projectId: ProjectId; kind: Kind; home: { volumeId: VolumeId; folder: string; kind: Kind } },
): Promise<StrayFile[]> {
  const holding = await tx
    .selectDistinct({ folderId: folders.id, volumeId: folders.volumeId, folder: folders.path })
    .from(folderHoldings)
    .innerJoin(folders, eq(folders.id, folderHoldings.folderId))
    .where(and(eq(folderHoldings.projectId, projectId), eq(folderHoldings.kind, kind)));
  const away = holding.filter((row) => !isAtHome({ volumeId: row.volumeId as VolumeId, folder: row.folder }, home));
  const found: StrayFile[] = [];
  for (const some of inSlices(away, 200)) {
    const rows = await tx
      .select({
        file: files,
        folder: folders.path,
        rawFolder: folders.rawPath,
        volume: volumes.name,
        device: volumes.device,
      })
      .from(files)
      .innerJoin(folders, eq(folders.id, files.folderId))
      .innerJoin(volumes, eq(volumes.id, files.volumeId))
      .where(
        and(
          inArray(
            files.folderId,
            some.map((row) => row.folderId),
          ),
          isNull(files.goneAt),
          sql`COALESCE(${files.projectId}, ${projectId}) = ${projectId}`,
        ),
      );
    const byFolder = new Map<number, StrayFile[]>();
    for (const { file, folder, rawFolder, volume, device } of rows) {
      const stray = {
        ...file,
        fileId: file.id as FileId,
        volumeId: file.volumeId as VolumeId,
        volume,
        device,
        folder,
        path: joinPath(folder, file.name),
        rawPath: placeOfFile({ ...file, folder, rawFolder }).raw,
      };
      byFolder.set(file.folderId, [...(byFolder.get(file.folderId) ?? []), stray]);
    }
    for (const own of byFolder.values())
      for (const unit of unitsOf(own))
        if (unit.files.some((file) => file.kind === kind && file.projectId === projectId)) found.push(...unit.files);
  }
  return found;
}

/** Every path the home holds, in the form in which names collide. */
async function takenBelow(tx: Transaction, home: { volumeId: VolumeId; folder: string }): Promise<Set<string>> {
  const inside =
    home.folder === ''
      ? sql`TRUE`
      : sql`(${folders.path} = ${home.folder} OR LEFT(${folders.path}, CHAR_LENGTH(${`${home.folder}/`})) = ${`${home.folder}/`})`;
  const rows = await tx
    .select({ folder: folders.path, name: files.name })
    .from(folders)
    .innerJoin(files, eq(files.folderId, folders.id))
    .where(and(eq(folders.volumeId, home.volumeId), isNull(files.goneAt), inside));
  const all = new Set<string>();
  for (const row of rows) all.add(foldPath(joinPath(row.folder, row.name)));
  for (const row of rows) all.add(foldPath(row.folder));
  return all;
}
