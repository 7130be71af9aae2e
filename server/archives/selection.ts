// Brings the facts to core's selection: which files a project has, which its timelines use, in which bins their clips
// lie. The archive lens, staging and running all ask here.
import { and, eq, isNull, or, type SQL, sql } from 'drizzle-orm';
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
import { type Facts, stagedBy } from './facts.ts';
import { lengthsOf, usedByTimelines } from './lengths.ts';
import { stepItems, type stepParts } from '../db/schema/plans.ts';
import { volumes } from '../db/schema/stores.ts';
import { volumeSums } from '../db/schema/sums.ts';

type Known = ProjectFile<Identity> & { isWhole: boolean };
/** What says which file one is, beside its size and time. */
export interface Identity {
  rawPath: Buffer | null;
  device: number | null;
  inode: number | null;
  changedUs: number | null;
}
export interface ProjectSelection extends Selection<Identity> {
  /** Media the timelines use that is not found, and media that points out of every volume. */
  missing: number;
  outside: number;
  mediaTotal: number;
}

/** What an archive of the project would hold now; `facts` are what the catalogue was asked before, where nothing changed since. */
export async function projectSelection(
  db: Db,
  projectId: ProjectId,
  scope: ArchiveScope = USUAL_SCOPE,
  { staged = null, facts = stagedBy(db, projectId) }: { staged?: Staged | null; facts?: Facts } = {},
): Promise<ProjectSelection> {
  const tree = await facts.of('bins', () => binTree(db, projectId));
  const of: Of = { db, projectId, scope, tree, facts };
  const { all, others } = await projectFiles(of);
  if (scope.handles) await addLengths(of, all, staged);
  if (Object.keys(scope.encode).length > 0)
    await addEncodings(db, projectId, {
      ...{ files: all, scope, facts },
      staged: (file, now) => (staged ? asStaged(staged.get(file.fileId), now) : now),
    });
  const selection = selectForArchive(all, others, scope);
  return { ...selection, ...(await mediaAsked(of)) };
}

/** What a selection is made of. */
interface Of {
  db: Db;
  projectId: ProjectId;
  scope: ArchiveScope;
  tree: BinTree;
  facts: Facts;
}

/** How many media were asked for, and how many of them are not there. */
function mediaAsked({ db, projectId, scope, tree, facts }: Of) {
  const { timelines, bins } = scope;
  return facts.of(JSON.stringify(['media', timelines, bins, isNarrow(scope)]), async () => {
    const [counts] = await db
      .select({
        mediaTotal: sql`COUNT(*)`.mapWith(Number),
        missing: sql`COALESCE(SUM(${media.found} < GREATEST(${media.targets}, 1)), 0)`.mapWith(Number),
        outside: sql`COALESCE(SUM(${media.place} = 'outside'), 0)`.mapWith(Number),
      })
      .from(media)
      .innerJoin(documents, eq(documents.id, media.documentId))
      .innerJoin(files, eq(files.id, documents.fileId))
      .where(and(eq(media.projectId, projectId), isNull(files.goneAt), isAsked(scope, tree.idsIn(bins))));
    return counts!;
  });
}

/** Media that were asked for: what chosen timelines use, what chosen bins hold; of all what any timeline uses. */
function isAsked(scope: ArchiveScope, binsChosen: readonly number[]): SQL | undefined {
  if (!isNarrow(scope)) return eq(media.used, true);
  const byTimelines = sql`${media.used} AND EXISTS (SELECT 1 FROM uses u JOIN timelines l ON l.id = u.timeline_id WHERE u.media_id = ${media.id} AND l.name IN ${scope.timelines.length > 0 ? [...scope.timelines] : [null]})`;
  const inBins = sql`EXISTS (SELECT 1 FROM clips c WHERE c.media_id = ${media.id} AND c.bin_id IN ${binsChosen.length > 0 ? [...binsChosen] : [0]})`;
  return or(byTimelines, inBins);
}

/** Files that timelines use and documents, one by one; of all else the sums, from the rollup. */
async function projectFiles(of: Of): Promise<{ all: Known[]; others: Others[] }> {
  const { db, projectId, scope, tree, facts } = of;
  const [usedByAll, byTimelines, filed, read, sums, lent] = await Promise.all([
    facts.of('used', () => usedFiles(db, projectId)),
    filesOfTimelines(of),
    facts.of('filed', () => filesInBins(db, projectId, tree)),
    documentsOf(of),
    facts.of('sums', () => sumsByKind(db, projectId)),
    facts.of('lent', () => lentFiles(of)),
  ]);
  // What was chosen by its bin or one by one goes in whole, whatever timelines use of it.
  const whole = new Set([...scope.files, ...filed.inBins(scope.bins)]);
  const used = isNarrow(scope) ? new Set([...byTimelines, ...whole]) : usedByAll;
  const documentFiles = new Map(read.map((document) => [document.id, document.name]));
  const rows = await living(of, new Set([...used, ...documentFiles.keys()]));
  const asked = await addAsked(of, rows, lent);
  const clipped = scope.names === KEPT_NAMES ? null : await facts.of('clips', () => clipNames(db, projectId));
  const goesWith = await addCompanions(of, rows, documentFiles);
  const others = othersOf(projectId, { sums, rows, lent, asked });
  const all = rows.map((row): Known => {
    const main = goesWith.get(row.fileId);
    const { known } = row;
    // Field by field: what is added to a copy of an object takes fifty times as long, and there may be many thousands.
    return {
      fileId: known.fileId,
      volumeId: known.volumeId,
      volume: known.volume,
      path: known.path,
      name: known.name,
      sizeBytes: known.sizeBytes,
      modifiedUs: known.modifiedUs,
      identity: known.identity,
      kind: known.kind,
      isOwn: known.isOwn,
      goesWith: main as FileId | undefined,
      used: used.has(main ?? row.fileId),
      bins: filed.best.get(row.fileId) ?? [],
      isWhole: whole.has(row.fileId),
      clip: clipped?.names.get(row.fileId) ?? null,
      isStill: clipped?.stills.has(row.fileId) ?? false,
      asked: asked.get(main ?? row.fileId),
      isDocument: documentFiles.has(row.fileId),
      asItIs: !/\.otio$/i.test(documentFiles.get(row.fileId) ?? ''),
    };
  });
  return { all, others };
}

const filesOfTimelines = ({ db, projectId, scope, facts }: Of): Promise<ReadonlySet<number>> =>
  scope.timelines.length === 0
    ? Promise.resolve(new Set<number>())
    : facts.of(JSON.stringify(['timelines', scope.timelines, scope.versions]), () =>
        usedByTimelines(db, projectId, scope),
      );

/** Own media that timelines of other projects alone use. */
async function lentFiles({ db, projectId, facts }: Of): Promise<Map<number, Lent>> {
  const [own, [byAny]] = await Promise.all([
    facts.of('used', () => usedFiles(db, projectId)),
    db.execute(usedMedia([projectId])) as unknown as Promise<[{ id: number; kind: Kind; size_bytes: number }[]]>,
  ]);
  return new Map(
    byAny.flatMap(({ id, kind, size_bytes }) =>
      own.has(Number(id)) ? [] : [[Number(id), { kind, bytes: Number(size_bytes) }] as const],
    ),
  );
}

interface Lent {
  kind: Kind;
  bytes: number;
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
  lent: ReadonlyMap<number, Lent>;
  asked: ReadonlyMap<number, LeftOut>;
}

/** What it has besides the files that are told one by one. */
function othersOf(projectId: ProjectId, { sums, rows, lent, asked }: Told): Others[] {
  const own = sumsOf(rows.flatMap(({ projectId: of, known }) => (of === projectId ? [known] : [])));
  const theirs = sumsOf(
    [...lent].flatMap(([id, { kind, bytes }]) => (asked.has(id) ? [] : [{ kind, sizeBytes: bytes }])),
  );
  const none = { files: 0, bytes: 0 };
  return sums.flatMap(({ kind, files: count, bytes }): Others[] => {
    const [told, away] = [own.get(kind) ?? none, theirs.get(kind) ?? none];
    return [
      { kind, files: count - told.files - away.files, bytes: bytes - told.bytes - away.bytes },
      { kind, ...away, isLent: true },
    ];
  });
}

function sumsOf(all: readonly { kind: Kind; sizeBytes: number }[]): Map<Kind, { files: number; bytes: number }> {
  const sums = new Map<Kind, { files: number; bytes: number }>();
  for (const { kind, sizeBytes } of all) {
    const sum = sums.get(kind) ?? { files: 0, bytes: 0 };
    sums.set(kind, { files: sum.files + 1, bytes: sum.bytes + sizeBytes });
  }
  return sums;
}

/** How much of each used file is kept. */
async function addLengths(
  { db, projectId, scope, facts }: Of,
  all: readonly Known[],
  staged: Staged | null,
): Promise<void> {
  const used = all.filter((file) => file.used && !file.isDocument && file.goesWith === undefined && !file.isWhole);
  const lengths = await lengthsOf(db, projectId, {
    fileIds: used.map((file) => file.fileId),
    ...{ versions: scope.versions, timelines: scope.timelines, facts },
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
      ...{ bytes: first!.sizeBytes, work: now.is === 'encoded' ? now.work : 0 },
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
function documentsOf({ db, projectId, scope, tree, facts }: Of) {
  const { versions, timelines, bins, files: chosen } = scope;
  const isPart = scope.rest === 'leaves' && isNarrow(scope);
  const key = JSON.stringify(['documents', versions, isPart && [timelines, bins, chosen]]);
  return facts.of(key, () =>
    db
      .select({ id: documents.fileId, name: documents.name })
      .from(documents)
      .where(
        and(
          eq(documents.projectId, projectId),
          eq(documents.state, 'read'),
          versions === 'newest' ? isNull(documents.supersededBy) : undefined,
          isPart ? holdsChosen(scope, tree.idsIn(bins)) : undefined,
        ),
      ),
  );
}

/** Adds what was asked for to the files that are told one by one. Gives as what each would have stayed out. */
async function addAsked(of: Of, rows: Living[], lent: ReadonlyMap<number, Lent>): Promise<Map<number, LeftOut>> {
  const asked = new Map<number, LeftOut>();
  const told = new Set(rows.map((row) => row.fileId));
  for (const row of await askedFiles(of)) {
    if (told.has(row.fileId)) continue;
    const part = lent.has(row.fileId) ? 'lent' : partOf(row.known.kind);
    if (!of.scope.parts.includes(part)) continue;
    asked.set(row.fileId, part);
    rows.push(row);
  }
  return asked;
}

/**
 * Adds sidecars, and the other pieces of a recording, of what is told already. Gives to each the file it goes with. Stills of a
 * sequence are each used by their number.
 */
async function addCompanions(of: Of, rows: Living[], read: ReadonlyMap<number, string>): Promise<Map<number, number>> {
  const goesWith = new Map<number, number>();
  const told = new Set(rows.map((row) => row.fileId));
  const inFolders = new Set(rows.flatMap((row) => (read.has(row.fileId) ? [] : [row.folderId])));
  for (const units of (await of.facts.byId('units', inFolders, (ids) => unitsIn(of.db, ids))).values())
    for (const unit of units) {
      const main = unit.find((id) => told.has(id) && !read.has(id));
      if (main !== undefined) for (const id of unit) if (!told.has(id)) goesWith.set(id, main);
    }
  rows.push(...(await living(of, goesWith.keys())));
  return goesWith;
}

/** By folder, the files of each recording in several pieces or with sidecars. */
async function unitsIn(db: Db, folderIds: readonly number[]): Promise<Map<number, number[][]>> {
  const found = new Map<number, number[][]>();
  for (const ids of inSlices(folderIds, 500)) {
    const beside = await db
      .select({ id: files.id, name: files.name, sizeBytes: files.sizeBytes, folderId: files.folderId })
      .from(files)
      .where(and(sql`${files.folderId} IN ${idList(ids)}`, isNull(files.goneAt)));
    for (const [folderId, own] of grouped(beside, (file) => file.folderId))
      found.set(
        folderId,
        unitsOf(own).flatMap((unit) =>
          unit.is === 'spanned' || unit.is === 'with sidecars' ? [unit.files.map((file) => file.id)] : [],
        ),
      );
  }
  return found;
}

/** Own files of the kinds that parts of the scope are made of. */
async function askedFiles({ db, projectId, scope: { parts }, facts }: Of): Promise<readonly Living[]> {
  const kinds = KINDS.filter((kind) =>
    parts.some((part) => part === partOf(kind) || (part === 'lent' && isMedia(kind))),
  );
  const own = await Promise.all(
    kinds.map((kind) =>
      facts.of(`kind ${kind}`, () =>
        livingWhere(db, projectId, and(eq(files.projectId, projectId), eq(files.kind, kind))!),
      ),
    ),
  );
  return own.flat();
}

const isMedia = (kind: Kind) => (MEDIA_KINDS as readonly Kind[]).includes(kind);

/** Those of these files that are there. */
async function living({ db, projectId, facts }: Of, fileIds: Iterable<number>): Promise<Living[]> {
  const known = await facts.byId('files', fileIds, async (all) => {
    const found = new Map<number, Living>();
    for (const ids of inSlices(all, 5000))
      for (const row of await livingWhere(db, projectId, sql`${files.id} IN ${idList(ids)}`))
        found.set(row.fileId, row);
    return found;
  });
  return [...known.values()];
}

/** A file that is there, as the catalogue knows it. */
interface Living {
  fileId: number;
  folderId: number;
  projectId: number | null;
  known: Pick<
    Known,
    'fileId' | 'volumeId' | 'volume' | 'path' | 'name' | 'sizeBytes' | 'modifiedUs' | 'kind' | 'isOwn' | 'identity'
  >;
}

/** Rows as they come: the builder makes an object of every field of every row, and there may be many thousands. */
async function livingWhere(db: Db, projectId: ProjectId, which: SQL): Promise<Living[]> {
  const [rows] = (await db.execute(sql`
    SELECT ${files.id} AS fileId, ${files.folderId} AS folderId, ${files.volumeId} AS volumeId, ${volumes.name} AS volume, ${folders.path} AS folder,
      ${folders.rawPath} AS rawFolder, ${files.name} AS name, ${files.rawName} AS rawName, ${files.sizeBytes} AS sizeBytes, ${files.modifiedUs} AS modifiedUs,
      ${volumes.device} AS device, ${files.inode} AS inode, ${files.changedUs} AS changedUs, ${files.kind} AS kind, ${files.projectId} AS projectId
    FROM ${files} JOIN ${folders} ON ${folders.id} = ${files.folderId} JOIN ${volumes} ON ${volumes.id} = ${files.volumeId}
    WHERE ${which} AND ${files.goneAt} IS NULL`)) as unknown as [LivingRow[]];
  return rows.map((row) => ({
    fileId: row.fileId,
    folderId: row.folderId,
    projectId: row.projectId,
    known: {
      fileId: row.fileId as FileId,
      volumeId: row.volumeId as VolumeId,
      volume: row.volume,
      path: joinPath(row.folder, row.name),
      name: row.name,
      sizeBytes: row.sizeBytes,
      modifiedUs: row.modifiedUs,
      identity: { rawPath: placeOfFile(row).raw, device: row.device, inode: row.inode, changedUs: row.changedUs },
      kind: row.kind,
      isOwn: row.projectId === projectId,
    },
  }));
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
  projectId: number | null;
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
  const selection = await projectSelection(db, projectId, scope, { staged: parts });
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
