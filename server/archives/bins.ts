// The bins of a project's documents, and which files clips in them are of: where media lies in an archive by bins, and what goes
// in where bins are chosen.
import { and, eq, inArray, isNotNull, isNull, sql } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { listed } from '#core/wording/amounts.ts';
import type { Db } from '../db/connect.ts';
import { files } from '../db/schema/catalogue.ts';
import { bins, clips, documents, media, mediaTargets } from '../db/schema/documents.ts';
import { Refused } from '../runtime/refused.ts';

export interface BinTree {
  /** Names from the outermost, by the number of the bin. */
  pathOf(id: number): string[];
  /** Every name there is, with '/' between; those of several documents once. */
  names: string[];
  /** Bins of these names, and all below them. */
  idsIn(names: readonly string[]): number[];
}

export async function binTree(db: Db, projectId: ProjectId): Promise<BinTree> {
  const all = await db
    .select({ id: bins.id, parentId: bins.parentId, name: bins.name })
    .from(bins)
    .innerJoin(documents, eq(documents.id, bins.documentId))
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(and(eq(documents.projectId, projectId), isNull(files.goneAt)));
  const byId = new Map(all.map((bin) => [bin.id, bin]));
  const paths = new Map<number, string[]>();
  const pathOf = (id: number): string[] => {
    const known = paths.get(id);
    if (known) return known;
    const path: string[] = [];
    for (let at = byId.get(id); at; at = at.parentId === null ? undefined : byId.get(at.parentId))
      path.unshift(at.name);
    paths.set(id, path);
    return path;
  };
  const name = (id: number) => pathOf(id).join('/');
  return {
    pathOf,
    names: [...new Set(all.map(({ id }) => name(id)))].sort(),
    idsIn: (names) => all.map(({ id }) => id).filter((id) => isIn(name(id), names)),
  };
}

const isIn = (path: string, names: readonly string[]) =>
  names.some((one) => path === one || path.startsWith(`${one}/`));

export interface Filed {
  /** For every file, the path of the bin that holds a clip of it; the first by name where there are several. */
  best: Map<number, string[]>;
  /** Files of clips in these bins or below. */
  inBins(names: readonly string[]): number[];
}

export async function filesInBins(db: Db, projectId: ProjectId, { pathOf }: BinTree): Promise<Filed> {
  // Plain rows: a project may have many thousands of clips.
  const [rows] = (await db.execute(sql`
    SELECT t.file_id AS fileId, c.bin_id AS binId FROM documents o JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL
    JOIN clips c ON c.document_id = o.id AND c.bin_id IS NOT NULL JOIN media_targets t ON t.media_id = c.media_id AND t.file_id IS NOT NULL
    WHERE o.project_id = ${projectId}`)) as unknown as [{ fileId: number; binId: number }[]];
  const names = new Map<string[], string>();
  const named = (path: string[]): string => {
    const known = names.get(path) ?? path.join('/');
    names.set(path, known);
    return known;
  };
  const best = new Map<number, string[]>();
  for (const row of rows) {
    const path = pathOf(row.binId);
    const known = best.get(row.fileId);
    if (!known || (known !== path && named(path) < named(known))) best.set(row.fileId, path);
  }
  return {
    best,
    inBins: (wanted) =>
      wanted.length === 0 ? [] : rows.flatMap((row) => (isIn(named(pathOf(row.binId)), wanted) ? [row.fileId] : [])),
  };
}

/** Throws Refused in a sentence where one is not known. */
export async function checkBins(db: Db, projectId: ProjectId, names: readonly string[]): Promise<void> {
  if (names.length === 0) return;
  const { names: known } = await binTree(db, projectId);
  const unknown = names.filter((name) => !known.includes(name));
  if (unknown.length > 0)
    throw new Refused(
      `There is no bin named ${listed(unknown)}. Known are: ${known.join(', ') || 'none'}. Nothing was added.`,
    );
}

/** Files of these clips of a project. */
export async function filesOfClips(db: Db, projectId: ProjectId, clipIds: readonly number[]): Promise<number[]> {
  if (clipIds.length === 0) return [];
  const rows = await db
    .selectDistinct({ id: mediaTargets.fileId })
    .from(clips)
    .innerJoin(mediaTargets, eq(mediaTargets.mediaId, clips.mediaId))
    .innerJoin(documents, eq(documents.id, clips.documentId))
    .where(and(eq(documents.projectId, projectId), inArray(clips.id, [...clipIds]), isNotNull(mediaTargets.fileId)))
    .limit(5000);
  return rows.map((row) => row.id!);
}

export interface ClipNames {
  /** The name of a clip of each file; the first where several have one. */
  names: Map<number, string>;
  /** Files that are stills of a sequence. */
  stills: Set<number>;
}

export async function clipNames(db: Db, projectId: ProjectId): Promise<ClipNames> {
  const rows = await db
    .select({
      fileId: mediaTargets.fileId,
      name: sql<string | null>`MIN(NULLIF(${clips.name}, ''))`,
      isStill: sql`MAX(${media.stills} IS NOT NULL)`.mapWith(Boolean),
    })
    .from(media)
    .innerJoin(mediaTargets, eq(mediaTargets.mediaId, media.id))
    .innerJoin(documents, eq(documents.id, media.documentId))
    .innerJoin(files, eq(files.id, documents.fileId))
    .leftJoin(clips, eq(clips.mediaId, media.id))
    .where(and(eq(media.projectId, projectId), isNull(files.goneAt), isNotNull(mediaTargets.fileId)))
    .groupBy(mediaTargets.fileId);
  return {
    names: new Map(rows.flatMap((row) => (row.name === null ? [] : [[row.fileId!, row.name] as const]))),
    stills: new Set(rows.flatMap((row) => (row.isStill ? [row.fileId!] : []))),
  };
}
