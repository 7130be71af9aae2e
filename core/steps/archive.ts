// Writes an archive of a project to one or more carriers, with one reading of the originals.
import { z } from 'zod';
import { ENCODED, ENCODINGS } from '../archive/encoding.ts';
import { MOST_OWN } from '../archive/lengths.ts';
import { KEPT_NAMES, patternTrouble } from '../archive/names.ts';
import { LAYOUTS, LEFT_OUT, PACKED_AS } from '../archive/selection.ts';
import { count, counted, listed, size } from '../wording/amounts.ts';
import { archiveId, carrierId, projectId } from './ids.ts';
import { type StepKind, stepKind } from './kind.ts';

/** Carriers of one archive, of all copies. */
const MOST_CARRIERS = 60;

const around = z.object({ value: z.number().min(0).max(100_000), unit: z.enum(['frames', 'seconds']) });
/** How much of media is kept around what is used. */
export const handles = around.extend({
  gapSeconds: z.number().min(0).max(86_400),
  withoutData: z.boolean().optional(),
  own: z
    .array(z.object({ fileId: z.number().int().positive(), around: around.nullable() }))
    .max(MOST_OWN)
    .optional(),
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
  encode: z.partialRecord(z.enum(ENCODED), z.enum(ENCODINGS)).default({}),
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
  encode: {},
};

/** Of a copy: its carriers in order, and about how much goes on each. */
const copyOn = z.array(z.object({ carrierId, bytes: z.number().min(0) })).min(1);

const params = z.object({
  projectId,
  carrierIds: z.array(carrierId).min(1).max(MOST_CARRIERS),
  folder: z.string().min(1).max(250),
  scope: archiveScope.default(ONLY_USED),
  /** Copies over several carriers; of steps from before there were any, one copy on each carrier. */
  copies: z.array(copyOn).default([]),
  /** The earlier archive it builds on. */
  baseId: archiveId.nullable().default(null),
  /** One of the archives of a project in work that are made night after night. */
  night: z.boolean().default(false),
});
/** Steps from before an archive could have several copies name one carrier. */
const before = z
  .object({ projectId, carrierId, folder: z.string().min(1).max(250) })
  .transform(({ carrierId: only, ...rest }) => ({
    ...rest,
    carrierIds: [only],
    scope: ONLY_USED as z.infer<typeof archiveScope>,
    copies: [] as z.infer<typeof copyOn>[],
    baseId: null,
    night: false,
  }));

/** What may be found of any package. */
export const PACKAGE_WORDS: NonNullable<StepKind['findingWords']> = {
  'media missing': ({ facts }) => ({
    what: `${counted(Number(facts.missing), 'piece')} of media of ${facts.project} ${facts.missing === 1 ? 'is' : 'are'} missing`,
    detail: `It will hold the ${count(Number(facts.total) - Number(facts.missing))} that are found, and say which are not.`,
  }),
  'not weighed yet': ({ facts }) => ({
    what: `${counted(Number(facts.files), 'file')} cut or encoded anew ${facts.files === 1 ? 'is' : 'are'} not weighed yet`,
    detail: 'Until a worker has looked at their frames, the size is told about. Nothing is written before it is known.',
  }),
  'encoded anew': ({ facts }) => ({
    what: `${counted(Number(facts.files), 'file')} encoded anew, ${size(Number(facts.ofBytes))} as about ${size(Number(facts.bytes))}`,
    detail: `${
      Number(facts.viewing) > 0
        ? `${counted(Number(facts.viewing), 'small viewing copy', 'small viewing copies')}: nobody can make the original of one. `
        : ''
    }${
      Number(facts.bytes) > Number(facts.ofBytes) ? 'It grows: as they are they would be smaller. ' : ''
    }The originals stay the only copies of themselves, whatever is encoded of them.`,
  }),
  'fonts not in it': ({ facts }) => ({
    what: `${counted(Number(facts.fonts), 'font')} that its documents name ${facts.fonts === 1 ? 'is' : 'are'} not in it`,
    detail: `${facts.names}. Put the files beside the project and tick other files, or go on: its README names them.`,
  }),
  'plug-ins named': ({ facts }) => ({
    what: `Its documents name ${counted(Number(facts.plugins), 'plug-in')}`,
    detail: `${facts.names}. No file of the project provides a plug-in: keep its installer. The README names them.`,
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
  effect: ({ carrierIds, copies }, step) => ({
    volumes: [],
    carriers: copies.length > 0 ? copies.flat() : carrierIds.map((id) => ({ carrierId: id, bytes: step.bytes })),
  }),
  findingWords: {
    'carrier too small': ({ facts }) => ({
      what: facts.together ? `${facts.carrier} together are too small` : `${facts.carrier} is too small`,
      detail: `${size(Number(facts.neededBytes))} is needed and ${size(Number(facts.freeBytes))} is free${facts.together ? ' on all of them. Choose one more carrier' : '. Choose another carrier'}.`,
    }),
    'builds on what is not good': ({ facts }) => ({
      what: `The archive it builds on has no good copy`,
      detail: `${facts.base} could not give back what this one would leave to it. Read it back, or archive everything.`,
    }),
    'earlier archive': ({ facts }) => ({
      what: `An archive of ${facts.project} exists already`,
      detail: `${facts.base} holds ${counted(Number(facts.files), 'file')} of it, ${size(Number(facts.bytes))}, as they are now. Build on it, and only what is new is written.`,
    }),
    ...PACKAGE_WORDS,
  },
});
