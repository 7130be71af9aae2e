// Puts what an archive holds back where it was, file by file, on the volumes it lay on: what is there and the same is left,
// and nothing is ever written over.
import { z } from 'zod';
import { counted, size } from '../wording/amounts.ts';
import { archiveId, carrierId, volumeId } from './ids.ts';
import { stepKind } from './kind.ts';
import { fetched, only, onlyWords } from './restore.ts';

export const putBack = stepKind({
  kind: 'put back',
  params: z.object({
    archiveId,
    copyId: z.number().int().positive(),
    carrierIds: z.array(carrierId),
    /** Only this of it; null for all. */
    only: only.nullable().default(null),
    /** The parts in which that lies; null for all. */
    partIds: z.array(z.number().int().positive()).nullable().default(null),
    /** What comes to each volume, and what is there beside it, as the catalogue had it when it was added. */
    volumes: z.array(z.object({ volumeId, bytes: z.number().min(0) })),
    there: z.object({ files: z.number(), bytes: z.number() }),
    /** Media that were cut in the archive, or have no place any more: they stay there. */
    without: z.object({ cut: z.number(), noPlace: z.number() }),
    fetch: fetched.nullable().default(null),
  }),
  level: () => null,
  does: 'writes',
  action: 'put back',
  phase: 'putting back',
  title: ({ only: part }, { project }) =>
    `Put ${part ? `${onlyWords(part)} of ` : ''}${project ?? 'the project'} back where it was`,
  undoing: () => 'the archive stays as it is',
  effect: ({ volumes }) => ({ volumes, carriers: [] }),
  findingWords: {
    'there already': ({ facts }) => ({
      what: `${counted(Number(facts.files), 'file')} of it ${facts.files === 1 ? 'is' : 'are'} there already`,
      detail: `${size(Number(facts.bytes))}. Each is compared with what was sealed, and left; where another lies in its place, that stays and is told.`,
    }),
    'not put back': ({ facts }) => ({
      what: `${counted(Number(facts.files), 'file')} of it cannot go back where ${facts.files === 1 ? 'it was' : 'they were'}`,
      detail: `${facts.why}. Restore the archive to a folder of its own to have ${facts.files === 1 ? 'it' : 'them'}.`,
    }),
  },
});
