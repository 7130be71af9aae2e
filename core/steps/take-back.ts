// Takes files back to the places they were set aside from.
import { z } from 'zod';
import { stepKind } from './kind.ts';

export const takeBack = stepKind({
  kind: 'take back',
  params: z.object({ what: z.string().min(1).max(200) }),
  level: () => null,
  does: 'moves',
  action: 'files taken back',
  phase: 'taking back',
  title: ({ what }) => `Take back ${what}`,
  undoing: () => 'set aside again',
  effect: () => ({ volumes: [], carriers: [] }),
});
