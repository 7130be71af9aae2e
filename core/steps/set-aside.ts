// Sets files aside: they leave their place and can be taken back until they are removed for good.
import { z } from 'zod';
import { stepKind } from './kind.ts';

/** `what` names them in a title, `reason` says why they went: both are kept with each file. */
export const setAside = stepKind({
  kind: 'set aside',
  params: z.object({
    what: z.string().min(1).max(200),
    reason: z.string().min(1).max(300),
    level: z.union([z.literal(2), z.literal(3)]),
  }),
  level: ({ level }) => level,
  does: 'sets aside',
  action: 'files set aside',
  phase: 'setting aside',
  title: ({ what }) => `Set aside ${what}`,
  undoing: () => 'taken back from Reclaim, whole or file by file',
  // They stay on their volume: nothing is free before they are removed.
  effect: () => ({ volumes: [], carriers: [] }),
});
