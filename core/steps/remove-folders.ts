// Removes folders in which nothing lies.
import { z } from 'zod';
import { stepKind } from './kind.ts';

export const removeFolders = stepKind({
  kind: 'remove folders',
  params: z.object({}),
  level: () => 0,
  does: 'frees',
  action: 'folders removed',
  phase: 'removing folders',
  title: () => 'Remove empty folders',
  undoing: () => 'made anew by whoever needs them',
  effect: () => ({ volumes: [], carriers: [] }),
});
