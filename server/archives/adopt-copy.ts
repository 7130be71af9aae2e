// A folder on a carrier that is a copy of an archive the catalogue has, found again: on a disk of another house, or after the catalogue
// lost it. It counts as a copy once every file of it has been read and is as it was sealed.
import { and, eq, sql } from 'drizzle-orm';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { codeOf } from '#disk/facts.ts';
import { CarrierAway } from '../carriers/kind.ts';
import { type CarrierPlace, isSequential } from '../carriers/kinds.ts';
import type { Db } from '../db/connect.ts';
import { archiveCopies, archiveParts, archives, copyParts } from '../db/schema/archives.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import { endJob } from '../runtime/queue.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';
import { allFiles } from './read-back.ts';

export interface KnownArchive {
  archive: typeof archives.$inferSelect;
  partId: number;
}

/** The sealed archive of one part that has this very tag manifest; null where there is none. */
export async function archiveWith(db: Db, manifestSha512: string): Promise<KnownArchive | null> {
  const rows = await db
    .select({ archive: archives, partId: archiveParts.id })
    .from(archiveParts)
    .innerJoin(archives, and(eq(archives.id, archiveParts.archiveId), eq(archives.state, 'sealed')))
    .where(
      and(
        ...[eq(archiveParts.manifestSha512, manifestSha512), eq(archives.purpose, 'archive')],
        sql`(SELECT COUNT(*) FROM archive_parts o WHERE o.archive_id = ${archives.id}) = 1`,
      ),
    )
    .limit(1);
  return rows[0] ?? null;
}

interface Found {
  place: CarrierPlace;
  carrierId: number;
  carrier: string;
  folder: string;
}

/** Reads all of it, and then writes it down as a copy. Throws Refused where it is not what was sealed; nothing is changed then. */
export async function adoptCopy(
  context: JobContext,
  { archive, partId }: KnownArchive,
  { place, carrierId, carrier, folder }: Found,
): Promise<void> {
  const [sum] = await context.db
    .select({ files: archiveParts.files, bytes: archiveParts.bytes })
    .from(archiveParts)
    .where(eq(archiveParts.id, partId));
  context.phase('reading back', 'bytes', sum!.bytes);
  for await (const batch of allFiles(context.db, { partId }))
    await inParallel(isSequential(place) ? 1 : context.pools.carriers.size, batch, async (file) => {
      context.check();
      const at = `${PAYLOAD}/${file.payloadPath}`;
      const differs = (why: string) =>
        new Refused(
          `${folder} on ${carrier} is a copy of ${archive.folder} that is damaged: ${at} ${why}. It was not taken in, and nothing was changed.`,
        );
      try {
        const read = await context.pools.carriers.ask(
          { do: 'sum', carrier: place, of: folder, at, strong: true },
          { stop: context.stop, progress: (bytes) => context.add(bytes) },
        );
        if (read.sha512 !== file.sha512) throw differs('is not what was sealed');
      } catch (error) {
        context.check();
        const code = codeOf(error);
        if (code === 'carrier_away') throw new CarrierAway(carrier);
        if (error instanceof Refused || code === 'stopped') throw error;
        throw differs(`cannot be read (${code})`);
      }
    });
  const now = context.now();
  await context.transaction(async (tx) => {
    const [still] = await tx.select().from(archives).where(eq(archives.id, archive.id)).for('update');
    if (still?.state !== 'sealed')
      throw new Refused(
        `${archive.folder} was let go while its copy was read. Nothing was taken in; take ${folder} in again, and it is an archive of its own.`,
      );
    const times = { state: 'good' as const, readBackAt: now };
    const [{ insertId: copyId }] = await tx
      .insert(archiveCopies)
      .values({ archiveId: archive.id, ...times, writtenAt: now });
    const [{ insertId: copyPartId }] = await tx
      .insert(copyParts)
      .values({ copyId, partId, carrierId, folder: folder === archive.folder ? null : folder, ...times });
    await tx.execute(sql`
      INSERT INTO copy_files (copy_part_id, archive_file_id, state, read_back_at)
      SELECT ${copyPartId}, f.id, 'read back', ${now} FROM archive_files f WHERE f.part_id = ${partId}`);
    await writeReceipt(tx, {
      ...{ at: now, who: context.job.who, action: 'copy taken in', projectId: archive.projectId },
      ...{ files: sum!.files, bytes: sum!.bytes, held: 0, itemsSha256: itemsHash([]) },
      title: `${folder} on ${carrier} is a copy of ${archive.folder}: ${counted(sum!.files, 'file')}, ${size(sum!.bytes)}, all as sealed`,
      facts: { archiveId: archive.id, copyId, carrier, folder },
    });
    await endJob(tx, context.job, { state: 'done' });
  });
}
