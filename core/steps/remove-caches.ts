// Removes caches of some folders that were last changed before a day.
import { z } from 'zod';
import { calendarDay } from '../wording/amounts.ts';
import { leaving, stepKind } from './kind.ts';

/** `cutDay`: days since 1970, UTC; what was changed before that day goes. `rule`: the rule that chose it, in words. */
export const removeCaches = stepKind({
  kind: 'remove caches',
  params: z.object({ cutDay: z.number().int(), rule: z.string().max(200).optional() }),
  level: () => 0,
  does: 'frees',
  action: 'caches removed',
  phase: 'removing',
  title: ({ cutDay, rule }) =>
    rule ? `Remove caches by the rule “${rule}”` : `Remove caches last changed before ${calendarDay(cutDay)}`,
  undoing: () => 'rebuilt when a project opens',
  effect: (_params, step) => ({ volumes: leaving(step), carriers: [] }),
});
