// Folders that a person gives to a project: from then on what lies in them is the project's, whatever they are called, until a home,
// or another person, says otherwise.
import { and, eq, inArray, isNull } from 'drizzle-orm';
import { z } from 'zod';
import type { FolderId, ProjectId, VolumeId } from '#core/model.ts';
import { counted } from '#core/wording/amounts.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { folders } from '../db/schema/catalogue.ts';
import { claims, projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { applyClaims, isOfHome } from '../readings/claims.ts';
import { recomputeProjectSums } from '../readings/project-sums.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';

interface By {
  who: string;
  now: Date;
}

/** Whose a folder was by a claim of its own, and why; null where it had none. */
const before = z.object({ projectId: z.number(), reason: z.string() }).nullable();
const givenFolders = z.object({
  reason: z.string(),
  folders: z.array(z.object({ volumeId: z.number(), folder: z.string(), before })),
});
export type GivenFolders = z.infer<typeof givenFolders>;

/** Gives them to a project, and what lies below them. Throws Refused, with nothing given, where one of them cannot be. */
export async function giveFolders(
  db: Database,
  { projectId, folderIds }: { projectId: ProjectId; folderIds: readonly FolderId[] },
  { who, now }: By,
): Promise<{ receiptId: number; name: string }> {
  const { receiptId, name, volumeIds } = await inTransaction(db, async (tx) => {
    const [project] = await tx.select().from(projects).where(eq(projects.id, projectId));
    if (!project) throw new Refused('There is no such project. Nothing was given.');
    const rows = await tx
      .select({
        folder: folders.path,
        volumeId: folders.volumeId,
        bytes: folders.totalBytes,
        files: folders.totalFiles,
      })
      .from(folders)
      .innerJoin(volumes, eq(volumes.id, folders.volumeId))
      .where(and(inArray(folders.id, [...folderIds]), isNull(folders.goneAt), isNull(volumes.retiredAt)));
    if (rows.length < new Set(folderIds).size)
      throw new Refused('One of these folders is not there any more. Nothing was given. Look again, and choose anew.');
    if (rows.some(({ folder }) => folder === ''))
      throw new Refused('A whole volume cannot be one project’s. Choose folders in it. Nothing was given.');
    const reason = `given by ${who}`.slice(0, 200);
    const given: GivenFolders['folders'] = [];
    for (const { volumeId, folder } of rows)
      given.push({ volumeId, folder, before: await take(tx, { projectId, volumeId, folder, reason }) });
    const receiptId = await writeReceipt(tx, {
      ...{ at: now, who, action: 'folders given', projectId, held: 0, itemsSha256: itemsHash([]) },
      title: `${rows.length === 1 ? rows[0]!.folder : counted(rows.length, 'folder')} given to ${project.name}`.slice(
        0,
        500,
      ),
      files: rows.reduce((sum, row) => sum + row.files, 0),
      bytes: rows.reduce((sum, row) => sum + row.bytes, 0),
      facts: { reason, folders: given },
    });
    return { receiptId, name: project.name, volumeIds: [...new Set(rows.map((row) => row.volumeId as VolumeId))] };
  });
  await settle(db, volumeIds);
  return { receiptId, name };
}

/** Owners follow from claims, and what is told of projects from owners. */
async function settle(db: Database, volumeIds: readonly VolumeId[]): Promise<void> {
  for (const volumeId of volumeIds) await applyClaims(db, volumeId);
  await recomputeProjectSums(db);
}

const at = (volumeId: number, folder: string) =>
  and(eq(claims.volumeId, volumeId), eq(claims.folderHash, pathHash(folder)));

/** Gives one, and whose it was. What a home says, or lies parked, is changed there. */
async function take(
  tx: Transaction,
  { projectId, volumeId, folder, reason }: { projectId: ProjectId; volumeId: number; folder: string; reason: string },
): Promise<z.infer<typeof before>> {
  const [claim] = await tx.select().from(claims).where(at(volumeId, folder)).for('update');
  if (claim && (claim.parked || isOfHome(claim.reason))) {
    const [owner] = await tx.select({ name: projects.name }).from(projects).where(eq(projects.id, claim.projectId));
    const why = claim.parked ? 'is where it parks its media' : 'is its home';
    throw new Refused(
      `${folder} belongs to ${owner?.name ?? 'a project'}: it ${why}. Change that first. Nothing was given.`,
    );
  }
  const row = { projectId, reason, applied: false };
  if (claim) await tx.update(claims).set(row).where(eq(claims.id, claim.id));
  else await tx.insert(claims).values({ ...row, volumeId, folder, folderHash: pathHash(folder) });
  return claim ? { projectId: claim.projectId, reason: claim.reason } : null;
}

/** Gives them back to whose they were, where all of them are still as they were given. False, and nothing changed, where not. */
export async function takeFoldersBack(
  db: Database,
  facts: unknown,
  { projectId, receipt }: { projectId: ProjectId; receipt: { id: number; title: string } },
  { who, now }: By,
): Promise<boolean> {
  const { folders: given, reason } = givenFolders.parse(facts);
  const isDone = await inTransaction(db, async (tx) => {
    const held: { id: number; was: z.infer<typeof before> }[] = [];
    for (const { volumeId, folder, before: was } of given) {
      const [claim] = await tx.select().from(claims).where(at(volumeId, folder)).for('update');
      if (!claim || claim.projectId !== projectId || claim.reason !== reason) return false;
      held.push({ id: claim.id, was });
    }
    for (const { id, was } of held)
      if (was)
        await tx
          .update(claims)
          .set({ ...was, applied: false })
          .where(eq(claims.id, id));
      else await tx.delete(claims).where(eq(claims.id, id));
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'folders given', title: `Undone: ${receipt.title}`.slice(0, 500), projectId },
      ...{ files: 0, bytes: 0, held: 0, facts: { undoes: receipt.id }, itemsSha256: itemsHash([]) },
    });
    return true;
  });
  if (isDone) await settle(db, [...new Set(given.map((one) => one.volumeId as VolumeId))]);
  return isDone;
}

export const tellsGiven = (facts: unknown): boolean => givenFolders.safeParse(facts).success;
