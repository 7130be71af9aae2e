// Of files that are the same, sets aside the ones that were to stay and keeps the others: documents that name those get new
// versions first, which name the ones that stay.
import { z } from 'zod';
import { counted } from '../wording/amounts.ts';
import { REASON_WORDS } from '../wording/reclaim.ts';
import { stepKind } from './kind.ts';

export const KEPT_ELSEWHERE = REASON_WORDS['kept elsewhere'];
/** What is set aside with these words is removed for good only while the other is there, with the same bytes. */
export const KEPT_HERE = REASON_WORDS['twice on its volume'];

export const keepOther = stepKind({
  kind: 'keep the other',
  /** By the file that goes, the one that stays. */
  params: z.object({
    pairs: z
      .array(z.tuple([z.number().int().positive(), z.number().int().positive()]))
      .min(1)
      .max(2000),
    /** Both of each lie on one volume. */
    here: z.boolean().default(false),
  }),
  level: ({ here }) => (here ? 3 : 2),
  does: 'sets aside',
  action: 'files set aside',
  phase: 'setting aside',
  title: ({ pairs }) =>
    `Set aside the first of ${counted(pairs.length, 'pair')} that are the same, and keep the second`,
  undoing: () => 'taken back from Reclaim, whole or file by file',
  effect: () => ({ volumes: [], carriers: [] }),
  findingWords: {
    'documents relinked': ({ facts }) => ({
      what: `${counted(Number(facts.documents), 'document')} will get a new version`,
      detail: `It names the file that stays and lies beside the old one, for example as ${facts.example}. The old one stays as it is, and goes on naming what is set aside.`,
    }),
  },
});
