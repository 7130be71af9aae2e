// Brings an archive back from one copy to a folder of a volume; parts that are damaged there from another.
import { z } from 'zod';
import { archiveId, carrierId, volumeId } from './ids.ts';
import { stepKind } from './kind.ts';

export const restoreArchive = stepKind({
  kind: 'restore',
  params: z.object({
    ...{ archiveId, volumeId },
    copyId: z.number().int().positive(),
    carrierId,
    /** All that it takes, where the copy lies on several, or builds on an earlier archive. */
    carrierIds: z.array(carrierId).default([]),
    folder: z.string().min(1),
  }),
  level: () => null,
  does: 'writes',
  action: 'project restored',
  phase: 'restoring',
  title: (_params, { project, volume }) => `Restore ${project ?? 'the project'} to ${volume ?? 'its volume'}`,
  undoing: () => 'the archive stays as it is',
  effect: ({ volumeId: to }, step) => ({ volumes: [{ volumeId: to, bytes: step.bytes }], carriers: [] }),
});
