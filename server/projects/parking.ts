// Where projects park their media: kept as claims and homes, with the kinds that the files had, whatever the volume is for.
import { and, eq, inArray, isNull, sql } from 'drizzle-orm';
import { keptRules } from '#core/kinds/kinds.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { MEDIA_KINDS } from '../db/naming.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { stepItems } from '../db/schema/plans.ts';
import { claims, homes, keptKinds } from '../db/schema/projects.ts';
import { folderHoldings } from '../db/schema/sums.ts';
import { volumes } from '../db/schema/stores.ts';
import { claim, updateHomeClaims } from '../readings/claims.ts';

interface ParkedMedia {
  projectId: ProjectId;
  project: string;
  which: 'all' | 'unused';
  volumeId: VolumeId;
  folder: string;
}

/**
 * Before the first file moves there: what comes and what is there already keeps the kinds it has. Without this a volume for
 * renders would make footage renders, which may go for good.
 */
export async function keepParkedKinds(
  tx: Transaction,
  { project, volumeId, folder }: ParkedMedia,
  stepId: number,
): Promise<void> {
  const there = await tx
    .select({ folder: folders.path, name: files.name, kind: files.kind })
    .from(files)
    .innerJoin(folders, eq(folders.id, files.folderId))
    .where(and(eq(folders.volumeId, volumeId), isNull(files.goneAt), below(folder)));
  const coming = await tx
    .select({ path: stepItems.targetPath, kind: files.kind })
    .from(stepItems)
    .innerJoin(files, eq(files.id, stepItems.fileId))
    .where(eq(stepItems.stepId, stepId));
  const rules = keptRules(folder, [
    ...there.map((file) => ({ path: joinPath(file.folder, file.name), kind: file.kind })),
    ...coming.map((item) => ({ path: item.path!, kind: item.kind })),
  ]);
  await tx.delete(keptKinds).where(and(eq(keptKinds.volumeId, volumeId), eq(keptKinds.folder, folder)));
  await tx.insert(keptKinds).values({ volumeId, folder, rules, reason: `parked there by ${project}`.slice(0, 300) });
}

/** After files were moved there: whose they are, and where they belong from now on. */
export async function settleParking(
  tx: Transaction,
  { projectId, which, volumeId, folder }: ParkedMedia,
): Promise<void> {
  if (which === 'all') {
    for (const kind of MEDIA_KINDS)
      await tx
        .insert(homes)
        .values({ projectId, kind, volumeId, folder })
        .onDuplicateKeyUpdate({ set: { volumeId, folder } });
    await updateHomeClaims(tx, projectId);
  }
  await claim(tx, { projectId, volumeId, folder, reason: 'parked there' });
  if (which === 'unused')
    await tx
      .update(claims)
      .set({ parked: true })
      .where(
        and(eq(claims.projectId, projectId), eq(claims.volumeId, volumeId), eq(claims.folderHash, pathHash(folder))),
      );
  await forgetEmptyParkings(tx, projectId);
}

const below = (folder: string) =>
  sql`(${folders.path} = ${folder} OR LEFT(${folders.path}, CHAR_LENGTH(${`${folder}/`})) = ${`${folder}/`})`;

export interface ParkedPlace {
  volumeId: VolumeId;
  volume: string;
  folder: string;
  files: number;
  bytes: number;
}

/** What a project has parked, by place: from the rollups. */
export async function parkedOf(db: Db, projectId: ProjectId): Promise<ParkedPlace[]> {
  const places = await db
    .select({ id: claims.id, volumeId: claims.volumeId, folder: claims.folder, volume: volumes.name })
    .from(claims)
    .innerJoin(volumes, eq(volumes.id, claims.volumeId))
    .where(and(eq(claims.projectId, projectId), eq(claims.parked, true)));
  return Promise.all(
    places.map(async ({ volumeId, volume, folder }) => {
      const [sum] = await db
        .select({
          files: sql`COALESCE(SUM(${folderHoldings.files}), 0)`.mapWith(Number),
          bytes: sql`COALESCE(SUM(${folderHoldings.bytes}), 0)`.mapWith(Number),
        })
        .from(folderHoldings)
        .innerJoin(folders, eq(folders.id, folderHoldings.folderId))
        .where(and(eq(folderHoldings.projectId, projectId), eq(folders.volumeId, volumeId), below(folder)));
      return { volumeId: volumeId as VolumeId, volume, folder, ...sum! };
    }),
  );
}

/** A place where nothing of the project lies any more is not one where it has parked something. */
export async function forgetEmptyParkings(tx: Transaction, projectId: ProjectId): Promise<void> {
  const empty = (await parkedOf(tx, projectId)).filter((place) => place.files === 0);
  if (empty.length > 0)
    await tx.delete(claims).where(
      and(
        eq(claims.projectId, projectId),
        eq(claims.parked, true),
        inArray(
          sql`CONCAT(${claims.volumeId}, ' ', ${claims.folder})`,
          empty.map((place) => `${place.volumeId} ${place.folder}`),
        ),
      ),
    );
}
