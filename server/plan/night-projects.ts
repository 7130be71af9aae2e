// Projects in work that are archived night after night, with their media: each night builds on the one before on its carrier,
// so that only what is new or changed is read and written, and after so many days everything once more.
import { isoDay } from '#core/house-time.ts';
import { and, eq, type SQL, sql } from 'drizzle-orm';
import { archiveFolderName } from '#core/archive/selection.ts';
import { grouped } from '#core/grouped.ts';
import type { ArchiveId, ProjectId } from '#core/model.ts';
import { baseOf, NIGHT_SCOPE, nightsToLetGo } from '#core/nights/project-nights.ts';
import { size } from '#core/wording/amounts.ts';
import { earlierArchives } from '../archives/base.ts';
import { letGo } from '../archives/keeping.ts';
import {
  type KeptNight,
  noteQuiet,
  noteRan,
  projectNights,
  quietOf,
  takeNight,
  takeThinning,
} from '../archives/project-nights.ts';
import type { ProjectSelection } from '../archives/selection.ts';
import { idList } from '../db/conditions.ts';
import type { Database, Db } from '../db/connect.ts';
import { archiveFiles, archiveParts, archives, copyParts } from '../db/schema/archives.ts';
import { projects } from '../db/schema/projects.ts';
import { Refused } from '../runtime/refused.ts';
import { begunMs } from '../site/night-hours.ts';
import { preparedArchive, stageArchive } from '../steps/archive.ts';
import { NIGHT_RULES } from './night.ts';
import { runAtOnce } from './plan.ts';

/** Begins every project whose turn it is, once a night. Gives how many archives were begun. */
export async function archiveAtNight(db: Database, now: Date): Promise<number> {
  const sinceMs = await begunMs(db, 'projects', now);
  if (sinceMs === null) return 0;
  let begun = 0;
  // Before anything is looked through: what changes meanwhile is seen the night after.
  const mark = await houseMark(db);
  for (const night of await projectNights(db)) {
    if (await takeThinning(db, night.projectId, { sinceMs, now })) await letNightsGo(db, night, now);
    if (night.state !== 'in work' || !(await takeNight(db, night.projectId, { sinceMs, now }))) continue;
    begun += Number(await runNight(db, night, { now, mark }));
  }
  return begun;
}

/** Nights that are not wanted any more, and in which nothing lies that one that stays needs: nothing is erased, they only count no more. */
export async function letNightsGo(db: Database, night: KeptNight, now: Date): Promise<number> {
  if (night.keepDays + night.allDays + night.weeklyDays === 0) return 0;
  const rows = await db
    .select()
    .from(archives)
    .where(and(...[eq(archives.projectId, night.projectId), eq(archives.night, true), eq(archives.state, 'sealed')]));
  const needs = await needsOf(
    db,
    rows.map((row) => row.id),
  );
  const nights = rows.map(({ id, folder, sealedAt }) => ({
    ...{ archiveId: id, folder, sealedMs: sealedAt!.getTime(), needs: needs.get(id) ?? [] },
  }));
  let gone = 0;
  for (const { archiveId, folder } of nightsToLetGo(nights, night, now.getTime()))
    try {
      await letGo(db, archiveId as ArchiveId, folder, { who: NIGHT_RULES, now });
      gone++;
    } catch (error) {
      // Under legal hold, kept until a day, under way: somebody wants it to stay.
      if (!(error instanceof Refused)) throw error;
    }
  return gone;
}

/** By archive, the earlier ones in which files of it lie. */
async function needsOf(db: Db, ids: readonly number[]): Promise<Map<number, number[]>> {
  if (ids.length === 0) return new Map();
  const [rows] = (await db.execute(sql`
    SELECT DISTINCT u.archive_id AS id, p.archive_id AS needs
    FROM (SELECT DISTINCT f.archive_id, f.part_id FROM archive_files f WHERE f.archive_id IN ${idList(ids)}) u
    JOIN archive_parts p ON p.id = u.part_id AND p.archive_id <> u.archive_id`)) as unknown as [
    { id: number; needs: number }[],
  ];
  return new Map(
    [...grouped(rows, (row) => Number(row.id))].map(([id, own]) => [id, own.map((row) => Number(row.needs))]),
  );
}

/**
 * How the catalogue stands, as one text: what readings found, when documents were read, and what people did. What the night does by itself
 * changes nothing that a night takes. Null while the last reading of a volume has not ended: it may find more, and leave no word of that
 * where it is killed.
 */
export async function houseMark(db: Db): Promise<string | null> {
  const [rows] = (await db.execute(sql`
    SELECT CONCAT_WS(' ',
      (SELECT CONCAT(id, ':', COALESCE(finished_at, '')) FROM readings WHERE finished_at IS NULL OR added + changed + gone > 0 ORDER BY id DESC LIMIT 1),
      (SELECT CONCAT(COUNT(*), ':', COALESCE(MAX(id), 0), ':', COALESCE(MAX(read_at), '')) FROM documents),
      (SELECT COALESCE(MAX(id), 0) FROM receipts WHERE who <> ${NIGHT_RULES})) AS mark,
      EXISTS (SELECT 1 FROM readings r WHERE r.finished_at IS NULL AND r.id = (SELECT MAX(s.id) FROM readings s WHERE s.volume_id = r.volume_id)) AS open`)) as unknown as [
    { mark: string; open: number }[],
  ];
  return Number(rows[0]!.open) > 0 ? null : rows[0]!.mark;
}

/** The night that has all of a project, where the house stands as it did when that was found; null where it has to be looked through. */
export async function quietFolder(
  db: Db,
  { projectId, carrierId, ...rule }: KeptNight,
  { now, mark }: Looking,
): Promise<string | null> {
  const quiet = mark === null ? null : await quietOf(db, projectId);
  if (quiet === null || quiet.mark !== mark) return null;
  const lacking = sql<number>`(SELECT COUNT(*) FROM archive_parts p WHERE p.archive_id = ${archives}.id
    AND NOT EXISTS (SELECT 1 FROM copy_parts c WHERE c.part_id = p.id AND c.carrier_id = ${carrierId} AND c.state = 'good'))`;
  const rows = await db
    .select({ id: archives.id, baseId: archives.baseId, folder: archives.folder, ...facts(lacking) })
    .from(archives)
    .where(and(...[eq(archives.projectId, projectId), eq(archives.night, true), eq(archives.state, 'sealed')]));
  if (rows.some((row) => row.lacking > 0)) return null;
  const chain = rows.map(({ id, sealedAt, ...row }) => ({ ...row, archiveId: id, sealedMs: sealedAt!.getTime() }));
  const base = baseOf(chain, { carrierId, ...rule }, now.getTime());
  return base?.folder === quiet.folder && base.gaps === 0 ? base.folder : null;
}

const facts = (lacking: SQL<number>) => ({
  ...{ sealedAt: archives.sealedAt, gaps: archives.gaps },
  lacking: lacking.mapWith(Number),
});

interface Looking {
  now: Date;
  mark: string | null;
}

const sameSince = (folder: string): string => `Nothing of it has changed since ${folder}, so nothing was written.`;

/** Begins one, where there is anything new. What came of it, or why nothing did, is noted with it. */
export async function runNight(db: Database, night: KeptNight, { now, mark }: Looking): Promise<boolean> {
  const { projectId } = night;
  const same = await quietFolder(db, night, { now, mark });
  if (same !== null) {
    await noteRan(db, projectId, { atMs: now.getTime(), said: sameSince(same) });
    return false;
  }
  const open = await unfinished(db, projectId);
  if (open !== null) {
    await noteRan(db, projectId, {
      atMs: now.getTime(),
      said: `${open} was not done when the night ended, and goes on.`,
    });
    return false;
  }
  let said: string;
  let isBegun = false;
  try {
    const base = await nightBase(db, night, now);
    const made = await nightArchive(db, night, { baseId: base?.archiveId ?? null, now });
    const { selection, held } = made;
    if (base && held && (await isAsBefore(db, base.archiveId, { selection, heldFiles: held.size }))) {
      said = sameSince(base.folder);
      if (mark !== null) await noteQuiet(db, projectId, { mark, folder: base.folder });
    } else {
      let bytes = 0;
      await runAtOnce(
        db,
        async (tx, planId) => {
          const { stepId, sums } = await stageArchive(tx, made, { now, planId });
          bytes = sums.bytes;
          return stepId;
        },
        { who: NIGHT_RULES, now },
      );
      isBegun = true;
      if (mark !== null) await noteQuiet(db, projectId, { mark, folder: made.params.folder });
      said = `Begun: ${size(bytes)} to write${base ? `, the rest lies in ${base.folder} and before` : ', everything anew'}.`;
    }
  } catch (error) {
    if (!(error instanceof Refused)) throw error;
    said = error.message;
  }
  await noteRan(db, projectId, { atMs: now.getTime(), said: said.slice(0, 500) });
  return isBegun;
}

/** A night that ended before it was written. */
async function unfinished(db: Db, projectId: ProjectId): Promise<string | null> {
  const [open] = await db
    .select({ folder: archives.folder })
    .from(archives)
    .where(and(eq(archives.projectId, projectId), eq(archives.night, true), eq(archives.state, 'writing')))
    .limit(1);
  return open?.folder ?? null;
}

async function nightArchive(
  db: Database,
  { projectId, carrierId }: KeptNight,
  { baseId, now }: { baseId: ArchiveId | null; now: Date },
) {
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  const day = isoDay(now.getTime());
  const asked = {
    ...{ projectId, carrierIds: [carrierId], scope: NIGHT_SCOPE, night: true },
    folder: `${archiveFolderName(project!.slug, day)}_night`,
  };
  try {
    return await preparedArchive(db, { ...asked, baseId });
  } catch (error) {
    // Nothing of it is the same any more: then all of it is new.
    if (baseId === null || !(error instanceof Refused)) throw error;
    return preparedArchive(db, { ...asked, baseId: null });
  }
}

/** The last night on this carrier, where the next may build on it. */
async function nightBase(db: Db, { projectId, carrierId, ...rule }: KeptNight, now: Date) {
  const whole = new Map(
    (await earlierArchives(db, projectId, { nights: true })).map((one) => [one.archiveId as number, one]),
  );
  if (whole.size === 0) return null;
  const rows = await db
    .selectDistinct({ id: archives.id, baseId: archives.baseId })
    .from(archives)
    .innerJoin(archiveParts, eq(archiveParts.archiveId, archives.id))
    .innerJoin(copyParts, eq(copyParts.partId, archiveParts.id))
    .where(
      and(
        ...[eq(archives.projectId, projectId), eq(archives.night, true), eq(archives.state, 'sealed')],
        ...[eq(copyParts.carrierId, carrierId), eq(copyParts.state, 'good')],
      ),
    );
  const chain = rows.flatMap(({ id, baseId }) => {
    const one = whole.get(id);
    return one ? [{ ...one, baseId }] : [];
  });
  return baseOf(chain, { carrierId, ...rule }, now.getTime());
}

/** All media lie in it as they are, and its documents are the same. */
async function isAsBefore(
  db: Db,
  baseId: number,
  { selection, heldFiles }: { selection: ProjectSelection; heldFiles: number },
): Promise<boolean> {
  const media = selection.chosen.filter((file) => !file.isDocument);
  if (media.length !== heldFiles) return false;
  const inIt = await db
    .selectDistinct({
      fileId: archiveFiles.fileId,
      sizeBytes: archiveFiles.sizeBytes,
      modifiedUs: archiveFiles.modifiedUs,
    })
    .from(archiveFiles)
    .where(and(eq(archiveFiles.archiveId, baseId), sql`${archiveFiles.fileId} <> 0`));
  const factsOf = ({ sizeBytes, modifiedUs }: { sizeBytes: number; modifiedUs: number }) =>
    `${sizeBytes} ${modifiedUs}`;
  const before = new Map(inIt.map((file) => [file.fileId, factsOf(file)]));
  // What left the project since is a change too.
  if (before.size !== selection.chosen.length) return false;
  return selection.chosen.every((file) => before.get(file.fileId) === factsOf(file));
}
