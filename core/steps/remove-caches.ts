// Removes caches of some folders that were last changed before a day.
import { z } from 'zod';
import { day } from '../wording/amounts.ts';
import { leaving, stepKind } from './kind.ts';

const DAY_MS = 86_400_000;

/** `cutDay`: days since 1970, UTC; what was changed before that day goes. `rule`: the rule that chose it, in words. */
export const removeCaches = stepKind({
  kind: 'remove caches',
  params: z.object({ cutDay: z.number().int(), rule: z.string().max(200).optional() }),
  level: () => 0,
  does: 'frees',
  action: 'caches removed',
  phase: 'removing',
  title: ({ cutDay, rule }) =>
    rule ? `Remove caches by the rule “${rule}”` : `Remove caches last changed before ${day(cutDay * DAY_MS)}`,
  undoing: () => 'rebuilt when a project opens',
  effect: (_params, step) => ({ volumes: leaving(step), carriers: [] }),
});
