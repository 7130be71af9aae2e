// A snapshot put beside the document that it was taken of, as its next version: never over anything. Then the folder is read, so
// that it is known.
import { eq } from 'drizzle-orm';
import { z } from 'zod';
import { nextVersion, versionOf } from '#core/documents/versions.ts';
import type { FolderId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { exactTime } from '#core/wording/amounts.ts';
import { listBeside, writeBeside } from '#disk/beside.ts';
import { codeOf } from '#disk/facts.ts';
import { readSnapshot } from '#disk/snapshots.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { snapshots } from '../db/schema/snapshots.ts';
import { volumes } from '../db/schema/stores.ts';
import type { JobContext } from '../runtime/context.ts';
import { endingOf } from '../runtime/endings.ts';
import { endJob, enqueue } from '../runtime/queue.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';
import { workKind } from '../runtime/work-kind.ts';
import { askToReadFolder } from '../site/work.ts';

const params = z.object({
  snapshotId: z.number().int(),
  folderId: z.number().int(),
  volumeId: z.number().int(),
  folder: z.string(),
});
type Params = z.infer<typeof params>;

/** Asks for it. Throws Refused where the snapshot is not there, or the document's folder is not known any more. */
export async function askToPutBeside(
  db: Database,
  snapshotId: number,
  { who, now }: { who: string; now: Date },
): Promise<{ name: string }> {
  const [row] = await db.select().from(snapshots).where(eq(snapshots.id, snapshotId));
  if (row?.state !== 'kept') throw new Refused('There is no such snapshot any more. Nothing was begun.');
  const [file] = await db
    .select({ folderId: folders.id, folder: folders.path, raw: folders.rawPath, volumeId: files.volumeId })
    .from(files)
    .innerJoin(folders, eq(folders.id, files.folderId))
    .where(eq(files.id, row.fileId));
  if (!file || file.raw !== null)
    throw new Refused(`The folder of ${row.name} is not known any more. Nothing was begun; copy the snapshot by hand.`);
  const { folderId, folder, volumeId } = file;
  await inTransaction(db, (tx) =>
    enqueue(
      tx,
      {
        kind: putBesideWork.kind,
        title: `Put a snapshot of ${row.name} beside it`,
        params: { snapshotId, folderId, volumeId, folder },
        who,
        stores: [
          { store: 'volume', id: volumeId, mode: 'change' },
          { store: 'volume', id: row.onVolumeId, mode: 'look' },
        ],
      },
      now,
    ),
  );
  return { name: row.name };
}

async function put(context: JobContext, asked: Params): Promise<void> {
  const { db, job } = context;
  try {
    const [row] = await db.select().from(snapshots).where(eq(snapshots.id, asked.snapshotId));
    if (row?.state !== 'kept') throw new Refused('The snapshot is not there any more. Nothing was written.');
    const [home, kept] = [await context.root(asked.volumeId), await context.root(row.onVolumeId)];
    if (!home || !kept) throw new Refused('A volume cannot be reached. Nothing was written. Connect it and try again.');
    context.phase('putting a snapshot beside', 'bytes', row.sizeBytes);
    const bytes = readSnapshot(kept, row.path, row.xxh64);
    if (!bytes)
      throw new Refused('The snapshot does not read as it was taken. Nothing was written. Choose another one.');
    const name = await write(context, { asked, bytes, of: row.name, xxh64: row.xxh64 });
    const [volume] = await db.select().from(volumes).where(eq(volumes.id, asked.volumeId));
    const at = joinPath(asked.folder, name);
    // It waits until this work has let go of the volume.
    await askToReadFolder(db, asked.folderId as FolderId, { who: job.who, now: context.now() });
    await context.transaction(async (tx) => {
      await writeReceipt(tx, {
        ...{ at: context.now(), who: job.who, action: 'snapshot put beside', jobId: job.id, projectId: row.projectId },
        ...{ title: `${row.name} as it was ${exactTime(row.takenAt.getTime())}, as ${name}`, held: 0 },
        ...{ files: 1, bytes: row.sizeBytes, itemsSha256: itemsHash([at]) },
        facts: { at: `${volume?.name ?? ''} / ${at}`, xxh64: row.xxh64, takenAt: row.takenAt.toISOString() },
      });
      await endJob(tx, job, { state: 'done' });
    });
  } catch (thrown) {
    const ending = endingOf(context, thrown);
    await context.transaction((tx) => endJob(tx, job, ending));
  }
}

/** Under the next free version; where one holds the very same already, as after a run that was killed, it is that one. */
async function write(
  context: JobContext,
  { asked, bytes, of, xxh64 }: { asked: Params; bytes: Buffer; of: string; xxh64: string },
): Promise<string> {
  const home = (await context.root(asked.volumeId))!;
  const same = (name: string) => versionOf(name).stem === versionOf(of).stem;
  const there = listBeside(home, asked.folder).filter(same);
  const was = there.find((name) => name !== of && readSnapshot(home, joinPath(asked.folder, name), xxh64) !== null);
  if (was) return was;
  for (let taken = there; ;) {
    const name = nextVersion(of, taken);
    taken = [...taken, name];
    await context.assertLease();
    const temporary = (await context.names()).path('text', asked.snapshotId);
    try {
      if (writeBeside(home, { at: joinPath(asked.folder, name), temporary }, bytes)) return name;
    } catch (error) {
      if (codeOf(error) === 'ENOSPC')
        throw new Refused('The volume is full, so the snapshot was not written. Nothing was changed. Free some space.');
      throw error;
    }
  }
}

export const putBesideWork = workKind<Params>({ kind: 'put snapshot beside', params, run: put });
