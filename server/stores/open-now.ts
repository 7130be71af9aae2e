// Which files of the catalogue a program has open on a worker's machine: told while there is a plan that may touch them. When
// the plan runs, each is looked at once more, at that very moment.
import { eq, sql } from 'drizzle-orm';
import { folderOf, nameOf } from '#core/paths.ts';
import { openPaths } from '#disk/open-files.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { plans } from '../db/schema/plans.ts';
import { openNow } from '../db/schema/stores.ts';

const AT_ONCE = 500;

/** Writes down what is open on the volumes that a worker reaches, in place of what it said before. */
export async function noteOpenFiles(
  db: Database,
  workerId: number,
  reached: ReadonlyMap<number, string>,
): Promise<void> {
  const [draft] = await db.select({ id: plans.id }).from(plans).where(eq(plans.draft, 1));
  const open = draft ? openPaths(reached) : [];
  const known: { fileId: number; program: string }[] = [];
  for (let i = 0; i < open.length; i += AT_ONCE) {
    const some = open.slice(i, i + AT_ONCE);
    const rows = await db
      .select({ fileId: files.id, volumeId: folders.volumeId, folder: folders.path, name: files.name })
      .from(folders)
      .innerJoin(files, eq(files.folderId, folders.id))
      .where(
        sql`(${folders.volumeId}, ${folders.pathHash}, ${files.name}) IN (${sql.join(
          some.map((one) => sql`(${one.below}, ${pathHash(folderOf(one.path))}, ${nameOf(one.path)})`),
          sql`, `,
        )}) AND ${files.goneAt} IS NULL`,
      );
    for (const row of rows) {
      const at = some.find(
        ({ below, path }) => below === row.volumeId && folderOf(path) === row.folder && nameOf(path) === row.name,
      );
      if (at) known.push({ fileId: row.fileId, program: at.program.slice(0, 60) });
    }
  }
  await inTransaction(db, async (tx) => {
    await tx.delete(openNow).where(eq(openNow.workerId, workerId));
    if (known.length > 0) await tx.insert(openNow).values(known.map((one) => ({ ...one, workerId })));
  });
}
