// Settles which of a document's versions counts. Called after documents were read, removed or moved.
import { eq } from 'drizzle-orm';
import { supersededBy } from '#core/documents/versions.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { files } from '../db/schema/catalogue.ts';
import { documents } from '../db/schema/documents.ts';

/** Gives the projects in which another version counts now. */
export const recomputeVersions = (db: Database): Promise<number[]> => inTransaction(db, recomputeVersionsIn);

/** The same inside a transaction. */
export async function recomputeVersionsIn(tx: Transaction): Promise<number[]> {
  const rows = await tx
    .select({
      id: documents.id,
      projectId: documents.projectId,
      folderId: files.folderId,
      name: files.name,
      modifiedUs: files.modifiedUs,
      goneAt: files.goneAt,
      was: documents.supersededBy,
    })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId));
  const newest = supersededBy(
    rows.map((row) => ({ ...row, place: `${row.projectId} ${row.folderId}`, gone: row.goneAt !== null })),
  );
  const changed = new Set<number>();
  for (const row of rows) {
    const by = newest.get(row.id) ?? null;
    if (by === row.was) continue;
    await tx.update(documents).set({ supersededBy: by }).where(eq(documents.id, row.id));
    changed.add(row.projectId);
  }
  return [...changed];
}
