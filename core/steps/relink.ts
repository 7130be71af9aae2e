// Gives media of documents the files that a person chose: each document gets a new version beside the old one.
import { z } from 'zod';
import { counted } from '../wording/amounts.ts';
import { projectId } from './ids.ts';
import { stepKind } from './kind.ts';

const choice = z.object({ mediaId: z.number().int(), fileId: z.number().int() });

export const relinkMedia = stepKind({
  kind: 'relink',
  params: z.object({ projectId, choices: z.array(choice).min(1) }),
  level: () => null,
  does: 'writes',
  action: 'media relinked',
  phase: 'writing new versions',
  title: ({ choices }, { project }) => `Relink ${counted(choices.length, 'clip')} of ${project ?? 'the project'}`,
  undoing: () => 'the old versions stay as they are',
  effect: (_params, step) => ({
    volumes: step.onVolumes.map((part) => ({ volumeId: part.volumeId, bytes: part.bytes })),
    carriers: [],
  }),
});
