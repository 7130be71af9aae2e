// Looking for a folder to register: a worker looks, since it stands at the disks, and whoever asked gets what it saw. Nothing of it is
// kept.
import path from 'node:path';
import { eq } from 'drizzle-orm';
import { z } from 'zod';
import type { JobId } from '#core/model.ts';
import { codeOf } from '#disk/facts.ts';
import { type FolderList, listFolders, mountedPlaces, type Place } from '#disk/folder-list.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import { jobs } from '../db/schema/jobs.ts';
import { awaitJob } from '../runtime/await-job.ts';
import { endJob, enqueue } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { endAfter, workKind } from '../runtime/work-kind.ts';
import type { By } from './places.ts';
import { overlapOf } from './stores.ts';

export interface Looked {
  list: FolderList;
  mounted: Place[];
  /** Why it cannot be registered as a volume, in a sentence; null where nothing is known against it. */
  against: string | null;
}

const params = z.object({ path: z.string().max(4095) });

/** Why it cannot be looked into. */
const WHY: Record<string, string> = {
  ENOENT: 'is not there',
  ENOTDIR: 'is no folder',
  EACCES: 'may not be looked into',
  EPERM: 'may not be looked into',
  EIO: 'cannot be read',
};

export const listFoldersWork = workKind<z.infer<typeof params>>({
  kind: 'list folders',
  params,
  async run(context, asked) {
    try {
      const at = path.resolve(asked.path);
      let list: FolderList;
      try {
        list = listFolders(at);
      } catch (error) {
        const code = codeOf(error);
        throw new Refused(`${at} ${WHY[code] ?? `cannot be looked into (${code})`} on this server.`);
      }
      const against = list.writable
        ? await overlapOf(context.db, at)
        : `Nothing can be written in ${at}, and a volume is given its identity there.`;
      const looked: Looked = { list, mounted: mountedPlaces(), against };
      await context.transaction(async (tx) => {
        await tx
          .update(jobs)
          .set({ params: { ...asked, looked } })
          .where(eq(jobs.id, context.job.id));
        await endJob(tx, context.job, { state: 'done' });
      });
    } catch (thrown) {
      await endAfter(context, thrown);
    }
  },
});

/** What a worker sees there. Throws Refused where that is no folder, or no worker answers. */
export async function lookIntoFolder(db: Database, at: string, by: By, seconds = 8): Promise<Looked> {
  if (!path.isAbsolute(at)) throw new Refused(`${at} is no full path: it should begin with /.`);
  const id = await inTransaction(db, (tx) =>
    enqueue(
      tx,
      {
        ...{ kind: listFoldersWork.kind, title: `Look into ${at}`.slice(0, 500), params: { path: at }, who: by.who },
        ...{ stores: [], quiet: true },
      },
      by.now,
    ),
  );
  try {
    await awaitJob(db, id, seconds).catch((error: unknown) => waitedInVain(db, id, error));
    const [job] = await db.select({ params: jobs.params }).from(jobs).where(eq(jobs.id, id));
    return job!.params.looked as Looked;
  } finally {
    // Nobody looks at it twice. What no worker took yet is of no use to anybody either.
    await db.delete(jobs).where(eq(jobs.id, id));
  }
}

/** Throws what it was refused for; or that nobody looked, since then nobody will. */
async function waitedInVain(db: Database, id: JobId, error: unknown): Promise<never> {
  const [job] = await db.select({ finishedAt: jobs.finishedAt }).from(jobs).where(eq(jobs.id, id));
  if (error instanceof Refused && job?.finishedAt === null)
    throw new Refused(
      'No worker has answered, so nothing is known of this server. Look whether one is running, or type the path.',
    );
  throw error;
}
