// Moves files of one kind of a project to the home they have strayed from.
import { z } from 'zod';
import { KINDS } from '../model.ts';
import { counted } from '../wording/amounts.ts';
import { projectId, volumeId } from './ids.ts';
import { leaving, stepKind } from './kind.ts';

export const moveHome = stepKind({
  kind: 'move home',
  params: z.object({ projectId, project: z.string(), fileKind: z.enum(KINDS), volumeId, folder: z.string() }),
  level: () => null,
  does: 'moves',
  action: 'files moved',
  phase: 'moving',
  title: ({ fileKind, project }, { volume }) => `Move ${fileKind} of ${project} home to ${volume ?? 'its volume'}`,
  undoing: () => 'the same files, in their home',
  effect: ({ volumeId: home }, step) => ({
    volumes: [...leaving(step), ...step.onVolumes.map((part) => ({ volumeId: home, bytes: part.bytes }))],
    carriers: [],
  }),
  findingWords: {
    'documents relinked': ({ facts }) => ({
      what: `${counted(Number(facts.documents), 'document')} will get a new version`,
      detail: `It names the new places and lies beside the old one, for example as ${facts.example}. The old one stays as it is.`,
    }),
  },
});
