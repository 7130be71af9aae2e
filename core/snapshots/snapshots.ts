// Snapshots of project documents: what the house wants, what they are called, and what changed from one to the next, told
// from what the documents say and not from their text.
import { z } from 'zod';
import type { DocumentModel } from '../documents/model.ts';
import { counted, duration } from '../wording/amounts.ts';

export const snapshotRule = z.object({
  /** The volume that they go to; null: none are made. */
  volumeId: z.number().int().positive().nullable().default(null),
  /** Another volume that they go to as well; null: no second place. */
  alsoVolumeId: z.number().int().positive().nullable().default(null),
  /** Not oftener than that, and only where the document changed. */
  everyMinutes: z.number().int().min(1).max(10_080).default(15),
  /** The newest so many stay; then one an hour, a day, a week, a month for so many. */
  newest: z.number().int().min(1).max(10_000).default(20),
  hours: z.number().int().min(0).max(1000).default(24),
  days: z.number().int().min(0).max(1000).default(14),
  weeks: z.number().int().min(0).max(1000).default(8),
  months: z.number().int().min(0).max(1000).default(12),
});
export type SnapshotRule = z.infer<typeof snapshotRule>;

/** What a project wants otherwise than the house: how often, and how long; the places are the house's. */
export const projectSnapshots = snapshotRule
  .omit({ volumeId: true, alsoVolumeId: true })
  .extend({ isOff: z.boolean().default(false) });
export type ProjectSnapshots = z.infer<typeof projectSnapshots>;

/** The volumes that they go to, each with a line of its own. */
export const placesOf = ({ volumeId, alsoVolumeId }: SnapshotRule): number[] =>
  volumeId === null ? [] : alsoVolumeId === null ? [volumeId] : [volumeId, alsoVolumeId];

/** What a document says, as short as it takes to tell two of them apart. */
export interface Summary {
  timelines: { name: string; seconds: number }[];
  clips: number;
  media: number;
}

const MOST_TIMELINES = 300;

export const summaryOf = ({ timelines, clips, media }: DocumentModel): Summary => ({
  timelines: timelines.slice(0, MOST_TIMELINES).map(({ name, durationFrames, rate }) => ({
    name,
    seconds: rate.num > 0 ? (durationFrames * rate.den) / rate.num : 0,
  })),
  clips: clips.length,
  media: media.length,
});

/** Shorter changes are the rounding of rates. */
const LEAST_SECONDS = 0.001;

/** What is different in `now`, in short phrases, timelines first; empty where nothing of it is. */
export function changesBetween(before: Summary, now: Summary): string[] {
  const [was, is] = [before, now].map(({ timelines }) => new Map(timelines.map((one) => [one.name, one.seconds])));
  const phrases: string[] = [];
  for (const [name, seconds] of is!) {
    const old = was!.get(name);
    if (old === undefined) phrases.push(`${name} is new`);
    else if (Math.abs(seconds - old) > LEAST_SECONDS)
      phrases.push(`${name} is ${spell(Math.abs(seconds - old))} ${seconds > old ? 'longer' : 'shorter'}`);
  }
  for (const name of was!.keys()) if (!is!.has(name)) phrases.push(`${name} is gone`);
  return [...phrases, ...more('clip', now.clips - before.clips), ...more('media', now.media - before.media)];
}

const spell = (seconds: number): string => (seconds < 1 ? 'less than a second' : duration(seconds));

function more(what: 'clip' | 'media', by: number): string[] {
  if (by === 0) return [];
  const words = by > 0 ? 'more' : 'fewer';
  if (what === 'clip') return [counted(Math.abs(by), `${words} clip`, `${words} clips`)];
  return [counted(Math.abs(by), `${words} media file`, `${words} media files`)];
}

/** Of a time in microseconds: "2026-11-27 14.20.05 Z", which every file system takes and which sorts. */
export const stampOf = (us: number): string =>
  `${new Date(us / 1000).toISOString().slice(0, 19).replace('T', ' ').replaceAll(':', '.')} Z`;

const REFUSED = /[\\/:*?"<>|\p{Cc}]/gu;

/** Where a snapshot lies below the folder of all of them: by project, by document, by the time it was taken. */
export function snapshotPath(of: {
  projectId: number;
  project: string;
  fileId: number;
  name: string;
  takenUs: number;
  id: number;
}): string {
  const dot = of.name.lastIndexOf('.');
  const [stem, ending] = dot > 0 ? [of.name.slice(0, dot), of.name.slice(dot)] : [of.name, ''];
  const plain = (text: string, id: number) => `${text.replace(REFUSED, '_').slice(0, 60).trim() || 'unnamed'} ${id}`;
  const folder = `${plain(of.project, of.projectId)}/${plain(stem, of.fileId)}`;
  return `${folder}/${stampOf(of.takenUs)} ${of.id}${ending.replace(REFUSED, '_').slice(0, 20)}`;
}
