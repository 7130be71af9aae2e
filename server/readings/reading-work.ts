// Reading a volume, or one folder of it, as a job.
import { z } from 'zod';
import type { VolumeId } from '#core/model.ts';
import type { JobContext } from '../runtime/context.ts';
import { endAfter, endPlainly, workKind } from '../runtime/work-kind.ts';
import { readDocuments } from './read-documents.ts';
import { readVolume } from './read-volume.ts';

const params = z.object({
  volumeId: z.number().int(),
  folder: z.string().optional(),
  expectedFiles: z.number().optional(),
});

async function read(context: JobContext, { volumeId: id, folder, expectedFiles }: z.infer<typeof params>) {
  const { db, pools, stop, now } = context;
  const volumeId = id as VolumeId;
  const path = context.pathOf(id) ?? undefined;
  context.phase('reading', 'files', expectedFiles ?? 0);
  try {
    const result = await readVolume(db, pools.walk, volumeId, {
      stop,
      now,
      folder,
      path,
      progress: (looked) => context.set(looked),
    });
    context.check();
    context.rename('reading documents');
    await readDocuments(db, pools.documents, volumeId, { now, reading: result, path });
    context.phase('read', 'files', result.looked, result.looked);
    await context.checkIn();
    await endPlainly(context);
  } catch (thrown) {
    await endAfter(context, thrown);
  }
}

export const readVolumeWork = workKind({ kind: 'read volume', params, run: read });

/** What a reading of a volume needs: to look at its disk, and to change what the catalogue says of it. */
export const storesOfReading = (volumeId: number) => [
  { store: 'volume' as const, id: volumeId, mode: 'look' as const },
  { store: 'catalogue' as const, id: volumeId, mode: 'change' as const },
];
