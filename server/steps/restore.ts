// Bringing an archive back to a volume, under a name of its own: the chain of checksums is followed from the catalogue to
// every byte while copying, documents are pointed to where their media now lies, and the project is known again. Built in
// a private folder that carries this job's mark; a killed run goes on where it was, and nothing half-restored is ever seen.
import { keptRules } from '#core/kinds/kinds.ts';
import { and, eq, inArray, type SQL, sql } from 'drizzle-orm';
import type { Handles } from '#core/archive/lengths.ts';
import { type Fetch, isDear } from '#core/archive/fetching.ts';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { joinPath, relativePath } from '#core/paths.ts';
import type { Finding, StepSummary } from '#core/plan/plan.ts';
import { restoreArchive as kind } from '#core/steps/restore.ts';
import { listed } from '#core/wording/amounts.ts';
import { codeOf, isMissing, look } from '#disk/facts.ts';
import { freeBytesOf, isFolderOf, makeFolder, placeFolder, removeFolder } from '#disk/folders.ts';
import type { Root } from '#disk/root.ts';
import { removeOwn, renameNew } from '#disk/write.ts';
import type { Only } from '../archives/contents.ts';
import { fetchOf } from '../archives/fetching.ts';
import { awaitedBy } from '../archives/kin.ts';
import { type InRanges, rangesMeant } from '../archives/ranges.ts';
import { idList } from '../db/conditions.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { archiveCopies, archiveFiles, archives } from '../db/schema/archives.ts';
import { files } from '../db/schema/catalogue.ts';
import { keptKinds } from '../db/schema/projects.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import { volumes } from '../db/schema/stores.ts';
import { claim } from '../readings/claims.ts';
import { readDocuments } from '../readings/read-documents.ts';
import { readVolume } from '../readings/read-volume.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import type { Ending } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { COPYING, finishItems, type Item, type ItemWork, type Outcome, runItems } from '../runtime/run-items.ts';
import { tooSmall } from '../stores/look.ts';
import { allMounts } from '../stores/places.ts';
import { volumeFree } from '../stores/volume-free.ts';
import { addStep } from './adding.ts';
import { carriersAskedFor, finding, nameTaken as takenOn, readOnly, tooFull, unreachable } from './findings.ts';
import { bring, type Bringing, noneLeft, notThere, readable } from './from-copies.ts';
import { serverStep } from './kind.ts';
import { carriersToRead, lacksGood, PartSources, sourcesOf, type Wanted } from './part-sources.ts';
import { relinkDocuments } from './restored-documents.ts';
import { chooseRanges, cutInto, filesAsked, leftOut, placesOf, type Ranges, rangesOfStep } from './restored-ranges.ts';

export interface NewRestore {
  archiveId: ArchiveId;
  copyId: number;
  volumeId: VolumeId;
  folder: string;
  /** Only this of it; else all. */
  only?: Only | null;
  /** Of media that the named timelines use: those ranges alone, with so much around. */
  handles?: Handles | null;
  /** Documents get the paths that this station has to the volume; else those of this server. */
  station?: string | null;
  now: Date;
}

type Params = ReturnType<typeof kind.params.parse>;

const to = (volumeId: number) => ({ volumeIds: [volumeId], carrierIds: [] });

export interface RestoreWeight {
  files: number;
  bytes: number;
  /** Read for it, where it is not what is written: of a file that comes in ranges the whole is proved. */
  readBytes: number;
}

/** What would be written: of a relinked document the original beside it too. */
export async function restoreWeight(
  db: Db,
  { archiveId, only = null, handles = null }: Pick<NewRestore, 'archiveId' | 'only' | 'handles'>,
): Promise<RestoreWeight> {
  const meant = only && (await filesAsked(db, { archiveId, only, handles })).ids;
  const [written] = await db
    .select({
      files: sql`COUNT(*)`.mapWith(Number),
      bytes: sql`COALESCE(SUM(COALESCE(${archiveFiles.payloadBytes}, ${archiveFiles.sizeBytes})), 0)`.mapWith(Number),
    })
    .from(archiveFiles)
    .where(and(eq(archiveFiles.archiveId, archiveId), meant ? amongThem(meant) : undefined));
  const ranges = [...(await rangesOf(db, archiveId, { only, handles, meant })).values()];
  const { files, bytes } = written!;
  const sum = (of: (one: InRanges) => number) => ranges.reduce((n, one) => n + of(one), 0);
  return {
    files: files + sum((one) => one.parts.length - 1),
    bytes: bytes - sum((one) => one.wholeBytes - one.parts.reduce((n, part) => n + part.bytes, 0)),
    readBytes: bytes,
  };
}

interface RangesAsked {
  only: Only | null;
  handles: Handles | null;
  meant: readonly number[] | null;
}

const rangesOf = async (db: Db, archiveId: number, { only, handles, meant }: RangesAsked) =>
  only && handles && meant ? rangesMeant(db, archiveId, { only, handles, meant }) : new Map<number, InRanges>();

export async function addRestore(db: Database, asked: NewRestore): Promise<RestoreWeight> {
  const { archiveId, copyId, volumeId, folder, only = null, handles = null, station = null, now } = asked;
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  const [copy] = await db
    .select()
    .from(archiveCopies)
    .where(sql`${archiveCopies.id} = ${copyId} AND ${archiveCopies.archiveId} = ${archiveId}`);
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, volumeId));
  if (!archive || !copy || !volume)
    throw new Refused('The archive, its copy or the volume is not known. Nothing was added.');
  if (copy.state !== 'good')
    throw new Refused(
      `This copy of ${archive.name} is ${copy.state}, so it cannot be restored from. Nothing was added.`,
    );
  if (only && only.timelines.length + only.bins.length + only.files.length === 0)
    throw new Refused(
      'Nothing of it is chosen, so nothing was added. Choose a timeline, a bin or files, or all of it.',
    );
  if (handles && !only?.timelines.length)
    throw new Refused(
      'Used ranges alone are those of timelines, and none is chosen. Nothing was added. Choose a timeline.',
    );
  const fileIds = only && (await filesAsked(db, { archiveId, only, handles })).ids;
  const partIds = fileIds && (await partsHolding(db, fileIds));
  const wanted = { archiveId, copyId, partIds };
  if (lacksGood(await sourcesOf(db, wanted)))
    throw new Refused(
      `A part of what ${archive.name} holds has no good copy, so it cannot be brought back whole. Nothing was added.`,
    );
  const carrierIds = (await carriersToRead(db, { ...wanted, with: to(volumeId) })).needed as CarrierId[];
  const chosen = only && { timelines: [...only.timelines], bins: [...only.bins], files: [...only.files] };
  const { thawSeconds, cost, tapes } = await fetchFor(db, { ...wanted, fileIds });
  const fetch = { thawSeconds, cost, tapes: tapes.map(({ files: _files, ...tape }) => tape) };
  const from = { carrierId: carrierIds[0]!, carrierIds, partIds, fetch };
  const seenFrom = await mountOf(db, { volumeId, volume: volume.name, station });
  const params = { archiveId, copyId, volumeId, folder, only: chosen, handles, seenFrom, ...from };
  const { name: archived } = archive;
  const names = { volume: volume.name, project: archived };
  return inTransaction(db, async (tx) => {
    const stepId = await addStep(tx, { kind, params, names, now });
    const sum = await restoreWeight(tx, asked);
    await tx.update(steps).set({ files: sum.files, bytes: sum.bytes }).where(eq(steps.id, stepId));
    return sum;
  });
}

async function mountOf(
  db: Database,
  { volumeId, volume, station }: { volumeId: VolumeId; volume: string; station: string | null },
): Promise<Params['seenFrom']> {
  if (station === null) return null;
  const known = (await allMounts(db)).filter((mount) => mount.volumeId === volumeId);
  const mount = known.find((one) => one.station === station);
  if (!mount)
    throw new Refused(
      `It is not known where ${station} has ${volume}, so nothing was added. Known are: ${known.map((one) => one.station).join(', ') || 'none'}. Say where in Storage.`,
    );
  return { station, mount: mount.path };
}

/** The parts of the archive, or of the one it builds on, in which files lie. */
export async function partsHolding(db: Db, ids: readonly number[]): Promise<number[]> {
  const rows = await db.selectDistinct({ id: archiveFiles.partId }).from(archiveFiles).where(amongThem(ids));
  return rows.map((row) => row.id);
}

const amongThem = (ids: readonly number[]) => sql`${archiveFiles.id} IN ${idList([...ids, 0])}`;

interface Restoring extends Bringing {
  step: typeof steps.$inferSelect;
  folder: string;
  archive: typeof archives.$inferSelect;
  volume: typeof volumes.$inferSelect;
  only: Only | null;
  /** Files of which ranges alone come, by their numbers. */
  ranges: Ranges;
  /** Where stills of sequences lie in the archive that do not come. */
  stillsOut: readonly string[];
  seenFrom: Params['seenFrom'];
  root: Root | null;
  /** An earlier run gave it its name. */
  placed: boolean;
}

/** Half of it is never seen. */
const NOTHING_LEFT = {
  nothing: 'Nothing was restored.',
  full: 'The volume is full. What had been restored was taken away again; the archive is as it was. Free some space and restore again.',
};

async function open(
  context: JobContext,
  step: typeof steps.$inferSelect,
  params: ReturnType<typeof kind.params.parse>,
): Promise<Restoring> {
  const { db } = context;
  const [archive] = await db.select().from(archives).where(eq(archives.id, params.archiveId));
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, params.volumeId));
  if (!archive || !volume) throw new Error('The archive or volume of this job is not in the catalogue.');
  const held = context.job.params.carrierIds as number[] | undefined;
  const only = params.only && (await pathsOf(db, step.id));
  const sources = await PartSources.open(
    context,
    { ...params, only },
    (part) => held?.includes(part.carrierId) ?? part.copyId === params.copyId,
  );
  return {
    context,
    step,
    folder: params.folder,
    archive,
    volume,
    sources,
    ended: NOTHING_LEFT,
    only: params.only,
    ranges: await rangesOfStep(db, step.id, params),
    stillsOut: params.only ? [...(await filesAsked(db, { ...params, only: params.only })).stillsOut.values()] : [],
    seenFrom: params.seenFrom,
    root: null,
    placed: false,
  };
}

async function pathsOf(db: Db, stepId: number): Promise<ReadonlySet<string>> {
  const rows = await db.select({ path: stepItems.path }).from(stepItems).where(eq(stepItems.stepId, stepId));
  return new Set(rows.map((row) => `${PAYLOAD}/${row.path}`));
}

/** Everything that can be known before the first byte: the places, the room, the copy's own lists. */
async function prepare(restoring: Restoring): Promise<void> {
  const { context, volume, folder, step } = restoring;
  const checked = relativePath(folder);
  if (!checked.ok || checked.path !== folder)
    throw new Refused(`${folder} leads out of ${volume.name}, so nothing was restored. Choose another name.`);
  const root = await context.root(volume.id);
  if (!root) throw notThere(volume.name, NOTHING_LEFT.nothing);
  restoring.root = root;
  const built = await privateFolder(restoring);
  if (await isPlaced(restoring)) {
    restoring.placed = true;
    return;
  }
  if (isTaken(root, folder)) throw nameTaken(restoring);
  const begun = look(root.placeText(built)).is === 'folder';
  if (!begun) {
    const free = Math.min(await volumeFree(context.db, volume.id as VolumeId), freeBytesOf(root));
    const needed = step.bytes + roomBeside(restoring);
    if (free < needed) throw new Refused(tooSmall(volume.name, needed, free, 'restored'));
    // Begun for the first time, or after what was there went away: nothing that was written down of it counts.
    await context.transaction((tx) =>
      tx.update(stepItems).set({ state: 'waiting' }).where(eq(stepItems.stepId, step.id)),
    );
  }
  makeFolder(root, built);
  for (const partId of restoring.sources.partIds)
    if ((await readable(restoring, partId).next()).done) throw noneLeft(restoring);
}

const nameTaken = ({ volume, folder }: Restoring) =>
  new Refused(
    `${volume.name} has something named ${folder} already, and nothing is ever written over. Nothing was restored. Choose another name.`,
  );

/** Also where a link is on the way: nothing is restored behind one. */
function isTaken(root: Root, folder: string): boolean {
  try {
    return look(root.placeText(folder)).is !== 'gone';
  } catch (error) {
    if (isMissing(error)) return false;
    throw error;
  }
}

const privateFolder = async ({ context, step }: Restoring): Promise<string> =>
  (await context.names()).path('restore', step.id);

/** Which folder this job placed, from before it did: another of the same name is somebody else's. */
async function isPlaced({ context, root, folder }: Restoring): Promise<boolean> {
  const [job] = await context.db.select({ params: jobs.params }).from(jobs).where(eq(jobs.id, context.job.id));
  const known = job?.params.placing as { device: number; inode: number } | undefined;
  return known !== undefined && isFolderOf(root!, folder, known);
}

/** So many at once that the disk has files to flush while others are read; fewer where each of them needs room to be cut in. */
const besides = ({ sources, context, ranges }: Restoring): number =>
  sources.isWound ? 1 : (ranges.size > 0 ? 2 : 4) * context.pools.carriers.size;

/** While ranges are cut of them, files lie there whole: as many as are brought at once. */
const roomBeside = (restoring: Restoring): number =>
  [...restoring.ranges.values()]
    .map((one) => one.wholeBytes)
    .sort((a, b) => b - a)
    .slice(0, besides(restoring))
    .reduce((sum, bytes) => sum + bytes, 0);

async function restoreItems(restoring: Restoring, items: readonly Item[]): Promise<Outcome[]> {
  if (!restoring.placed) {
    const parts = await partsOf(restoring, items);
    const beside = besides(restoring);
    await inParallel(beside, items, (item) => restoreOne(restoring, item, parts.get(item.id)!));
  }
  return items.map((item) => ({ item, result: { done: true } }));
}

/** In which part each lies; restores from before that was written down go by the path. */
async function partsOf({ context, archive }: Restoring, items: readonly Item[]): Promise<Map<number, number>> {
  const ids = items.flatMap((item) => item.archiveFileId ?? []);
  const rows = await context.db
    .select({ id: archiveFiles.id, partId: archiveFiles.partId, path: archiveFiles.payloadPath })
    .from(archiveFiles)
    .where(
      ids.length === items.length
        ? inArray(archiveFiles.id, ids)
        : and(
            eq(archiveFiles.archiveId, archive.id),
            inArray(
              archiveFiles.payloadPath,
              items.map((item) => item.path),
            ),
          ),
    );
  const byPath = new Map(rows.map((row) => [row.path, row.partId]));
  return new Map(items.map((item) => [item.id, byPath.get(item.path)!]));
}

/** Brought under a private name; only then it gets its place in the private folder. */
async function restoreOne(restoring: Restoring, item: Item, partId: number): Promise<void> {
  const { context } = restoring;
  const root = restoring.root!;
  const { archiveFileId, path: at, modifiedUs } = item;
  const temporary = (await context.names()).place(root, 'copy', item.id);
  await bring(restoring, { archiveFileId, partId, at, temporary, modifiedUs });
  const { ranges } = restoring;
  const built = await privateFolder(restoring);
  if (archiveFileId !== null && ranges.has(archiveFileId))
    if (await cutInto(context, { root, built, item, temporary, ranges }).catch(fullSaid)) return removeOwn(temporary);
  const place = root.make(joinPath(built, at));
  removeOwn(place);
  renameNew(temporary, place);
}

/** A volume that is full while a range is cut is told as one that is full while a file is brought. */
function fullSaid(error: unknown): never {
  if (['ENOSPC', 'EDQUOT'].includes(codeOf(error))) throw new Refused(NOTHING_LEFT.full);
  throw error;
}

/** Gives the whole its name. Which folder it is, is written down first. */
async function place(restoring: Restoring): Promise<void> {
  const { context, folder } = restoring;
  const root = restoring.root!;
  const built = await privateFolder(restoring);
  const own = look(root.placeText(built));
  if (own.is !== 'folder') {
    await context.assertLease();
    throw new Refused('What had been restored was taken away meanwhile. Nothing was restored; restore again.');
  }
  const placing = isFolderOf(root, built);
  await context.transaction((tx) =>
    tx
      .update(jobs)
      .set({ params: { ...context.job.params, placing } })
      .where(eq(jobs.id, context.job.id)),
  );
  await context.assertLease();
  if (isTaken(root, folder)) throw nameTaken(restoring);
  placeFolder(root, built, folder);
  restoring.placed = true;
}

async function conclude(restoring: Restoring, ending: Ending): Promise<void> {
  const { context, volume, folder, archive } = restoring;
  if (ending.state !== 'done') return discard(restoring);
  if (!restoring.placed) {
    try {
      await relinkDocuments(restoring, await privateFolder(restoring));
      await place(restoring);
    } catch (error) {
      await context.assertLease();
      await discard(restoring);
      throw error;
    }
  }
  const { db, pools, stop, now } = context;
  const volumeId = volume.id as VolumeId;
  const path = context.pathOf(volumeId)!;
  context.rename('reading');
  await context.transaction(async (tx) => {
    await claim(tx, { projectId: archive.projectId as ProjectId, volumeId, folder, reason: 'restored here' });
    await keepKinds(tx, { archive, volumeId, folder, ranges: restoring.ranges });
  });
  const reading = await readVolume(db, pools.walk, volumeId, { stop, now, path });
  await readDocuments(db, pools.documents, volumeId, { now, reading, path });
}

/** What comes back is what it was, whatever the volume is for that it comes back to. */
async function keepKinds(
  tx: Transaction,
  { archive, volumeId, folder, ranges }: Pick<Restoring, 'archive' | 'folder' | 'ranges'> & { volumeId: VolumeId },
): Promise<void> {
  const sealed = await tx
    .select({ id: archiveFiles.id, path: archiveFiles.payloadPath, kind: files.kind })
    .from(archiveFiles)
    .innerJoin(files, eq(files.id, archiveFiles.fileId))
    .where(and(eq(archiveFiles.archiveId, archive.id), inArray(archiveFiles.role, ['media', 'part', 'encoded'])));
  const rules = keptRules(
    folder,
    sealed.flatMap(({ id, path, kind }) =>
      placesOf(ranges.get(id), path).map((place) => ({ path: joinPath(folder, place), kind })),
    ),
  );
  await tx.delete(keptKinds).where(and(eq(keptKinds.volumeId, volumeId), eq(keptKinds.folder, folder)));
  if (rules.length > 0)
    await tx
      .insert(keptKinds)
      .values({ volumeId, folder, rules, reason: `as it was sealed in the archive of ${archive.name}` });
}

async function discard(restoring: Restoring): Promise<void> {
  const { context, volume } = restoring;
  const root = restoring.root ?? (await context.root(volume.id));
  if (!root) return;
  await context.assertLease();
  removeFolder(root, await privateFolder(restoring));
  const names = await context.names();
  for (const item of await begunItems(restoring))
    for (const use of ['copy', 'cut'] as const) removeOwn(names.place(root, use, item.id));
}

const begunItems = ({ context, step }: Restoring) =>
  context.db.select({ id: stepItems.id }).from(stepItems).where(eq(stepItems.stepId, step.id));

const workOf = (restoring: Restoring): ItemWork => ({
  kind,
  ...COPYING,
  projectId: restoring.archive.projectId,
  prepare: async () => {
    await prepare(restoring);
    await tellWhatIsRead(restoring);
  },
  act: (items) => restoreItems(restoring, items),
  finishOrUndo: async (items) => items.map((item) => ({ item, result: null })),
  conclude: (ending) => conclude(restoring, ending),
  // What has no name on the volume was taken away again.
  takeBack: async (tx) => {
    if (!restoring.placed)
      await tx.update(stepItems).set({ state: 'waiting' }).where(eq(stepItems.stepId, restoring.step.id));
  },
  lastWords: async (_tx, tally, ending) => ({
    archiveId: restoring.archive.id,
    carrier: listed(restoring.sources.used),
    ...(restoring.sources.damages.length > 0 ? { damagedCopies: restoring.sources.damages } : {}),
    volume: restoring.volume.name,
    ...(restoring.seenFrom ? { pathsAsOn: restoring.seenFrom.station } : {}),
    ...(restoring.ranges.size > 0 && (ending.state === 'done' || restoring.placed)
      ? { bytes: tally.bytes - leftOut(restoring.ranges) }
      : {}),
    ...(ending.state === 'done' || restoring.placed ? { folder: restoring.folder } : {}),
  }),
});

/** Of a file that comes in ranges the whole is read: the work is told by that. */
async function tellWhatIsRead({ context, step, ranges }: Restoring): Promise<void> {
  if (ranges.size === 0) return;
  const bytes = (some?: SQL) =>
    context.db
      .select({ n: sql`COALESCE(SUM(${stepItems.sizeBytes}), 0)`.mapWith(Number) })
      .from(stepItems)
      .where(and(eq(stepItems.stepId, step.id), some));
  const [[all], [done]] = [await bytes(), await bytes(eq(stepItems.state, 'done'))];
  context.phase(kind.phase, 'bytes', all!.n, done!.n);
}

/** What it takes to have this here, from the carriers that come first. */
export async function fetchFor(
  db: Db,
  { archiveId, fileIds, ...wanted }: Wanted & { fileIds: readonly number[] | null },
): Promise<Fetch> {
  const sources = await sourcesOf(db, { archiveId, ...wanted });
  const parts = [...sources.values()].flatMap(([first]) => first ?? []);
  return fetchOf(db, archiveId, { parts, fileIds });
}

/** Of tapes that are wound less by the order in which they are read, how much; and what has to be brought up first. */
export function fetchFindings(step: StepSummary, fetch: Params['fetch']): Finding[] {
  if (!fetch) return [];
  const { tapes, thawSeconds, cost } = fetch;
  return [
    ...tapes
      .filter((tape) => tape.secondsAsAsked - tape.seconds >= 1)
      .map((tape) => finding(step, 'order of a tape', 'note', tape)),
    ...(isDear(fetch) ? [finding(step, 'brought up first', 'note', { thawSeconds, cost })] : []),
  ];
}

export const restoreArchive = serverStep({
  kind,
  async findings(db, step, { archiveId, carrierId, carrierIds, volumeId, folder, copyId, partIds, fetch }) {
    const [copy] = await db.select().from(archiveCopies).where(eq(archiveCopies.id, copyId));
    const [archive] = copy ? await db.select().from(archives).where(eq(archives.id, copy.archiveId)) : [];
    const findings = [
      ...(await unreachable(db, step, [volumeId])),
      ...(await readOnly(db, step, [volumeId])),
      ...(await carriersAskedFor(db, step, carrierIds.length > 0 ? carrierIds : [carrierId])),
      ...(await tooFull(db, step, { volumeId, neededBytes: step.bytes })),
      ...fetchFindings(step, fetch),
    ];
    const awaited = await awaitedBy(db, archiveId);
    if (awaited) findings.push(finding(step, 'lies elsewhere', 'note', { ...awaited }));
    if (copy?.state !== 'good')
      findings.push(
        finding(step, 'copy not good', 'stop', {
          archive: archive?.name ?? '',
          why: `The copy it would come from is ${copy?.state ?? 'not known'}.`,
        }),
      );
    else if (lacksGood(await sourcesOf(db, { archiveId, copyId, partIds })))
      findings.push(
        finding(step, 'copy not good', 'stop', {
          archive: archive?.name ?? '',
          why: 'A part of what it holds has no good copy any more.',
        }),
      );
    const taken = await takenOn(db, volumeId, folder);
    if (taken !== null) findings.push(finding(step, 'same name', 'stop', { name: folder, where: taken }));
    return findings;
  },
  async stores(tx, _step, params) {
    const { all } = await carriersToRead(tx, { ...params, with: to(params.volumeId) });
    return [
      { store: 'volume', id: params.volumeId, mode: 'change' },
      { store: 'catalogue', id: params.volumeId, mode: 'change' },
      ...all.map((id) => ({ store: 'carrier' as const, id, mode: 'look' as const })),
    ];
  },
  /** Every file that is brought back is an item, so that a run that goes on knows what is there. */
  async begin(tx, step, { archiveId, copyId, volumeId, only, handles, partIds }) {
    const meant = only && (await filesAsked(tx, { archiveId, only, handles })).ids;
    await chooseRanges(tx, step.id, await rangesOf(tx, archiveId, { only, handles, meant }));
    const insert = (which: SQL, order: SQL) =>
      tx.execute(sql`
        INSERT INTO step_items (step_id, volume_id, file_id, archive_file_id, path, size_bytes, modified_us)
        SELECT ${step.id}, ${volumeId}, 0, f.id, f.payload_path, COALESCE(f.payload_bytes, f.size_bytes), f.modified_us
        FROM archive_files f JOIN archive_parts p ON p.id = f.part_id WHERE f.archive_id = ${archiveId} ${which} ORDER BY ${order}`);
    // What lies on tapes comes in the order in which it winds least, and then the rest.
    const { order } = await fetchFor(tx, { archiveId, copyId, partIds, fileIds: meant });
    for (const some of inSlices(order, 1000))
      await insert(sql`AND f.id IN ${idList(some)}`, sql`FIELD(f.id, ${sql.raw(some.join(','))})`);
    const among = meant ? sql`AND f.id IN ${idList([...meant, 0])}` : sql``;
    const rest =
      order.length > 0
        ? sql`AND f.id NOT IN (SELECT i.archive_file_id FROM step_items i WHERE i.step_id = ${step.id})`
        : sql``;
    await insert(sql`${among} ${rest}`, sql`f.part_id, f.id`);
    return { carrierIds: (await carriersToRead(tx, { archiveId, copyId, partIds, with: to(volumeId) })).all };
  },
  run: async (context, step, params) => runItems(context, step, workOf(await open(context, step, params))),
  giveUp: async (context, step, params) =>
    finishItems(context, step, {
      work: workOf(await open(context, step, params)),
      ending: { state: 'failed', trouble: context.givenUp },
    }),
});
