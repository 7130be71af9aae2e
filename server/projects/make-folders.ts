// Makes the folders of a project's homes on disk. Each is made only where nothing stands, and never through a link.
import { eq, inArray } from 'drizzle-orm';
import { z } from 'zod';
import { counted } from '#core/wording/amounts.ts';
import { look } from '#disk/facts.ts';
import { makeFolder } from '#disk/folders.ts';
import { ensureFolder } from '../db/catalogue-writer.ts';
import { projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import type { JobContext } from '../runtime/context.ts';
import { endingOf } from '../runtime/endings.ts';
import { endJob, type Ending } from '../runtime/queue.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';
import { workKind } from '../runtime/work-kind.ts';

const params = z.object({
  projectId: z.number(),
  folders: z.array(z.object({ volumeId: z.number(), folder: z.string().min(1) })),
});
type Params = z.infer<typeof params>;

async function makeFolders(context: JobContext, { projectId, folders }: Params): Promise<void> {
  const { db, job } = context;
  context.phase('making folders', 'files', folders.length);
  const made: string[] = [];
  const there: Params['folders'] = [];
  let ending: Ending = { state: 'done' };
  try {
    await makeAll(context, folders, { made, there });
  } catch (thrown) {
    ending = endingOf(context, thrown);
  }
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  await context.transaction(async (tx) => {
    // Known at once, not at the next reading.
    for (const { volumeId, folder } of there) await ensureFolder(tx.$connection, volumeId, folder, context.now());
    await writeReceipt(tx, {
      at: context.now(),
      who: job.who,
      action: ending.state === 'done' ? 'folders made' : 'work ended early',
      title: `${counted(made.length, 'folder')} made for ${project?.name ?? 'a project'}`,
      projectId,
      jobId: job.id,
      files: 0,
      bytes: 0,
      held: 0,
      facts: { made, ...(ending.trouble ? { trouble: ending.trouble } : {}) },
      itemsSha256: itemsHash(made),
    });
    await endJob(tx, job, ending);
  });
}

async function makeAll(
  context: JobContext,
  folders: Params['folders'],
  { made, there }: { made: string[]; there: Params['folders'] },
): Promise<void> {
  const ids = [...new Set(folders.map((folder) => folder.volumeId))];
  const rows = await context.db.select().from(volumes).where(inArray(volumes.id, ids));
  const names = new Map(rows.map((volume) => [volume.id, volume.name]));
  for (const { volumeId, folder } of folders) {
    await context.checkIn();
    const root = await context.root(volumeId);
    if (!root)
      throw new Refused(
        `${names.get(volumeId) ?? 'A volume'} cannot be reached, so ${folder} was not made. ${counted(made.length, 'folder')} made before it stayed. Connect it and try again.`,
      );
    if (look(root.make(folder)).is === 'gone') {
      makeFolder(root, folder);
      made.push(`${names.get(volumeId)} / ${folder}`);
    }
    there.push({ volumeId, folder });
    context.add(1);
  }
}

export const makeFoldersWork = workKind<Params>({ kind: 'make folders', params, run: makeFolders });
