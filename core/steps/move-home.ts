// Moves files of one kind of a project to the home they have strayed from; also what was parked, where that is wanted back.
import { z } from 'zod';
import { KINDS } from '../model.ts';
import { projectId, volumeId } from './ids.ts';
import { stepKind } from './kind.ts';
import { movingTo, relinkedWords } from './moving.ts';

export const moveHome = stepKind({
  kind: 'move home',
  params: z.object({ projectId, project: z.string(), fileKind: z.enum(KINDS), volumeId, folder: z.string() }),
  level: () => null,
  does: 'moves',
  action: 'files moved',
  phase: 'moving',
  title: ({ fileKind, project }, { volume }) => `Move ${fileKind} of ${project} home to ${volume ?? 'its volume'}`,
  undoing: () => 'the same files, in their home',
  effect: (params, step) => movingTo(params, step),
  findingWords: relinkedWords,
});
