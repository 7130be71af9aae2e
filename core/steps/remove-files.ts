// Removes for good files that can be made again, or that rebuild themselves.
import { z } from 'zod';
import { KINDS } from '../model.ts';
import { leaving, stepKind } from './kind.ts';

/** `again` says in words what it takes to have them again. */
export const removeFiles = stepKind({
  kind: 'remove files',
  params: z.object({
    what: z.string().min(1).max(200),
    fileKind: z.enum(KINDS),
    level: z.union([z.literal(0), z.literal(1)]),
    again: z.string().min(1).max(200),
  }),
  level: ({ level }) => level,
  does: 'frees',
  action: 'files removed',
  phase: 'removing',
  title: ({ what }) => `Remove ${what} for good`,
  undoing: ({ again }) => again,
  effect: (_params, step) => ({ volumes: leaving(step), carriers: [] }),
});
