// Brings the facts to core's selection: which files a project has, which its timelines use, in which bins their clips
// lie. The archive lens, staging and running all ask here.
import { and, eq, inArray, isNull, or, type SQL, sql } from 'drizzle-orm';
import {
  type ArchiveScope,
  isNarrow,
  type LeftOut,
  type Others,
  partOf,
  type ProjectFile,
  selectForArchive,
  type Selection,
  USUAL_SCOPE,
} from '#core/archive/selection.ts';
import { KEPT_NAMES } from '#core/archive/names.ts';
import { handlesFor, type Kept, keptOf, keptStill, WHY_WHOLE } from '#core/archive/lengths.ts';
import { grouped } from '#core/grouped.ts';
import { type FileId, type Kind, KINDS, type ProjectId, type VolumeId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { unitsOf } from '#core/units/units.ts';
import { placeOfFile } from '#disk/paths.ts';
import type { Db } from '../db/connect.ts';
import { idList } from '../db/conditions.ts';
import { inSlices } from '../db/holdings.ts';
import { MEDIA_KINDS, usedFiles, usedMedia } from '../db/naming.ts';
import { type archiveFiles } from '../db/schema/archives.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents, media } from '../db/schema/documents.ts';
import { heldBy } from './base.ts';
import { type BinTree, binTree, clipNames, filesInBins } from './bins.ts';
import { addEncodings } from './encodings.ts';
import { lengthsOf, usedByTimelines } from './lengths.ts';
import { stepItems, type stepParts } from '../db/schema/plans.ts';
import { volumes } from '../db/schema/stores.ts';
import { volumeSums } from '../db/schema/sums.ts';

type Known = ProjectFile & Identity & { isWhole: boolean };
/** What says which file one is, beside its size and time. */
interface Identity {
  rawPath: Buffer | null;
  device: number | null;
  inode: number | null;
  changedUs: number | null;
}
export interface ProjectSelection extends Selection<Known> {
  /** Media the timelines use that is not found, and media that points out of every volume. */
  missing: number;
  outside: number;
  mediaTotal: number;
}

/** What an archive of the project would hold now. */
export async function projectSelection(
  db: Db,
  projectId: ProjectId,
  scope: ArchiveScope = USUAL_SCOPE,
  staged: Staged | null = null,
): Promise<ProjectSelection> {
  const tree = await binTree(db, projectId);
  const { all, others } = await projectFiles(db, projectId, { scope, tree });
  if (scope.handles) await addLengths(db, projectId, { files: all, scope, staged });
  if (Object.keys(scope.encode).length > 0)
    await addEncodings(db, projectId, {
      ...{ files: all, scope },
      staged: (file, now) => (staged ? asStaged(staged.get(file.fileId), now) : now),
    });
  const selection = selectForArchive(all, others, scope);
  const binsChosen = tree.idsIn(scope.bins);
  const [counts] = await db
    .select({
      total: sql`COUNT(*)`.mapWith(Number),
      missing: sql`COALESCE(SUM(${media.found} < GREATEST(${media.targets}, 1)), 0)`.mapWith(Number),
      outside: sql`COALESCE(SUM(${media.place} = 'outside'), 0)`.mapWith(Number),
    })
    .from(media)
    .innerJoin(documents, eq(documents.id, media.documentId))
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(and(eq(media.projectId, projectId), isNull(files.goneAt), isAsked(scope, binsChosen)));
  return {
    ...selection,
    missing: counts!.missing,
    outside: counts!.outside,
    mediaTotal: counts!.total,
  };
}

/** Media that were asked for: what chosen timelines use, what chosen bins hold; of all what any timeline uses. */
function isAsked(scope: ArchiveScope, binsChosen: readonly number[]): SQL | undefined {
  if (!isNarrow(scope)) return eq(media.used, true);
  const byTimelines = sql`${media.used} AND EXISTS (SELECT 1 FROM uses u JOIN timelines l ON l.id = u.timeline_id WHERE u.media_id = ${media.id} AND l.name IN ${scope.timelines.length > 0 ? [...scope.timelines] : [null]})`;
  const inBins = sql`EXISTS (SELECT 1 FROM clips c WHERE c.media_id = ${media.id} AND c.bin_id IN ${binsChosen.length > 0 ? [...binsChosen] : [0]})`;
  return or(byTimelines, inBins);
}

/** Files that timelines use and documents, one by one; of all else the sums, from the rollup. */
async function projectFiles(
  db: Db,
  projectId: ProjectId,
  { scope, tree }: { scope: ArchiveScope; tree: BinTree },
): Promise<{ all: Known[]; others: Others[] }> {
  const [usedByAll, byTimelines, filed, read, sums, usedByAny] = await Promise.all([
    usedFiles(db, projectId),
    scope.timelines.length > 0 ? usedByTimelines(db, projectId, scope) : new Set<number>(),
    filesInBins(db, projectId, tree),
    documentsOf(db, projectId, { scope, tree }),
    sumsByKind(db, projectId),
    db.execute(usedMedia([projectId])) as unknown as Promise<[{ id: number; kind: Kind; size_bytes: number }[]]>,
  ]);
  // What was chosen by its bin or one by one goes in whole, whatever timelines use of it.
  const whole = new Set([...scope.files, ...filed.inBins(scope.bins)]);
  const used = isNarrow(scope) ? new Set([...byTimelines, ...whole]) : usedByAll;
  const lent = usedByAny[0].filter((file) => !usedByAll.has(Number(file.id)));
  const documentFiles = new Map(read.map((document) => [document.id, document.name]));
  const rows: Living[] = [];
  for (const ids of inSlices([...new Set([...used, ...documentFiles.keys()])], 5000))
    rows.push(...(await living(db, ids)));
  const asked = await addAsked(db, projectId, { scope, rows, lent: new Set(lent.map((file) => Number(file.id))) });
  const clipped = scope.names === KEPT_NAMES ? null : await clipNames(db, projectId);
  const goesWith = await addCompanions(db, rows, documentFiles);
  const others = othersOf(projectId, { sums, rows, lent, asked });
  const all = rows.map((row) => ({
    goesWith: goesWith.get(row.fileId) as FileId | undefined,
    fileId: row.fileId as FileId,
    volumeId: row.volumeId as VolumeId,
    volume: row.volume,
    path: joinPath(row.folder, row.name),
    rawPath: placeOfFile(row).raw,
    name: row.name,
    sizeBytes: row.sizeBytes,
    modifiedUs: row.modifiedUs,
    device: row.device,
    inode: row.inode,
    changedUs: row.changedUs,
    kind: row.kind,
    used: used.has(goesWith.get(row.fileId) ?? row.fileId),
    isOwn: row.projectId === projectId,
    bins: filed.best.get(row.fileId) ?? [],
    isWhole: whole.has(row.fileId),
    clip: clipped?.names.get(row.fileId) ?? null,
    isStill: clipped?.stills.has(row.fileId) ?? false,
    asked: asked.get(goesWith.get(row.fileId) ?? row.fileId),
    isDocument: documentFiles.has(row.fileId),
    asItIs: !/\.otio$/i.test(documentFiles.get(row.fileId) ?? ''),
  }));
  return { all, others };
}

/** What the project has of each kind, from the rollup. */
const sumsByKind = (db: Db, projectId: ProjectId) =>
  db
    .select({
      kind: volumeSums.kind,
      files: sql`SUM(${volumeSums.files})`.mapWith(Number),
      bytes: sql`SUM(${volumeSums.bytes})`.mapWith(Number),
    })
    .from(volumeSums)
    .where(eq(volumeSums.projectId, projectId))
    .groupBy(volumeSums.kind);

interface Told {
  sums: Awaited<ReturnType<typeof sumsByKind>>;
  rows: readonly Living[];
  lent: readonly { id: number; kind: Kind; size_bytes: number }[];
  asked: ReadonlyMap<number, LeftOut>;
}

/** What it has besides the files that are told one by one. */
function othersOf(projectId: ProjectId, { sums, rows, lent, asked }: Told): Others[] {
  return sums.flatMap((sum): Others[] => {
    const own = rows.filter((row) => row.projectId === projectId && row.kind === sum.kind);
    const theirs = lent.filter((file) => file.kind === sum.kind && !asked.has(Number(file.id)));
    const lentBytes = theirs.reduce((bytes, file) => bytes + Number(file.size_bytes), 0);
    const { kind } = sum;
    return [
      {
        kind,
        files: sum.files - own.length - theirs.length,
        bytes: sum.bytes - own.reduce((bytes, row) => bytes + row.sizeBytes, 0) - lentBytes,
      },
      { kind, files: theirs.length, bytes: lentBytes, isLent: true },
    ];
  });
}

/** How much of each used file is kept. */
async function addLengths(
  db: Db,
  projectId: ProjectId,
  { files: all, scope, staged }: { files: readonly Known[]; scope: ArchiveScope; staged: Staged | null },
): Promise<void> {
  const used = all.filter((file) => file.used && !file.isDocument && file.goesWith === undefined && !file.isWhole);
  const lengths = await lengthsOf(db, projectId, {
    fileIds: used.map((file) => file.fileId),
    ...{ versions: scope.versions, timelines: scope.timelines },
  });
  for (const file of used) {
    const own = lengths.get(file.fileId);
    const isStill = own !== undefined && own.stills.length === own.uses.length;
    const handles = handlesFor(scope.handles, file.fileId);
    const length = isStill
      ? keptStill(own.stills, handles)
      : own
        ? keptOf(own.file, own.uses, handles)
        : { is: 'whole' as const, why: WHY_WHOLE.unread };
    file.kept = { length: staged ? asStaged(staged.get(file.fileId), length) : length, frames: own?.file.frames ?? 0 };
  }
}

/** What a step takes of files, by the file; of others the whole. */
export type Staged = ReadonlyMap<number, readonly (typeof stepParts.$inferSelect)[]>;

/** What was chosen counts, whatever the catalogue says by now. */
function asStaged(parts: ReturnType<Staged['get']>, now: Kept): Kept {
  const why = parts?.[0]?.whyWhole ?? null;
  if (!parts || why !== null) return { is: 'whole', why: why ?? (now.is === 'whole' ? now.why : null) };
  const [first] = parts;
  if (first!.encoding)
    return {
      ...{ is: 'encoded', as: first!.encoding, isSound: now.is === 'encoded' && now.isSound },
      bytes: first!.sizeBytes,
    };
  return {
    is: 'parts',
    parts: parts.map((part) => ({
      from: part.partFrom,
      to: part.partTo,
      bytes: part.sizeBytes,
      isExact: part.measured,
    })),
  };
}

/** A document that holds nothing of what was chosen is not chosen either. */
function holdsChosen({ timelines, files: chosen }: ArchiveScope, binsChosen: readonly number[]): SQL | undefined {
  const own = documents.id;
  return or(
    timelines.length > 0
      ? sql`EXISTS (SELECT 1 FROM timelines l WHERE l.document_id = ${own} AND l.name IN ${[...timelines]})`
      : undefined,
    binsChosen.length > 0
      ? sql`EXISTS (SELECT 1 FROM bins b WHERE b.document_id = ${own} AND b.id IN ${idList(binsChosen)})`
      : undefined,
    chosen.length > 0
      ? sql`EXISTS (SELECT 1 FROM media m JOIN media_targets t ON t.media_id = m.id WHERE m.document_id = ${own} AND t.file_id IN ${idList(chosen)})`
      : undefined,
  );
}

/** Documents that can be read, by the file each is. */
const documentsOf = (db: Db, projectId: ProjectId, { scope, tree }: { scope: ArchiveScope; tree: BinTree }) =>
  db
    .select({ id: documents.fileId, name: documents.name })
    .from(documents)
    .where(
      and(
        eq(documents.projectId, projectId),
        eq(documents.state, 'read'),
        scope.versions === 'newest' ? isNull(documents.supersededBy) : undefined,
        scope.rest === 'leaves' && isNarrow(scope) ? holdsChosen(scope, tree.idsIn(scope.bins)) : undefined,
      ),
    );

/** Adds what was asked for to the files that are told one by one. Gives as what each would have stayed out. */
async function addAsked(
  db: Db,
  projectId: ProjectId,
  { scope, rows, lent }: { scope: ArchiveScope; rows: Living[]; lent: ReadonlySet<number> },
): Promise<Map<number, LeftOut>> {
  const asked = new Map<number, LeftOut>();
  const told = new Set(rows.map((row) => row.fileId));
  for (const row of await askedFiles(db, projectId, scope)) {
    if (told.has(row.fileId)) continue;
    const part = lent.has(row.fileId) ? 'lent' : partOf(row.kind);
    if (!scope.parts.includes(part)) continue;
    asked.set(row.fileId, part);
    rows.push(row);
  }
  return asked;
}

/**
 * Adds sidecars, and the other pieces of a recording, of what is told already. Gives to each the file it goes with. Stills of a
 * sequence are each used by their number.
 */
async function addCompanions(db: Db, rows: Living[], read: ReadonlyMap<number, string>): Promise<Map<number, number>> {
  const goesWith = new Map<number, number>();
  const told = new Set(rows.map((row) => row.fileId));
  const inFolders = [...new Set(rows.filter((row) => !read.has(row.fileId)).map((row) => row.folderId))];
  for (const ids of inSlices(inFolders, 500)) {
    const beside = await db
      .select({ id: files.id, name: files.name, sizeBytes: files.sizeBytes, folderId: files.folderId })
      .from(files)
      .where(and(sql`${files.folderId} IN ${idList(ids)}`, isNull(files.goneAt)));
    for (const folder of grouped(beside, (file) => file.folderId).values())
      for (const unit of unitsOf(folder)) {
        if (unit.is !== 'spanned' && unit.is !== 'with sidecars') continue;
        const main = unit.files.find((file) => told.has(file.id) && !read.has(file.id));
        if (main) for (const file of unit.files) if (!told.has(file.id)) goesWith.set(file.id, main.id);
      }
  }
  for (const ids of inSlices([...goesWith.keys()], 5000)) rows.push(...(await living(db, ids)));
  return goesWith;
}

/** Own files of the kinds that parts of the scope are made of. */
async function askedFiles(db: Db, projectId: ProjectId, { parts }: ArchiveScope): Promise<Living[]> {
  const kinds = KINDS.filter((kind) =>
    parts.some((part) => part === partOf(kind) || (part === 'lent' && isMedia(kind))),
  );
  return kinds.length === 0 ? [] : livingWhere(db, and(eq(files.projectId, projectId), inArray(files.kind, kinds))!);
}

const isMedia = (kind: Kind) => (MEDIA_KINDS as readonly Kind[]).includes(kind);

/** Those of these files that are there. */
const living = (db: Db, ids: readonly number[]) => livingWhere(db, sql`${files.id} IN ${idList(ids)}`);

type Living = Awaited<ReturnType<typeof livingWhere>>[number];

/** Rows as they come: the builder makes an object of every field of every row, and there may be many thousands. */
async function livingWhere(db: Db, which: SQL) {
  const [rows] = (await db.execute(sql`
    SELECT ${files.id} AS fileId, ${files.folderId} AS folderId, ${files.volumeId} AS volumeId, ${volumes.name} AS volume, ${folders.path} AS folder,
      ${folders.rawPath} AS rawFolder, ${files.name} AS name, ${files.rawName} AS rawName, ${files.sizeBytes} AS sizeBytes, ${files.modifiedUs} AS modifiedUs,
      ${volumes.device} AS device, ${files.inode} AS inode, ${files.changedUs} AS changedUs, ${files.kind} AS kind, ${files.projectId} AS projectId
    FROM ${files} JOIN ${folders} ON ${folders.id} = ${files.folderId} JOIN ${volumes} ON ${volumes.id} = ${files.volumeId}
    WHERE ${which} AND ${files.goneAt} IS NULL`)) as unknown as [LivingRow[]];
  return rows;
}

interface LivingRow {
  fileId: number;
  folderId: number;
  volumeId: number;
  volume: string;
  folder: string;
  rawFolder: Buffer | null;
  name: string;
  rawName: Buffer | null;
  sizeBytes: number;
  modifiedUs: number;
  device: number | null;
  inode: number | null;
  changedUs: number | null;
  kind: Kind;
  projectId: number;
}

/** `partId` of what an earlier archive holds already. */
export type ArchiveFileRow = Omit<typeof archiveFiles.$inferInsert, 'archiveId' | 'partId'> & { partId?: number };

/** The files of a staged archive with their places in it. What was staged counts, with what it was then expected to be. */
export async function placedFiles(
  db: Db,
  { projectId, scope, baseId }: { projectId: ProjectId; scope: ArchiveScope; baseId: number | null },
  stepId: number,
  parts: Staged,
): Promise<ArchiveFileRow[]> {
  const staged = await db.select().from(stepItems).where(eq(stepItems.stepId, stepId));
  const expected = new Map(staged.map((item) => [item.fileId, item]));
  const selection = await projectSelection(db, projectId, scope, parts);
  const held = baseId === null ? null : await heldBy(db, baseId, selection.chosen);
  return selection.chosen.flatMap((file): ArchiveFileRow[] => {
    const item = expected.get(file.fileId);
    if (!item) return [];
    const there = held?.get(file.fileId);
    if (there?.every((row) => row.modifiedUs === item.modifiedUs))
      return there.map(({ id: _id, archiveId: _archive, ...row }) => row);
    const row = {
      volumeId: item.volumeId,
      fileId: item.fileId,
      path: item.path,
      rawPath: item.rawPath,
      sizeBytes: item.sizeBytes,
      modifiedUs: item.modifiedUs,
      device: item.device,
      inode: item.inode,
      changedUs: item.changedUs,
    };
    if (file.parts.length > 0)
      return file.parts.map(({ payloadPath, from, to, bytes, isExact }) => ({
        ...row,
        ...{
          role: 'part' as const,
          payloadPath,
          sizeBytes: bytes,
          ofBytes: item.sizeBytes,
          partFrom: from,
          partTo: to,
          measured: isExact,
        },
      }));
    if (file.encoding)
      return [
        {
          ...{ ...row, role: 'encoded' as const, encoding: file.encoding, payloadPath: file.payloadPath },
          ...{ sizeBytes: file.keptBytes, ofBytes: item.sizeBytes, measured: false },
        },
      ];
    const whole = { ...row, whyWhole: file.whyWhole };
    if (!file.originalPath) return [{ ...whole, role: 'media' as const, payloadPath: file.payloadPath }];
    return [
      { ...row, role: 'original document' as const, payloadPath: file.originalPath },
      { ...row, role: 'document' as const, payloadPath: file.payloadPath },
    ];
  });
}
