// What a sealed archive lets go of: the originals it stands for, and what of its project stayed out of it, by kind; each with
// how replaceable it is. Together they are one choice, added to the plan as the steps it takes.
import { eq } from 'drizzle-orm';
import type { ArchiveId, Level, ProjectId } from '#core/model.ts';
import { type Group, GROUPS } from '#core/reclaim/worth.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { archives } from '../db/schema/archives.ts';
import { groupSums, lineKey, lines, type Scope } from '../reclaim/lines.ts';
import { Refused } from '../runtime/refused.ts';
import { NothingToAdd } from './adding.ts';
import { addChosenIn, type AddedSteps } from './chosen.ts';
import { addOriginalsRemovalIn, originalsSum } from './remove-originals.ts';

/** What goes together: one group of the project at one level. */
export interface Releasable {
  group: Group;
  level: Level;
  files: number;
  bytes: number;
}

export interface Release {
  originals: { files: number; bytes: number };
  parts: Releasable[];
}

/** All lines of a project, whatever their age: who releases it is done with it. What changes from now on stays. */
const MOST_LINES = 20_000;
const DAY_MS = 86_400_000;
const tomorrow = (now: Date): number => Math.floor(now.getTime() / DAY_MS) + 1;

const scopeOf = (projectId: number): Scope => ({ only: [], projectId: projectId as ProjectId, inWork: true });

/** Of what is left behind, what a verified copy exists of is the originals themselves; twins and folders are Reclaim's. */
const isOffered = ({ group, level }: { group: Group; level: Level }): boolean =>
  group !== 'same twice' && group !== 'empty folders' && !(group === 'left behind' && level === 2);

/** What may be released by an archive now, by what the last assessment says. */
export async function releaseOf(
  db: Db,
  { archiveId, projectId }: { archiveId: number; projectId: number },
): Promise<Release> {
  const [originals, sums] = await Promise.all([originalsSum(db, archiveId), groupSums(db, scopeOf(projectId))]);
  const parts: Releasable[] = [];
  for (const { group, byLevel, filesByLevel } of sums)
    for (const level of [0, 1, 2, 3] as const)
      if (byLevel[level] > 0 && isOffered({ group, level }))
        parts.push({ group, level, files: filesByLevel[level], bytes: byLevel[level] });
  return { originals, parts: parts.sort((a, b) => a.level - b.level || b.bytes - a.bytes) };
}

async function keysOf(db: Db, { group, level }: Releasable, { projectId, now }: { projectId: number; now: Date }) {
  const all = await lines(db, scopeOf(projectId), { group, cutDay: tomorrow(now), most: MOST_LINES });
  return all.filter((line) => line.level === level).map(lineKey);
}

export const releaseKey = ({ group, level }: { group: Group; level: Level }): string =>
  `${GROUPS.indexOf(group)}-${level}`;

export interface NewRelease {
  archiveId: ArchiveId;
  originals: boolean;
  /** As `releaseKey` says them. */
  parts: readonly string[];
  now: Date;
}

/** Adds all that was ticked to the plan, or nothing. */
export async function addRelease(db: Database, { archiveId, originals, parts, now }: NewRelease): Promise<AddedSteps> {
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  if (!archive) throw new Refused('There is no such archive. Nothing was added.');
  if (!originals && parts.length === 0) throw new Refused('Nothing is ticked, so nothing was added.');
  const { projectId } = archive;
  const offered = (await releaseOf(db, { archiveId, projectId })).parts;
  const chosen = parts.map((key) => offered.find((part) => releaseKey(part) === key));
  if (chosen.some((part) => part === undefined))
    throw new Refused('What was ticked is not offered any more. Nothing was added; look at it again.');
  const keys: string[] = [];
  for (const part of chosen) keys.push(...(await keysOf(db, part!, { projectId, now })));
  return inTransaction(db, async (tx) => {
    const sum = { files: 0, bytes: 0, steps: 0 };
    const add = (added: { files: number; bytes: number; steps?: number }) => {
      sum.files += added.files;
      sum.bytes += added.bytes;
      sum.steps += added.steps ?? 1;
    };
    if (originals) add(await addOriginalsRemovalIn(tx, archiveId, now));
    if (keys.length > 0)
      try {
        add(await addChosenIn(tx, { keys, cutDay: tomorrow(now), now }));
      } catch (error) {
        // Files that an earlier tick has already are no second step.
        if (!(error instanceof NothingToAdd) || sum.steps === 0) throw error;
      }
    return sum;
  });
}
