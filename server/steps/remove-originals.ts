// Removing the originals that a sealed archive stands for. Never on the word of a row: each file is read back from a copy
// in this very step, from a carrier that is there and is the one, against lists that lead up to the sum in the catalogue.
import { eq, sql } from 'drizzle-orm';
import type { ArchiveId } from '#core/model.ts';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import { removeOriginals as kind } from '#core/steps/remove-originals.ts';
import { codeOf } from '#disk/facts.ts';
import type { Held } from '#disk/remove.ts';
import {
  archivedFiles,
  CopyDamaged,
  type CopyPart,
  copyPartsOf,
  markDamaged,
  markReadBack,
  trustedSums,
  withCarrier,
} from '../archives/copies.ts';
import { CarrierAway } from '../carriers/kind.ts';
import type { Database, Db } from '../db/connect.ts';
import { archiveCopies, archives, copyFiles, copyParts } from '../db/schema/archives.ts';
import { projects, projectStates } from '../db/schema/projects.ts';
import { carriers } from '../db/schema/stores.ts';
import type { steps } from '../db/schema/plans.ts';
import type { JobContext } from '../runtime/context.ts';
import { Refused } from '../runtime/refused.ts';
import { finishItems, type Item, type ItemWork, runItems } from '../runtime/run-items.ts';
import { earlierReadBackHours } from '../site/house-rules.ts';
import { addFileStep, notInAPlan } from './adding.ts';
import { readDocumentsBefore, storesOfDocuments } from './documents-before.ts';
import { commonFindings, finding } from './findings.ts';
import { serverStep } from './kind.ts';
import { recomputeAfterRemoval, removal, usersOf, volumesOfItems } from './remove.ts';

/** Adds the removal of the originals of a sealed archive, every one of them as it was when it was copied. */
export async function addOriginalsRemoval(
  db: Database,
  archiveId: ArchiveId,
  now: Date,
): Promise<{ files: number; bytes: number }> {
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  if (!archive) throw new Refused('There is no such archive. Nothing was added.');
  const good = (await copyPartsOf(db, archiveId)).filter((part) => part.state === 'good');
  if (archive.state !== 'sealed' || good.length === 0)
    throw new Refused(
      `No copy of ${archive.name} has been read back, so its originals stay where they are. Nothing was added.`,
    );
  const [project] = await db.select().from(projects).where(eq(projects.id, archive.projectId));
  const params = { archiveId, archiveName: archive.name };
  return addFileStep(db, { kind, params, names: { project: project?.name }, now }, async (tx, stepId) => {
    await tx.execute(sql`
      INSERT INTO step_items (step_id, volume_id, file_id, path, raw_path, size_bytes, modified_us, device, inode, changed_us)
      SELECT ${stepId}, a.volume_id, a.file_id, a.path, a.raw_path, a.size_bytes, a.modified_us, a.device, a.inode, a.changed_us
      FROM archive_files a JOIN files f ON f.id = a.file_id
      WHERE a.archive_id = ${archiveId} AND a.role IN ('media', 'original document') AND f.gone_at IS NULL AND ${notInAPlan}
        AND EXISTS (SELECT 1 FROM copy_files c JOIN copy_parts p ON p.id = c.copy_part_id AND p.state = 'good' WHERE c.archive_file_id = a.id AND c.state = 'read back')`);
    return 'Its originals are gone already, or in a plan. Nothing was added.';
  });
}

/** Of these items: those that a copy proves now, and why the others are held. */
async function provenByCopies(context: JobContext, archiveId: number, items: readonly Item[]) {
  const held = new Map<number, Held>();
  const archived = new Map(
    (
      await archivedFiles(
        context.db,
        archiveId,
        items.map((item) => item.fileId),
      )
    ).map((file) => [file.fileId, file]),
  );
  let open = items.filter((item) => archived.has(item.fileId));
  for (const item of items) if (!archived.has(item.fileId)) held.set(item.id, { done: false, reason: 'not archived' });
  let why: Held = { done: false, reason: 'no good copy' };
  const parts = (await copyPartsOf(context.db, archiveId, (id) => context.carrierPath(id))).filter(
    (part) => part.state === 'good',
  );
  for (const part of parts) {
    if (open.length === 0) break;
    const files = open
      .map((item) => ({ item, file: archived.get(item.fileId)! }))
      .filter(({ file }) => file.partId === part.partId);
    const proven = await proveOn(context, part, files).catch((error: unknown) => {
      // The carrier is away, or another is in its place: the next copy may be there.
      if (error instanceof CarrierAway) return null;
      throw error;
    });
    if (proven === null) continue;
    if (proven.size < files.length) why = { done: false, reason: 'copy damaged', detail: part.carrier };
    open = open.filter((item) => !proven.has(item.id));
  }
  for (const item of open) held.set(item.id, why);
  return held;
}

type Archived = Awaited<ReturnType<typeof archivedFiles>>[number];

/** Numbers of the items whose file reads back from this part as it was sealed. What does not marks the copy damaged. */
async function proveOn(
  context: JobContext,
  part: CopyPart,
  files: readonly { item: Item; file: Archived }[],
): Promise<Set<number>> {
  const proven = new Set<number>();
  const damaged: number[] = [];
  const recent = await readBackLately(context.db, part);
  let isWhole = true;
  await withCarrier(part, async (carrier) => {
    let sums;
    try {
      sums = (await trustedSums(carrier, part)).sha512;
    } catch (error) {
      if (!(error instanceof CopyDamaged)) throw error;
      isWhole = false;
      return;
    }
    for (const { item, file } of files) {
      context.check();
      const at = `${PAYLOAD}/${file.payloadPath}`;
      if (file.sha512 === null || sums.get(at) !== file.sha512) damaged.push(file.id);
      else if (recent.has(file.id) || (await readsBack(context, part, { at, sha512: file.sha512 })))
        proven.add(item.id);
      else damaged.push(file.id);
    }
  });
  const now = context.now();
  await context.transaction(async (tx) => {
    if (!isWhole || damaged.length > 0) await markDamaged(tx, part, damaged, now);
    await markReadBack(
      tx,
      part,
      files.filter(({ item }) => proven.has(item.id)).map(({ file }) => file.id),
      now,
    );
  });
  return proven;
}

async function readsBack(context: JobContext, part: CopyPart, { at, sha512 }: { at: string; sha512: string }) {
  try {
    const read = await context.pools.carriers.ask(
      { do: 'sum', carrier: part.place, of: part.folder, at },
      { stop: context.stop },
    );
    return read.sha512 === sha512;
  } catch (error) {
    context.check();
    if (codeOf(error) === 'carrier_away') throw new CarrierAway(part.carrier);
    if (codeOf(error) === 'stopped') throw error;
    return false;
  }
}

/** Files of a part that were read back lately enough for the house; none unless the house allows it. */
async function readBackLately(db: Db, part: CopyPart): Promise<Set<number>> {
  const hours = await earlierReadBackHours(db);
  if (hours === 0) return new Set();
  const rows = await db
    .select({ id: copyFiles.archiveFileId })
    .from(copyFiles)
    .where(
      sql`${copyFiles.copyPartId} = ${part.copyPartId} AND ${copyFiles.state} = 'read back' AND ${copyFiles.readBackAt} > UTC_TIMESTAMP(3) - INTERVAL ${hours} HOUR`,
    );
  return new Set(rows.map((row) => row.id));
}

async function lastLook(context: JobContext, archiveId: number, items: readonly Item[]) {
  const { db } = context;
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  const held = new Map<number, Held>();
  if (archive?.state !== 'sealed') {
    for (const item of items) held.set(item.id, { done: false, reason: 'no good copy' });
    return held;
  }
  const users = await usersOf(
    db,
    items.map((item) => item.fileId),
  );
  const borrowed = new Set(users.filter((user) => user.projectId !== archive.projectId).map((user) => user.fileId));
  for (const item of items) if (borrowed.has(item.fileId)) held.set(item.id, { done: false, reason: 'in use' });
  const rest = items.filter((item) => !held.has(item.id));
  for (const [id, why] of await provenByCopies(context, archiveId, rest)) held.set(id, why);
  return held;
}

async function workOf(context: JobContext, step: typeof steps.$inferSelect, archiveId: number): Promise<ItemWork> {
  const [archive] = await context.db.select().from(archives).where(eq(archives.id, archiveId));
  const projectId = archive?.projectId ?? null;
  return {
    kind,
    projectId,
    // Each is read back before it goes, which takes long: small batches are begun, and written down, sooner.
    batch: 20,
    prepare: () => readDocumentsBefore(context, step.id),
    lastLook: (items) => lastLook(context, archiveId, items),
    ...removal(context),
    lastWords: async (tx, tally, ending) => {
      await recomputeAfterRemoval(tx, step.id);
      // Archived only where the archive really stands for all of it.
      const all = ending.state === 'done' && tally.held === 0 && tally.notReached === 0 && tally.files > 0;
      if (all && projectId !== null) {
        const since = context.now();
        await tx.update(projects).set({ state: 'archived', stateSince: since }).where(eq(projects.id, projectId));
        await tx
          .insert(projectStates)
          .values({ projectId, state: 'archived', since })
          .onDuplicateKeyUpdate({ set: { since } });
      }
      return { archiveId };
    },
  };
}

export const removeOriginals = serverStep({
  kind,
  async findings(db, step, { archiveId, archiveName }) {
    const findings = await commonFindings(db, step);
    const parts = await db
      .select({ state: copyParts.state, carrier: carriers.name, carrierState: carriers.state })
      .from(copyParts)
      .innerJoin(archiveCopies, eq(archiveCopies.id, copyParts.copyId))
      .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
      .where(eq(archiveCopies.archiveId, archiveId));
    const good = parts.filter((part) => part.state === 'good');
    if (!good.some((part) => part.carrierState === 'reachable'))
      findings.push(
        finding(step, 'copy not good', 'stop', {
          archive: archiveName,
          why: parts
            .map((part) => `The copy on ${part.carrier} is ${part.state === 'good' ? 'not in reach' : part.state}.`)
            .join(' '),
        }),
      );
    return findings;
  },
  async stores(tx, step, { archiveId }) {
    const rows = await tx
      .select({ id: copyParts.carrierId })
      .from(copyParts)
      .innerJoin(archiveCopies, eq(archiveCopies.id, copyParts.copyId))
      .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
      .where(
        sql`${archiveCopies.archiveId} = ${archiveId} AND ${copyParts.state} = 'good' AND ${carriers.state} = 'reachable'`,
      );
    return [
      ...(await storesOfDocuments(tx, step.id)),
      ...(await volumesOfItems(tx, step.id)),
      ...rows.map(({ id }) => ({ store: 'carrier' as const, id, mode: 'look' as const })),
    ];
  },
  run: async (context, step, { archiveId }) => runItems(context, step, await workOf(context, step, archiveId)),
  giveUp: async (context, step, { archiveId }) =>
    finishItems(context, step, {
      work: await workOf(context, step, archiveId),
      ending: { state: 'failed', trouble: context.givenUp },
    }),
});
