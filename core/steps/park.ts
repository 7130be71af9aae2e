// Moves a project's media, or what no timeline uses of them, to another volume, where they are still known.
import { z } from 'zod';
import { projectId, volumeId } from './ids.ts';
import { stepKind } from './kind.ts';
import { movingTo, relinkedWords } from './moving.ts';

export const PARKED = ['all', 'unused'] as const;

export const parkMedia = stepKind({
  kind: 'park',
  params: z.object({ projectId, project: z.string(), which: z.enum(PARKED), volumeId, folder: z.string() }),
  level: () => null,
  does: 'moves',
  action: 'files moved',
  phase: 'moving',
  title: ({ which, project }, { volume }) =>
    `Park the ${which === 'all' ? '' : 'unused '}media of ${project} on ${volume ?? 'its volume'}`,
  undoing: () => 'the same files, on the other volume',
  effect: (params, step) => movingTo(params, step),
  findingWords: relinkedWords,
});
