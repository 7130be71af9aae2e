// Writes an archive of a project to one or more carriers, with one reading of the originals.
import { z } from 'zod';
import { KEPT_NAMES, patternTrouble } from '../archive/names.ts';
import { LAYOUTS, LEFT_OUT, PACKED_AS } from '../archive/selection.ts';
import { count, counted, listed, size } from '../wording/amounts.ts';
import { carrierId, projectId } from './ids.ts';
import { type StepKind, stepKind } from './kind.ts';

const handles = z.object({
  value: z.number().min(0).max(100_000),
  unit: z.enum(['frames', 'seconds']),
  gapSeconds: z.number().min(0).max(86_400),
});
/** What goes into an archive, as it is kept and sent. */
export const archiveScope = z.object({
  parts: z.array(z.enum(LEFT_OUT)),
  versions: z.enum(['all', 'newest']),
  handles: handles.nullable().default(null),
  timelines: z.array(z.string().max(1020)).max(500).default([]),
  bins: z.array(z.string().max(4000)).max(500).default([]),
  files: z.array(z.number().int().positive()).max(5000).default([]),
  layout: z.enum(LAYOUTS).default('bins'),
  names: z
    .string()
    .refine((pattern) => patternTrouble(pattern) === null)
    .default(KEPT_NAMES),
  goOn: z.boolean().default(false),
  pack: z.enum(PACKED_AS).default('folder'),
  rest: z.enum(['stays', 'leaves']).default('stays'),
  originals: z.boolean().default(true),
});
/** Before it could be chosen, what no timeline uses stayed out. */
const ONLY_USED = {
  parts: [],
  versions: 'all' as const,
  handles: null,
  timelines: [],
  bins: [],
  files: [],
  layout: 'bins' as const,
  names: KEPT_NAMES,
  goOn: false,
  pack: 'folder' as const,
  rest: 'stays' as const,
  originals: true,
};

const params = z.object({
  projectId,
  carrierIds: z.array(carrierId).min(1).max(8),
  folder: z.string().min(1).max(250),
  scope: archiveScope.default(ONLY_USED),
});
/** Steps from before an archive could have several copies name one carrier. */
const before = z
  .object({ projectId, carrierId, folder: z.string().min(1).max(250) })
  .transform(({ carrierId: only, ...rest }) => ({
    ...rest,
    carrierIds: [only],
    scope: ONLY_USED as z.infer<typeof archiveScope>,
  }));

/** What may be found of any package. */
export const PACKAGE_WORDS: NonNullable<StepKind['findingWords']> = {
  'media missing': ({ facts }) => ({
    what: `${counted(Number(facts.missing), 'piece')} of media of ${facts.project} ${facts.missing === 1 ? 'is' : 'are'} missing`,
    detail: `It will hold the ${count(Number(facts.total) - Number(facts.missing))} that are found, and say which are not.`,
  }),
  'not weighed yet': ({ facts }) => ({
    what: `${counted(Number(facts.files), 'file')} cut to what is used ${facts.files === 1 ? 'is' : 'are'} not weighed yet`,
    detail:
      'Until a worker has read where their frames lie, the size is told about. Nothing is written before it is known.',
  }),
  'renamed in the archive': ({ facts }) => ({
    what: `${counted(Number(facts.files), 'file')} renamed to avoid a clash`,
    detail: `Two files would have had one name in it, for example ${facts.example}`,
  }),
};

export const archiveProject = stepKind({
  kind: 'archive',
  params: z.union([params, before]),
  level: () => null,
  does: 'writes',
  action: 'archive sealed',
  phase: 'copying',
  title: (_params, { project, carriers }) =>
    `Archive ${project ?? 'the project'} on ${carriers ? listed(carriers) : 'its carriers'}`,
  undoing: () => 'the originals stay where they are',
  effect: ({ carrierIds }, step) => ({
    volumes: [],
    carriers: carrierIds.map((id) => ({ carrierId: id, bytes: step.bytes })),
  }),
  findingWords: {
    'carrier too small': ({ facts }) => ({
      what: `${facts.carrier} is too small`,
      detail: `${size(Number(facts.neededBytes))} is needed and ${size(Number(facts.freeBytes))} is free. Choose another carrier.`,
    }),
    ...PACKAGE_WORDS,
  },
});
