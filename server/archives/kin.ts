// Archives of ours that belong together and are taken in one by one: nights and what they build on, and the parts of one that was laid on
// several carriers. What an archive says lies elsewhere is awaited, and becomes its own again once that is in the catalogue: the very
// file, by its place and its SHA-512. Called when something of ours is taken in, in whatever order that comes.
import { and, eq, inArray, sql } from 'drizzle-orm';
import { z } from 'zod';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import type { Awaited } from '#core/wording/archives.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { archives, awaitedFiles } from '../db/schema/archives.ts';
import { endAfter, endPlainly, workKind } from '../runtime/work-kind.ts';
import { CarrierAway } from '../carriers/kind.ts';
import { Refused } from '../runtime/refused.ts';
import { endJob, enqueue } from '../runtime/queue.ts';
import { copyPartsOf } from './copies.ts';
import type { OwnBag } from './own-bag.ts';
import { noteTakenDocuments } from './taken-documents.ts';

/** Writes down what it says lies elsewhere; what an earlier run wrote down is written anew. */
export async function awaitFiles(tx: Transaction, archiveId: number, { elsewhere }: OwnBag): Promise<void> {
  await tx.delete(awaitedFiles).where(eq(awaitedFiles.archiveId, archiveId));
  for (let i = 0; i < elsewhere.length; i += 1000)
    await tx.insert(awaitedFiles).values(elsewhere.slice(i, i + 1000).map((file) => ({ archiveId, ...file })));
}

/**
 * Gives archives of a project what they await and what is in the catalogue by now. Of the one that is being taken in, `filling`, nothing is
 * given yet to others. Gives those that got something.
 */
export async function joinKin(
  tx: Transaction,
  projectId: number,
  { filling = null, only = null }: { filling?: number | null; only?: number | null } = {},
): Promise<number[]> {
  const waiting = await tx
    .selectDistinct({ id: awaitedFiles.archiveId })
    .from(awaitedFiles)
    .innerJoin(
      archives,
      and(
        eq(archives.id, awaitedFiles.archiveId),
        eq(archives.projectId, projectId),
        inArray(archives.state, ['writing', 'sealed']),
      ),
    )
    .where(only === null ? undefined : eq(awaitedFiles.archiveId, only));
  const joined: number[] = [];
  for (const { id } of waiting) {
    // What is being taken in has its files under the folder of the bag until it is whole.
    const below = id === filling ? `${PAYLOAD}/` : '';
    // Where several have it, the first: every copy of that proves it. Each join is from where there are many, by an index: by pairs it
    // would take minutes for as many thousands as a project has.
    await tx.execute(sql`
      CREATE OR REPLACE TEMPORARY TABLE kin_found (place BINARY(16) PRIMARY KEY, file_id BIGINT NOT NULL)
      SELECT STRAIGHT_JOIN UNHEX(MD5(w.path)) AS place, MIN(f.id) AS file_id FROM archives a JOIN archive_parts p ON p.archive_id = a.id
      JOIN archive_files f ON f.archive_id = a.id AND f.part_id = p.id
      JOIN awaited_files w ON w.archive_id = ${id} AND w.sha512 = f.sha512 AND w.path = f.payload_path
      WHERE a.project_id = ${projectId} AND a.state = 'sealed' AND a.purpose = 'archive' AND a.id <> ${id} GROUP BY place`);
    const [{ affectedRows }] = (await tx.execute(sql`
      INSERT INTO archive_files (archive_id, part_id, role, encoding, payload_path, volume_id, file_id, path, raw_path, size_bytes, modified_us,
        device, inode, changed_us, of_bytes, part_from, part_to, measured, why_whole, payload_bytes, sha512, xxh64)
      SELECT ${id}, f.part_id, f.role, f.encoding, CONCAT(${below}, f.payload_path), f.volume_id, f.file_id, f.path, f.raw_path, f.size_bytes, f.modified_us,
        f.device, f.inode, f.changed_us, f.of_bytes, f.part_from, f.part_to, f.measured, f.why_whole, f.payload_bytes, f.sha512, f.xxh64
      FROM kin_found k JOIN archive_files f ON f.id = k.file_id`)) as unknown as [{ affectedRows: number }];
    if (affectedRows === 0) continue;
    await tx.execute(sql`
      INSERT IGNORE INTO copy_files (copy_part_id, archive_file_id, state, read_back_at, position)
      SELECT STRAIGHT_JOIN c.copy_part_id, own.id, c.state, c.read_back_at, c.position FROM archive_files own
      JOIN kin_found k ON k.place = UNHEX(MD5(SUBSTRING(own.payload_path, ${below.length + 1})))
      JOIN archive_files f ON f.id = k.file_id AND f.part_id = own.part_id JOIN copy_files c ON c.archive_file_id = f.id
      WHERE own.archive_id = ${id}`);
    await tx.execute(sql`
      DELETE w FROM awaited_files w STRAIGHT_JOIN kin_found k ON k.place = UNHEX(MD5(w.path)) WHERE w.archive_id = ${id}`);
    await tx.execute(sql`
      UPDATE archives a SET a.base_id = (SELECT MAX(p.archive_id) FROM archive_files f JOIN archive_parts p ON p.id = f.part_id
        WHERE f.archive_id = ${id} AND p.archive_id <> ${id}),
        a.files = (SELECT COALESCE(SUM(f.role <> 'document'), 0) FROM archive_files f WHERE f.archive_id = ${id}),
        a.bytes = (SELECT COALESCE(SUM(f.payload_bytes), 0) FROM archive_files f WHERE f.archive_id = ${id})
      WHERE a.id = ${id}`);
    joined.push(id);
  }
  await tx.execute(sql`DROP TEMPORARY TABLE IF EXISTS kin_found`);
  return joined;
}

/** What it awaits still; null where that is nothing. */
export async function awaitedBy(db: Db, archiveId: number): Promise<Awaited | null> {
  const [row] = await db
    .select({
      files: sql`COUNT(*)`.mapWith(Number),
      folders: sql<
        string | null
      >`GROUP_CONCAT(DISTINCT ${awaitedFiles.folder} ORDER BY ${awaitedFiles.folder} SEPARATOR ', ')`,
    })
    .from(awaitedFiles)
    .where(eq(awaitedFiles.archiveId, archiveId));
  return row && row.files > 0 ? { files: row.files, folders: row.folders ?? '' } : null;
}

const params = z.object({ archiveId: z.number() });

/** Asks for the documents of these to be read again: more of what they name is there. */
export async function askToReadDocuments(
  tx: Transaction,
  archiveIds: readonly number[],
  { who, now }: { who: string; now: Date },
): Promise<void> {
  if (archiveIds.length === 0) return;
  for (const { id, folder } of await tx
    .select()
    .from(archives)
    .where(inArray(archives.id, [...archiveIds]))) {
    const [part] = (await copyPartsOf(tx, id)).filter((one) => one.isOwn && one.state === 'good');
    if (!part) continue;
    const stores = [{ store: 'carrier' as const, id: part.carrierId, mode: 'look' as const }];
    const title = `Read the documents of ${folder} again`;
    await enqueue(tx, { kind: takenDocumentsWork.kind, title, params: { archiveId: id }, who, stores }, now);
  }
}

export const takenDocumentsWork = workKind<z.infer<typeof params>>({
  kind: 'taken documents',
  params,
  async run(context, { archiveId }) {
    try {
      const parts = await copyPartsOf(context.db, archiveId, (id) => context.carrierPath(id));
      const part = parts.find((one) => one.isOwn && one.state === 'good');
      if (!part) return await endPlainly(context);
      await noteTakenDocuments(context, part, archiveId);
      await context.transaction((tx) => endJob(tx, context.job, { state: 'done' }));
    } catch (thrown) {
      await endAfter(
        context,
        thrown instanceof CarrierAway
          ? new Refused(
              'The carrier was taken away while it was read. Nothing was changed. Connect it and take it in again.',
            )
          : thrown,
      );
    }
  },
});
