// Copies what a project borrows into its own homes, so that it has all it uses. The originals stay with their owners.
import { z } from 'zod';
import { KINDS } from '../model.ts';
import { projectId, volumeId } from './ids.ts';
import { stepKind } from './kind.ts';
import { relinkedWords } from './moving.ts';

export const copyHome = stepKind({
  kind: 'copy home',
  params: z.object({ projectId, project: z.string(), fileKind: z.enum(KINDS), volumeId, folder: z.string() }),
  level: () => null,
  does: 'writes',
  action: 'files copied',
  phase: 'copying',
  title: ({ project }, { volume }) => `Copy what ${project} borrows to ${volume ?? 'its volume'}`,
  undoing: () => 'the originals stay where they are',
  effect: ({ volumeId }, step) => ({ volumes: [{ volumeId, bytes: step.bytes }], carriers: [] }),
  findingWords: relinkedWords,
});
