// Removing the originals that a sealed archive stands for. Never on the word of a row: each file is read back from a copy
// in this very step, from a carrier that is there and is the one, against lists that lead up to the sum in the catalogue.
import { and, eq, inArray, sql } from 'drizzle-orm';
import type { ArchiveId } from '#core/model.ts';
import { TAG_MANIFEST } from '#core/fixity/bagit.ts';
import { isDear } from '#core/archive/fetching.ts';
import { grouped } from '#core/grouped.ts';
import { removeOriginals as kind } from '#core/steps/remove-originals.ts';
import type { Held } from '#disk/remove.ts';
import { sha512 } from '#disk/sums.ts';
import { type CopyPart, copyPartsOf, readText, withCarrier } from '../archives/copies.ts';
import { fetchOf } from '../archives/fetching.ts';
import { type Archived, damageOf } from '../archives/read-back.ts';
import { CarrierAway } from '../carriers/kind.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { archiveFiles, archives, copyFiles } from '../db/schema/archives.ts';
import { projects, projectStates } from '../db/schema/projects.ts';
import { stepItems, type steps } from '../db/schema/plans.ts';
import { fileSums } from '../db/schema/worth.ts';
import { usersOf } from '../db/naming.ts';
import type { JobContext } from '../runtime/context.ts';
import { Refused } from '../runtime/refused.ts';
import { finishItems, type Item, type ItemWork, runItems } from '../runtime/run-items.ts';
import { earlierReadBackHours } from '../site/house-rules.ts';
import { type Added, addFileStepIn, notInAPlan } from './adding.ts';
import { readDocumentsBefore, storesOfDocuments } from './documents-before.ts';
import { commonFindings, finding, lentAndThin } from './findings.ts';
import { serverStep } from './kind.ts';
import { recomputeAfterRemoval, removal, volumesOfItems } from './remove.ts';

/** Adds the removal of the originals of a sealed archive, every one of them as it was when it was copied. */
export const addOriginalsRemoval = (db: Database, archiveId: ArchiveId, now: Date): Promise<Added> =>
  inTransaction(db, (tx) => addOriginalsRemovalIn(tx, archiveId, now));

/** The same inside a transaction. */
export async function addOriginalsRemovalIn(tx: Transaction, archiveId: ArchiveId, now: Date): Promise<Added> {
  const [archive] = await tx.select().from(archives).where(eq(archives.id, archiveId));
  if (!archive) throw new Refused('There is no such archive. Nothing was added.');
  const good = (await copyPartsOf(tx, archiveId)).filter((part) => part.state === 'good');
  if (archive.state !== 'sealed' || good.length === 0)
    throw new Refused(
      `No copy of ${archive.name} has been read back, so its originals stay where they are. Nothing was added.`,
    );
  const [project] = await tx.select().from(projects).where(eq(projects.id, archive.projectId));
  const params = { archiveId, archiveName: archive.name };
  return addFileStepIn(tx, { kind, params, names: { project: project?.name }, now }, async (_tx, stepId) => {
    await tx.execute(sql`
      INSERT INTO step_items (step_id, volume_id, file_id, path, raw_path, size_bytes, modified_us, device, inode, changed_us)
      SELECT DISTINCT ${stepId}, a.volume_id, a.file_id, a.path, a.raw_path, a.size_bytes, a.modified_us, a.device, a.inode, a.changed_us
      FROM ${originalsOf(archiveId)} AND ${notInAPlan}`);
    return 'Its originals are gone already, or in a plan. Nothing was added.';
  });
}

/**
 * Files a of an archive and f of the catalogue that it stands for and that are its project's own: what it borrowed, and what is
 * a library's, stays for the others. Goes on with AND.
 */
const originalsOf = (archiveId: number) => sql`archive_files a JOIN files f ON f.id = a.file_id
  JOIN archives r ON r.id = a.archive_id AND r.project_id = f.project_id
  WHERE a.archive_id = ${archiveId} AND a.role IN ('media', 'original document') AND f.gone_at IS NULL AND f.kind <> 'library'
    AND EXISTS (SELECT 1 FROM copy_files c JOIN copy_parts p ON p.id = c.copy_part_id AND p.state = 'good' WHERE c.archive_file_id = a.id AND c.state = 'read back')`;

/** What of an archive's originals may go. */
export async function originalsSum(db: Db, archiveId: number): Promise<{ files: number; bytes: number }> {
  const [[row]] = (await db.execute(
    sql`SELECT COUNT(*) AS files, COALESCE(SUM(a.size_bytes), 0) AS bytes FROM ${originalsOf(archiveId)}`,
  )) as unknown as [[{ files: number; bytes: number }]];
  return { files: Number(row.files), bytes: Number(row.bytes) };
}

/** Parts of copies of which, in this step, the lists and every file that is to go were read back as they were sealed. */
export interface Proof {
  parts: readonly CopyPart[];
  fileIds: ReadonlySet<number>;
  /** SHA-512 of what was read back, by file. */
  sums: ReadonlyMap<number, string>;
  /** Files that the archive holds and no copy of their part proves: why not. */
  unproven: ReadonlyMap<number, Held>;
}

/** Looks for a copy of each part that proves all of it that is to go. A copy of a part with a single damage proves nothing. */
export async function proveAll(context: JobContext, of: Proving): Promise<Proof | Held> {
  let why: Held = { done: false, reason: 'no good copy' };
  const proof = { parts: [] as CopyPart[], sums: new Map<number, string>(), unproven: new Map<number, Held>() };
  const all = await copyPartsOf(context.db, of.archiveId, (id) => context.carrierPath(id));
  for (const [partId, copies] of grouped(all, (part) => part.partId)) {
    const matches = await filesToProve(context, { ...of, partId });
    if (matches.length === 0) continue;
    const files = [...new Map(matches.map(({ file }) => [file.id, file])).values()];
    const proven = await provenBy(context, copies, files);
    if ('reason' in proven) {
      why = proven;
      for (const { itemFileId } of matches) proof.unproven.set(itemFileId, proven);
    } else {
      proof.parts.push(proven);
      for (const { file, itemFileId } of matches) proof.sums.set(itemFileId, file.sha512!);
    }
  }
  return proof.parts.length === 0 ? why : { ...proof, fileIds: new Set(proof.sums.keys()) };
}

async function provenBy(
  context: JobContext,
  copies: readonly CopyPart[],
  files: readonly Archived[],
): Promise<CopyPart | Held> {
  let why: Held = { done: false, reason: 'no good copy' };
  const good = copies.filter((one) => one.state === 'good').sort((a, b) => a.waitSeconds - b.waitSeconds);
  for (const part of good)
    try {
      const damage = await damageOf(context, part, { files: [files], recent: await readBackLately(context, part) });
      if (damage === null) return part;
      why = { done: false, reason: 'copy damaged', detail: `${part.carrier}: ${damage}` };
    } catch (error) {
      // The carrier is away, or another is in its place: the next copy may be there.
      if (!(error instanceof CarrierAway)) throw error;
    }
  return why;
}

interface Proving {
  archiveId: number;
  stepId: number;
  /** Also what has the same sum under another name: for whoever reads the items themselves as well. */
  bySums?: boolean;
}

/** The archive's files that stand for items which are still to go, each with the item's file. */
async function filesToProve(
  { db }: JobContext,
  { archiveId, stepId, partId, bySums = false }: Proving & { partId: number },
): Promise<{ file: Archived; itemFileId: number }[]> {
  const toGo = and(eq(stepItems.stepId, stepId), inArray(stepItems.state, ['waiting', 'started', 'taken']));
  const inPart = and(
    eq(archiveFiles.archiveId, archiveId),
    eq(archiveFiles.partId, partId),
    inArray(archiveFiles.role, ['media', 'original document']),
  );
  const same = await db
    .select({ file: archiveFiles, itemFileId: stepItems.fileId })
    .from(archiveFiles)
    .innerJoin(
      stepItems,
      and(
        eq(stepItems.fileId, archiveFiles.fileId),
        eq(stepItems.sizeBytes, archiveFiles.sizeBytes),
        eq(stepItems.modifiedUs, archiveFiles.modifiedUs),
      ),
    )
    .where(and(inPart, toGo))
    .orderBy(archiveFiles.id);
  if (!bySums) return same;
  const alike = await db
    .select({ file: archiveFiles, itemFileId: stepItems.fileId })
    .from(stepItems)
    .innerJoin(
      fileSums,
      and(
        eq(fileSums.fileId, stepItems.fileId),
        eq(fileSums.sizeBytes, stepItems.sizeBytes),
        eq(fileSums.modifiedUs, stepItems.modifiedUs),
      ),
    )
    .innerJoin(
      archiveFiles,
      and(eq(archiveFiles.sizeBytes, fileSums.sizeBytes), eq(archiveFiles.xxh64, fileSums.xxh64)),
    )
    .where(and(inPart, toGo))
    .orderBy(archiveFiles.id);
  return [...same, ...alike];
}

/** Files of a part that were read back since this job began, or lately enough where the house allows that. */
async function readBackLately({ db, job }: JobContext, part: CopyPart): Promise<Set<number>> {
  const hours = await earlierReadBackHours(db);
  const rows = await db
    .select({ id: copyFiles.archiveFileId })
    .from(copyFiles)
    .where(
      sql`${copyFiles.copyPartId} = ${part.copyPartId} AND ${copyFiles.state} = 'read back'
        AND ${copyFiles.readBackAt} >= LEAST(${job.startedAt}, UTC_TIMESTAMP(3) - INTERVAL ${hours} HOUR)`,
    );
  return new Set(rows.map((row) => row.id));
}

/** What proves it is still there, and is still the one. */
export async function isStillThere({ parts }: Proof): Promise<boolean> {
  try {
    for (const part of parts) {
      const tags = await withCarrier(part, (carrier) => readText(carrier, part.folder, TAG_MANIFEST));
      if (sha512(tags) !== part.manifestSha512) return false;
    }
    return true;
  } catch {
    return false;
  }
}

async function lastLook(
  { db }: JobContext,
  { archiveId, proof }: { archiveId: number; proof: Proof | Held },
  items: readonly Item[],
) {
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  const held = new Map<number, Held>();
  const all = (why: Held) => new Map(items.map((item) => [item.id, why]));
  if ('reason' in proof) return all(proof);
  if (archive?.state !== 'sealed' || !(await isStillThere(proof))) return all({ done: false, reason: 'no good copy' });
  const users = await usersOf(
    db,
    items.map((item) => item.fileId),
  );
  const borrowed = new Set(users.filter((user) => user.projectId !== archive.projectId).map((user) => user.fileId));
  for (const item of items)
    if (borrowed.has(item.fileId)) held.set(item.id, { done: false, reason: 'in use' });
    else if (!proof.fileIds.has(item.fileId))
      held.set(item.id, proof.unproven.get(item.fileId) ?? { done: false, reason: 'not archived' });
  return held;
}

async function workOf(context: JobContext, step: typeof steps.$inferSelect, archiveId: number): Promise<ItemWork> {
  const [archive] = await context.db.select().from(archives).where(eq(archives.id, archiveId));
  const projectId = archive?.projectId ?? null;
  let proof: Proof | Held = { done: false, reason: 'no good copy' };
  return {
    kind,
    projectId,
    prepare: async () => {
      await readDocumentsBefore(context, step.id);
      context.rename('reading back');
      proof = await proveAll(context, { archiveId, stepId: step.id });
      context.rename(kind.phase);
    },
    lastLook: (items) => lastLook(context, { archiveId, proof }, items),
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

const isThere = ({ state, carrierState }: CopyPart): boolean => state === 'good' && carrierState === 'reachable';

/** The parts of the archive in which the items of a step lie. */
async function partsOfItems(db: Db, stepId: number, archiveId: number): Promise<Set<number>> {
  const rows = await db
    .selectDistinct({ id: archiveFiles.partId })
    .from(stepItems)
    .innerJoin(archiveFiles, eq(archiveFiles.fileId, stepItems.fileId))
    .where(and(eq(stepItems.stepId, stepId), eq(archiveFiles.archiveId, archiveId)));
  return new Set(rows.map((row) => row.id));
}

export const removeOriginals = serverStep({
  kind,
  async findings(db, step, { archiveId, archiveName }) {
    const findings = [...(await commonFindings(db, step)), ...(await lentAndThin(db, step))];
    // Of parts that hold nothing of what is to go no copy is needed.
    const asked = await partsOfItems(db, step.stepId, archiveId);
    const parts = (await copyPartsOf(db, archiveId)).filter((part) => asked.has(part.partId));
    const first = [];
    for (const copies of grouped(parts, (part) => part.partId).values()) {
      first.push(
        ...copies
          .filter(isThere)
          .sort((a, b) => a.waitSeconds - b.waitSeconds)
          .slice(0, 1),
      );
      if (!copies.some(isThere))
        findings.push(
          finding(step, 'copy not good', 'stop', {
            archive: archiveName,
            why: copies
              .map((part) => `The copy on ${part.carrier} is ${part.state === 'good' ? 'not in reach' : part.state}.`)
              .join(' '),
          }),
        );
    }
    // What is read back for it has to thaw, or costs something, where no other copy is there.
    const { thawSeconds, cost } = await fetchOf(db, archiveId, { parts: first, fileIds: null });
    if (isDear({ thawSeconds, cost })) findings.push(finding(step, 'brought up first', 'note', { thawSeconds, cost }));
    return findings;
  },
  async stores(tx, step, { archiveId }) {
    const ids = (await copyPartsOf(tx, archiveId)).filter(isThere).map((part) => part.carrierId);
    return [
      ...(await storesOfDocuments(tx, step.id)),
      ...(await volumesOfItems(tx, step.id)),
      ...ids.map((id) => ({ store: 'carrier' as const, id, mode: 'look' as const })),
    ];
  },
  run: async (context, step, { archiveId }) => runItems(context, step, await workOf(context, step, archiveId)),
  giveUp: async (context, step, { archiveId }) =>
    finishItems(context, step, {
      work: await workOf(context, step, archiveId),
      ending: { state: 'failed', trouble: context.givenUp },
    }),
});
