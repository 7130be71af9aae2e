// Writes what somebody else needs of a project to a folder or one file on a volume. It is no archive: nothing is released on its
// word, and the receipt says who got what.
import { z } from 'zod';
import { counted } from '../wording/amounts.ts';
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
    /** The project's documents get a new version that names what is handed over. */
    points: z.boolean().default(false),
  }),
  level: () => null,
  does: 'writes',
  action: 'handed over',
  phase: 'copying',
  title: ({ toWhom }, { project, volume }) =>
    `Hand over ${project ?? 'the project'} to ${toWhom} on ${volume ?? 'a volume'}`,
  undoing: () => 'the originals stay where they are',
  effect: ({ volumeId: to }, step) => ({ volumes: [{ volumeId: to, bytes: step.bytes }], carriers: [] }),
  findingWords: {
    ...PACKAGE_WORDS,
    'goes as it is': ({ facts }) => ({
      what: `${counted(Number(facts.documents), 'document')} ${facts.documents === 1 ? 'goes as it is' : 'go as they are'}`,
      detail: `It cannot be written anew, so it still names the places of this house, for example ${facts.example}. Choose timelines of other documents alone, if nobody should read them.`,
    }),
  },
});
