// Relinking: media of documents get the files that a person chose. Each document gets a new version beside the old one,
// which stays as it is. A document or a chosen file that is no longer what the choice was made for is held.
import { and, eq, inArray, isNull, sql } from 'drizzle-orm';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { folderOf, joinPath } from '#core/paths.ts';
import { relinkMedia as kind } from '#core/steps/relink.ts';
import { isUnchanged, look } from '#disk/facts.ts';
import { heldFor, type ItemResult } from '#disk/remove.ts';
import type { Database, Db } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents, media } from '../db/schema/documents.ts';
import { stepItems, type steps } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { canRelink } from '#core/documents/formats/registry.ts';
import { readDocuments } from '../readings/read-documents.ts';
import { readVolume } from '../readings/read-volume.ts';
import type { JobContext } from '../runtime/context.ts';
import { Refused } from '../runtime/refused.ts';
import { finishItems, type Item, type ItemWork, runItems } from '../runtime/run-items.ts';
import { addFileStep, FILE_FACTS, filesInPlans } from './adding.ts';
import { commonFindings } from './findings.ts';
import { serverStep } from './kind.ts';
import { type Place, relinkOne } from './move-documents.ts';
import { volumesOfItems } from './remove.ts';

type Choices = readonly { mediaId: number; fileId: number }[];

/** Adds the relinking of media of one project. Its items are the documents that get a new version. */
export async function addRelinking(
  db: Database,
  { projectId, choices, now }: { projectId: ProjectId; choices: Choices; now: Date },
): Promise<{ files: number; bytes: number }> {
  if (new Set(choices.map((choice) => choice.mediaId)).size !== choices.length || choices.length === 0)
    throw new Refused('Choose one file for each clip. Nothing was added.');
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  const rows = await db
    .select({ projectId: media.projectId, fileId: documents.fileId, name: files.name })
    .from(media)
    .innerJoin(documents, eq(documents.id, media.documentId))
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(
      inArray(
        media.id,
        choices.map((choice) => choice.mediaId),
      ),
    );
  if (!project || rows.length !== choices.length || rows.some((row) => row.projectId !== projectId))
    throw new Refused('The documents were read anew since, so the choice no longer fits. Look again and choose anew.');
  const fixed = rows.find((row) => !canRelink(row.name));
  if (fixed)
    throw new Refused(
      `${fixed.name} is a bundle that Keramion reads and does not write. Relink it in the program that wrote it; nothing was added.`,
    );
  const chosen = choices.map(({ mediaId, fileId }) => ({ mediaId, fileId }));
  const fileIds = [...new Set(rows.map((row) => row.fileId))];
  return addFileStep(
    db,
    { kind, params: { projectId, choices: chosen }, names: { project: project.name }, now },
    async (tx, stepId) => {
      const busy = await filesInPlans(tx, fileIds);
      const free = fileIds.filter((id) => !busy.has(id));
      if (free.length < fileIds.length)
        throw new Refused('A document of these is in a plan already. Run that first. Nothing was added.');
      await tx.execute(sql`
        INSERT INTO step_items (${FILE_FACTS.columns}) SELECT ${stepId}, ${FILE_FACTS.values}
        FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id WHERE f.id IN ${free} AND f.gone_at IS NULL`);
      return 'The documents are not there any more. Nothing was added.';
    },
  );
}

async function relinkItem(
  context: JobContext,
  { item, choices }: { item: Item; choices: Choices },
): Promise<ItemResult> {
  const root = await context.root(item.volumeId);
  if (!root) return { done: false, reason: 'unreachable' };
  const now = heldFor(() => {
    const facts = look(root.place(item));
    if (facts.is !== 'file') return { done: false, reason: facts.is === 'gone' ? 'gone' : 'not a file' };
    return isUnchanged(facts, item) ? { done: true } : { done: false, reason: 'changed' };
  });
  if (!now.done) return now;
  const [document] = await context.db.select().from(documents).where(eq(documents.fileId, item.fileId));
  if (!document || document.state !== 'read') return { done: false, reason: 'changed' };
  if (document.supersededBy !== null)
    return { done: false, reason: 'changed', detail: 'a newer version counts by now' };
  const own = await context.db.select({ id: media.id }).from(media).where(eq(media.documentId, document.id));
  const ids = new Set(own.map((row) => row.id));
  const places = await placesOf(
    context,
    choices.filter((choice) => ids.has(choice.mediaId)),
  );
  if (places === null) return { done: false, reason: 'changed', detail: 'a chosen file is not what it was any more' };
  if (places.size === 0) return { done: false, reason: 'changed', detail: 'it was read anew since' };
  const version = await relinkOne(context, document.id, places);
  if (!version) return { done: false, reason: 'changed', detail: 'nothing in it would change' };
  return { done: true, detail: version.name };
}

/** Where the chosen files lie; null where one is not there any more, or is another. */
async function placesOf(context: JobContext, choices: Choices): Promise<Map<number, Place> | null> {
  const places = new Map<number, Place>();
  for (const { mediaId, fileId } of choices) {
    const [row] = await context.db
      .select({ file: files, folder: folders.path, rawFolder: folders.rawPath, volume: volumes })
      .from(files)
      .innerJoin(folders, eq(folders.id, files.folderId))
      .innerJoin(volumes, eq(volumes.id, files.volumeId))
      .where(and(eq(files.id, fileId), isNull(files.goneAt)));
    if (!row || row.file.rawName || row.rawFolder) return null;
    const path = joinPath(row.folder, row.file.name);
    const root = await context.root(row.volume.id);
    if (!root) return null;
    const is = heldFor(() => {
      const facts = look(root.placeText(path));
      const same = facts.is === 'file' && isUnchanged(facts, { ...row.file, device: row.volume.device });
      return same ? { done: true } : { done: false, reason: 'changed' };
    });
    if (!is.done) return null;
    places.set(mediaId, { volumeId: row.volume.id, path });
  }
  return places;
}

/** Where new versions lie: beside the documents that got one. */
async function foldersDone(context: JobContext, stepId: number): Promise<{ volumeId: number; folder: string }[]> {
  const done = await context.db
    .select({ volumeId: stepItems.volumeId, path: stepItems.path })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, stepId), eq(stepItems.state, 'done')));
  const folders = new Map(
    done.map(({ volumeId, path }) => [`${volumeId}/${folderOf(path)}`, { volumeId, folder: folderOf(path) }]),
  );
  return [...folders.values()];
}

/** Names of all new versions, those of an earlier run included. */
async function versionNames(db: Db, stepId: number): Promise<string[]> {
  const done = await db
    .select({ name: stepItems.detail })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, stepId), eq(stepItems.state, 'done')))
    .orderBy(stepItems.id);
  return done.flatMap((row) => row.name ?? []);
}

function workOf(
  context: JobContext,
  step: typeof steps.$inferSelect,
  { projectId, choices }: { projectId: ProjectId; choices: Choices },
): ItemWork {
  return {
    kind,
    projectId,
    batch: 10,
    act: async (items) => {
      const outcomes = [];
      for (const item of items) {
        outcomes.push({ item, result: await relinkItem(context, { item, choices }) });
        context.add(item.sizeBytes);
      }
      return outcomes;
    },
    // A new version is there whole or not at all; run again it is found and not written twice.
    finishOrUndo: async (items) => items.map((item) => ({ item, result: null })),
    conclude: async () => {
      const { db, pools, stop, now } = context;
      // Also those that an earlier run wrote, and may not have come to read.
      for (const { volumeId, folder } of await foldersDone(context, step.id)) {
        const path = context.pathOf(volumeId)!;
        const reading = await readVolume(db, pools.walk, volumeId as VolumeId, { stop, now, folder, path });
        await readDocuments(db, pools.documents, volumeId as VolumeId, { now, reading, path });
      }
    },
    lastWords: async (tx) => ({ newVersions: await versionNames(tx, step.id), clips: choices.length }),
  };
}

export const relinkMedia = serverStep({
  kind,
  findings: (db, step) => commonFindings(db, step),
  async stores(tx, step, { choices }) {
    const chosen = await tx
      .selectDistinct({ id: files.volumeId })
      .from(files)
      .where(
        inArray(
          files.id,
          choices.map((choice) => choice.fileId),
        ),
      );
    return [
      ...(await volumesOfItems(tx, step.id)),
      ...chosen.map(({ id }) => ({ store: 'volume' as const, id, mode: 'look' as const })),
    ];
  },
  run: (context, step, params) => runItems(context, step, workOf(context, step, params)),
  giveUp: (context, step, params) =>
    finishItems(context, step, {
      work: { ...workOf(context, step, params), conclude: undefined },
      ending: { state: 'failed', trouble: context.givenUp },
    }),
});
