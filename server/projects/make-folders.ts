// Makes the folders of a project's homes on disk. Each is made only where nothing stands, and never through a link.
import { mkdirSync } from 'node:fs';
import { eq, inArray } from 'drizzle-orm';
import { z } from 'zod';
import { counted } from '#core/wording/amounts.ts';
import { look } from '#disk/facts.ts';
import { absoluteText, refuseLinks } from '#disk/paths.ts';
import { inTransaction } from '../db/connect.ts';
import { projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../ledger/ledger.ts';
import { stateOf } from '../stores/stores.ts';
import type { JobContext } from '../runtime/context.ts';
import { endJob } from '../runtime/queue.ts';

const Params = z.object({
  projectId: z.number(),
  folders: z.array(z.object({ volumeId: z.number(), folder: z.string().min(1) })),
});

export async function runMakeFolders(context: JobContext): Promise<void> {
  const { db, job } = context;
  const { projectId, folders } = Params.parse(job.params);
  context.phase('making folders', 'files', folders.length);
  const ids = [...new Set(folders.map((folder) => folder.volumeId))];
  const known = new Map(
    (await db.select().from(volumes).where(inArray(volumes.id, ids))).map((volume) => [volume.id, volume]),
  );
  const made: string[] = [];
  for (const { volumeId, folder } of folders) {
    await context.checkLease();
    const volume = known.get(volumeId);
    if (!volume || stateOf(volume).state !== 'reachable')
      throw new Refused(
        `${volume?.name ?? 'A volume'} cannot be reached, so ${folder} was not made. ${counted(made.length, 'folder')} made before it stayed. Connect it and try again.`,
      );
    const place = absoluteText(volume.path, folder);
    refuseLinks(volume.path, `${folder}/x`);
    if (look(place).is === 'gone') {
      mkdirSync(place, { recursive: true });
      made.push(`${volume.name} / ${folder}`);
    }
    context.add(1);
  }
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  await inTransaction(db, async (tx) => {
    await writeReceipt(tx, {
      at: context.now(),
      who: job.who,
      action: 'folders made',
      title: `${counted(made.length, 'folder')} made for ${project?.name ?? 'a project'}`,
      projectId,
      jobId: job.id,
      files: 0,
      bytes: 0,
      held: 0,
      facts: { made },
      itemsSha256: itemsHash(made),
    });
    await endJob(tx, job, { state: 'done' });
  });
}
