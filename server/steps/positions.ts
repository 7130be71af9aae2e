// Where files lie on carriers that are wound, kept in the catalogue: so that what it takes to have them back is known, and the
// order in which they are read, while the carrier is on the shelf.
import { and, asc, eq, gt, sql } from 'drizzle-orm';
import { payloadAt } from '../archives/bag.ts';
import { archiveFiles, copyFiles } from '../db/schema/archives.ts';
import type { Bench } from './package-model.ts';

const BATCH = 2_000;

/** After everything has its name. */
export async function notePositions({ context, archive, targets }: Bench): Promise<void> {
  for (const { carrier, part, copyPartId } of targets) {
    if (!carrier.positions) continue;
    for (let last = 0; ;) {
      const rows = await context.db
        .select()
        .from(archiveFiles)
        .where(and(eq(archiveFiles.partId, part.id), eq(archiveFiles.archiveId, archive.id), gt(archiveFiles.id, last)))
        .orderBy(asc(archiveFiles.id))
        .limit(BATCH);
      if (rows.length === 0) break;
      last = rows.at(-1)!.id;
      const places = await carrier.positions(part.folder, rows.map(payloadAt));
      const values = rows.flatMap(({ id }, i) =>
        places[i] === null ? [] : [{ copyPartId, archiveFileId: id, state: 'read back' as const, position: places[i] }],
      );
      if (values.length > 0)
        await context.transaction((tx) =>
          tx
            .insert(copyFiles)
            .values(values)
            .onDuplicateKeyUpdate({ set: { position: sql`VALUES(position)` } }),
        );
    }
  }
}
