// Writes what somebody else needs of a project to a folder or one file on a volume. It is no archive: nothing is released on its
// word, and the receipt says who got what.
import { z } from 'zod';
import { archiveScope, PACKAGE_WORDS } from './archive.ts';
import { projectId, volumeId } from './ids.ts';
import { stepKind } from './kind.ts';

export const handOver = stepKind({
  kind: 'hand over',
  params: z.object({
    projectId,
    volumeId,
    folder: z.string().min(1).max(250),
    toWhom: z.string().trim().min(1).max(120),
    scope: archiveScope,
  }),
  level: () => null,
  does: 'writes',
  action: 'handed over',
  phase: 'copying',
  title: ({ toWhom }, { project, volume }) =>
    `Hand over ${project ?? 'the project'} to ${toWhom} on ${volume ?? 'a volume'}`,
  undoing: () => 'the originals stay where they are',
  effect: ({ volumeId: to }, step) => ({ volumes: [{ volumeId: to, bytes: step.bytes }], carriers: [] }),
  findingWords: PACKAGE_WORDS,
});
