// Removes the originals that a sealed archive stands for, each read back from a copy in the same step.
import { z } from 'zod';
import { archiveId } from './ids.ts';
import { leaving, stepKind } from './kind.ts';

export const removeOriginals = stepKind({
  kind: 'remove originals',
  params: z.object({ archiveId, archiveName: z.string() }),
  level: () => 2,
  does: 'frees',
  action: 'originals removed',
  phase: 'reading back and removing',
  title: (_params, { project }) => `Remove originals of ${project ?? 'the project'}`,
  undoing: ({ archiveName }) => `restored from ${archiveName}`,
  effect: (_params, step) => ({ volumes: leaving(step), carriers: [] }),
});
