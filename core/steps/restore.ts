// Brings an archive back from one copy to a folder of a volume; parts that are damaged there from another.
import { z } from 'zod';
import { handles } from './archive.ts';
import { archiveId, carrierId, volumeId } from './ids.ts';
import { counted, listed } from '../wording/amounts.ts';
import { stepKind } from './kind.ts';

export const fetched = z.object({
  thawSeconds: z.number(),
  cost: z.number(),
  tapes: z.array(z.object({ carrier: z.string(), seconds: z.number(), secondsAsAsked: z.number() })),
});

export const only = z.object({
  timelines: z.array(z.string().max(1020)).max(500),
  bins: z.array(z.string().max(4000)).max(500),
  files: z.array(z.number().int().positive()).max(5000),
});

/** "2 timelines and 1 file", of what is not brought back whole. */
export function onlyWords({ timelines, bins, files }: z.infer<typeof only>): string {
  const one = (what: string, names: readonly string[]) =>
    names.length === 1 ? [`the ${what} ${names[0]}`] : names.length > 1 ? [counted(names.length, what)] : [];
  return listed([
    ...one('timeline', timelines),
    ...one('bin', bins),
    ...(files.length > 0 ? [counted(files.length, 'file')] : []),
  ]);
}

export const restoreArchive = stepKind({
  kind: 'restore',
  params: z.object({
    ...{ archiveId, volumeId },
    copyId: z.number().int().positive(),
    carrierId,
    /** All that it takes, where the copy lies on several, or builds on an earlier archive. */
    carrierIds: z.array(carrierId).default([]),
    folder: z.string().min(1),
    /** Whose paths documents get: a station's, with the path that the volume has there; null for those of this server. */
    seenFrom: z.object({ station: z.string(), mount: z.string() }).nullable().default(null),
    /** Only this of it; null for all. */
    only: only.nullable().default(null),
    /** Of media that its timelines use: those ranges alone, with so much around; null for whole files. */
    handles: handles.omit({ own: true }).nullable().default(null),
    /** The parts in which that lies; null for all. */
    partIds: z.array(z.number().int().positive()).nullable().default(null),
    /** What it takes beyond copying, as it was when it was added. */
    fetch: fetched.nullable().default(null),
  }),
  level: () => null,
  does: 'writes',
  action: 'project restored',
  phase: 'restoring',
  title: ({ only: part, handles: ranges }, { project, volume }) =>
    `Restore ${part ? `${onlyWords(part)}${ranges ? ', used ranges alone,' : ''} of ` : ''}${project ?? 'the project'} to ${volume ?? 'its volume'}`,
  undoing: () => 'the archive stays as it is',
  effect: ({ volumeId: to }, step) => ({ volumes: [{ volumeId: to, bytes: step.bytes }], carriers: [] }),
});
