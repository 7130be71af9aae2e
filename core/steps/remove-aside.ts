// Removes for good what was set aside. What was said to have a copy is proved to have one in the same step.
import { z } from 'zod';
import { leaving, stepKind } from './kind.ts';

export const removeAside = stepKind({
  kind: 'remove aside',
  params: z.object({ what: z.string().min(1).max(200), level: z.union([z.literal(2), z.literal(3)]) }),
  level: ({ level }) => level,
  does: 'frees',
  action: 'set-aside files removed for good',
  phase: 'removing',
  title: ({ what }) => `Remove for good: ${what}`,
  undoing: ({ level }) => (level === 2 ? 'from the copy that is proved first' : 'never: there is no other copy'),
  effect: (_params, step) => ({ volumes: leaving(step), carriers: [] }),
  findingWords: {
    'no copy known': () => ({
      what: 'The copies of these files are not known any more',
      detail: 'They were set aside because a verified copy existed. Take them back, or make an archive of them first.',
    }),
  },
});
