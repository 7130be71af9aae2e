// Writes another copy of a sealed archive, from copies that are good.
import { z } from 'zod';
import { count, listed, size } from '../wording/amounts.ts';
import { archiveId, carrierId } from './ids.ts';
import { stepKind } from './kind.ts';

export const copyArchive = stepKind({
  kind: 'copy archive',
  params: z.object({
    archiveId,
    archiveName: z.string(),
    /** Which parts go on which carrier, and what they weigh. */
    on: z
      .array(z.object({ carrierId, partIds: z.array(z.number().int().positive()).min(1), bytes: z.number().min(0) }))
      .min(1)
      .max(60),
    /** The damaged copy that it is made instead of, and where that lies: a repair. */
    instead: z.object({ copyId: z.number().int().positive(), carriers: z.array(z.string()).max(60) }).optional(),
  }),
  level: () => null,
  does: 'writes',
  action: 'copy written',
  phase: 'copying',
  title: ({ archiveName, instead }, { carriers }) => {
    const to = carriers ? listed(carriers) : 'its carriers';
    return instead
      ? `Repair ${archiveName}: a new copy on ${to} instead of the damaged one on ${listed(instead.carriers)}`
      : `Copy ${archiveName} to ${to}`;
  },
  undoing: ({ instead }) =>
    instead
      ? 'the damaged copy stays where it is, and counts until the new one is read back'
      : 'the copies that are there stay as they are',
  effect: ({ on }) => ({
    volumes: [],
    carriers: on.map(({ carrierId: id, bytes }) => ({ carrierId: id, bytes })),
  }),
  findingWords: {
    'carrier too small': ({ facts }) => ({
      what: `${facts.carrier} is too small`,
      detail: `${size(Number(facts.neededBytes))} is needed and ${size(Number(facts.freeBytes))} is free. Choose another carrier.`,
    }),
    'no source': ({ facts }) => ({
      what: `${facts.archive} has no good copy to copy from`,
      detail: `Of ${count(Number(facts.parts))} of its parts no copy reads as it was sealed. Nothing can be copied until one does.`,
    }),
  },
});
