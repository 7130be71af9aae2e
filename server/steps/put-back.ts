// Putting what an archive holds back where it was: each file is brought under a private name of its own volume, proved, and
// then gets its old name, where nothing has it. What is there and reads as it was sealed is left; what is there and is
// something else stays too, and is told. What was put back is whole at any moment, so that it stays however the work ends.
import { and, eq, inArray, type SQL, sql } from 'drizzle-orm';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import type { ArchiveId, CarrierId, VolumeId } from '#core/model.ts';
import { putBack as kind } from '#core/steps/put-back.ts';
import { folderOf, liesIn } from '#core/paths.ts';
import { counted, listed } from '#core/wording/amounts.ts';
import { sumFile } from '#disk/content/content.ts';
import { codeOf, isMissing, look } from '#disk/facts.ts';
import { OutsideError } from '#disk/paths.ts';
import type { Held, ItemResult } from '#disk/remove.ts';
import type { Root } from '#disk/root.ts';
import { removeOwn, renameNew } from '#disk/write.ts';
import { filesMeant, type Only } from '../archives/contents.ts';
import { idList } from '../db/conditions.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { archiveCopies, archiveFiles, archives } from '../db/schema/archives.ts';
import { folders } from '../db/schema/catalogue.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import { readDocuments } from '../readings/read-documents.ts';
import { readVolume } from '../readings/read-volume.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import { Refused } from '../runtime/refused.ts';
import {
  besideEachOther,
  COPYING,
  finishItems,
  type Item,
  type ItemWork,
  type Outcome,
  runItems,
  type Step,
} from '../runtime/run-items.ts';
import { addStep } from './adding.ts';
import { carriersAskedFor, finding, readOnly, tooFull, unreachable } from './findings.ts';
import { bring, type Bringing } from './from-copies.ts';
import { serverStep } from './kind.ts';
import { carriersToRead, lacksGood, PartSources, sourcesOf } from './part-sources.ts';
import { fetchFindings, fetchFor, partsHolding } from './restore.ts';

type Params = ReturnType<typeof kind.params.parse>;

export interface NewPutBack {
  archiveId: ArchiveId;
  copyId: number;
  only?: Only | null;
  now: Date;
}

/** What can go back: originals as they were, on volumes that are in use. Of archive files a and volumes v. */
const PLACED = sql`archive_files a JOIN volumes v ON v.id = a.volume_id AND v.retired_at IS NULL`;
const WHOLE = sql`a.role IN ('media', 'original document')`;
/** It is there as the catalogue has it; when it runs, it is read. */
const THERE = sql`EXISTS (SELECT 1 FROM files f WHERE f.id = a.file_id AND f.gone_at IS NULL AND f.size_bytes = a.size_bytes AND ABS(f.modified_us - a.modified_us) <= 2)`;

const among = (ids: readonly number[] | null): SQL => (ids ? sql`AND a.id IN ${idList([...ids, 0])}` : sql``);

export interface PutBackSum {
  files: number;
  bytes: number;
  there: { files: number; bytes: number };
  /** Of those, what lies on the volumes to which something comes. */
  beside: { files: number; bytes: number };
  without: { cut: number; noPlace: number };
  volumes: { volumeId: VolumeId; volume: string; bytes: number; files: number }[];
}

/** What would come back to which volume, what is there, and what cannot go back. */
export async function putBackSum(
  db: Db,
  { archiveId, only = null }: Pick<NewPutBack, 'archiveId' | 'only'>,
): Promise<PutBackSum> {
  const meant = only && (await filesMeant(db, archiveId, only));
  const [rows] = (await db.execute(sql`
    SELECT a.volume_id AS volumeId, v.name AS volume, ${THERE} AS isThere, COUNT(*) AS files, SUM(a.size_bytes) AS bytes
    FROM ${PLACED} WHERE a.archive_id = ${archiveId} AND ${WHOLE} ${among(meant)} GROUP BY 1, 2, 3 ORDER BY 2`)) as unknown as [
    { volumeId: number; volume: string; isThere: number; files: number; bytes: number }[],
  ];
  const [[without]] = (await db.execute(sql`
    SELECT COUNT(DISTINCT IF(a.role IN ('part', 'encoded'), a.file_id, NULL)) AS cut, COUNT(DISTINCT IF(${WHOLE} AND v.id IS NULL, a.id, NULL)) AS noPlace
    FROM archive_files a LEFT JOIN volumes v ON v.id = a.volume_id AND v.retired_at IS NULL
    WHERE a.archive_id = ${archiveId} ${among(meant)}`)) as unknown as [[{ cut: number; noPlace: number }]];
  const sum = (of: typeof rows) => ({
    files: of.reduce((n, row) => n + Number(row.files), 0),
    bytes: of.reduce((n, row) => n + Number(row.bytes), 0),
  });
  const [missing, there] = [rows.filter((row) => !Number(row.isThere)), rows.filter((row) => Number(row.isThere))];
  return {
    ...sum(missing),
    there: sum(there),
    beside: sum(there.filter((row) => missing.some((one) => one.volumeId === row.volumeId))),
    without: { cut: Number(without.cut), noPlace: Number(without.noPlace) },
    volumes: missing.map((row) => ({
      ...{ volumeId: Number(row.volumeId) as VolumeId, volume: row.volume },
      ...{ files: Number(row.files), bytes: Number(row.bytes) },
    })),
  };
}

/** Adds putting an archive, or what is chosen of it, back where it was. */
export async function addPutBack(
  db: Database,
  { archiveId, copyId, only = null, now }: NewPutBack,
): Promise<{ files: number; bytes: number }> {
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  const [copy] = await db
    .select()
    .from(archiveCopies)
    .where(and(eq(archiveCopies.id, copyId), eq(archiveCopies.archiveId, archiveId)));
  if (!archive || copy?.state !== 'good')
    throw new Refused('The archive is not known, or has no such good copy. Nothing was added.');
  const { name } = archive;
  const sum = await putBackSum(db, { archiveId, only });
  if (sum.files === 0) throw new Refused(nothingToDo(name, sum));
  const fileIds = only && (await filesMeant(db, archiveId, only));
  const partIds = fileIds && (await partsHolding(db, fileIds));
  const wanted = { archiveId, copyId, partIds };
  if (lacksGood(await sourcesOf(db, wanted)))
    throw new Refused(
      `A part of what ${name} holds has no good copy, so it cannot be put back whole. Nothing was added.`,
    );
  const to = { volumeIds: sum.volumes.map((one) => one.volumeId), carrierIds: [] };
  const { thawSeconds, cost, tapes } = await fetchFor(db, { ...wanted, fileIds });
  const params: Params = {
    ...{ archiveId, copyId, partIds, there: sum.beside, without: sum.without },
    carrierIds: (await carriersToRead(db, { ...wanted, with: to })).needed as CarrierId[],
    only: only && { timelines: [...only.timelines], bins: [...only.bins], files: [...only.files] },
    volumes: sum.volumes.map(({ volumeId, bytes }) => ({ volumeId, bytes })),
    fetch: { thawSeconds, cost, tapes: tapes.map(({ files: _files, ...tape }) => tape) },
  };
  return inTransaction(db, async (tx) => {
    const stepId = await addStep(tx, { kind, params, names: { project: name }, now });
    await tx.update(steps).set({ files: sum.files, bytes: sum.bytes }).where(eq(steps.id, stepId));
    return { files: sum.files, bytes: sum.bytes };
  });
}

function nothingToDo(name: string, { there, without }: PutBackSum): string {
  if (there.files > 0) return `All of ${name} that can go back is there already. Nothing was added.`;
  const why = whyWithout(without);
  return `Nothing of ${name} can go back where it was${why ? `: ${why}` : ''}. Restore it to a folder of its own. Nothing was added.`;
}

const whyWithout = ({ cut, noPlace }: Params['without']): string =>
  listed([
    ...(cut > 0 ? [`${counted(cut, 'file')} ${cut === 1 ? 'is' : 'are'} cut to what was used`] : []),
    ...(noPlace > 0 ? [`the volume of ${counted(noPlace, 'file')} is not in use`] : []),
  ]);

interface Putting extends Bringing {
  step: Step;
  archive: typeof archives.$inferSelect;
  params: Params;
}

async function open(context: JobContext, step: Step, params: Params): Promise<Putting> {
  const { db } = context;
  const [archive] = await db.select().from(archives).where(eq(archives.id, params.archiveId));
  if (!archive) throw new Error('The archive of this job is not in the catalogue.');
  const held = context.job.params.carrierIds as number[] | undefined;
  const [needed] = (await db.execute(
    sql`SELECT a.payload_path AS at FROM step_items i JOIN archive_files a ON a.id = i.archive_file_id WHERE i.step_id = ${step.id}`,
  )) as unknown as [{ at: string }[]];
  const sources = await PartSources.open(
    context,
    { ...params, only: new Set(needed.map((row) => `${PAYLOAD}/${row.at}`)) },
    (part) => held?.includes(part.carrierId) ?? part.copyId === params.copyId,
  );
  return { context, step, params, archive, sources, ended: STAYS };
}

const STAYS = {
  nothing: 'What was put back until then stays, each file of it whole.',
  full: 'A volume is full. What was put back until then stays, each file of it whole; the archive is as it was. Free some space and add it to the plan again.',
};

async function putItems(putting: Putting, items: readonly Item[]): Promise<Outcome[]> {
  const { context, sources } = putting;
  const ids = items.map((item) => item.archiveFileId!);
  const rows = await context.db.select().from(archiveFiles).where(inArray(archiveFiles.id, ids));
  const sealed = new Map(rows.map((row) => [row.id, row]));
  const outcomes: Outcome[] = [];
  const beside = sources.isWound ? 1 : besideEachOther(context.pools.carriers.size, items);
  await inParallel(beside, items, async (item) => {
    context.check();
    outcomes.push({ item, result: await putOne(putting, item, sealed.get(item.archiveFileId!)!) });
  });
  return outcomes;
}

const held = (reason: Held['reason'], detail?: string): Held => ({ done: false, reason, detail });

async function putOne(putting: Putting, item: Item, sealed: typeof archiveFiles.$inferSelect): Promise<ItemResult> {
  const { context } = putting;
  const root = await context.root(item.volumeId);
  if (!root) return held('unreachable');
  const inside = { path: item.path, raw: item.rawPath };
  try {
    const there = await whatIsThere(putting, { root, item, sealed });
    if (there) return there;
    const temporary = (await context.names()).place(root, 'copy', item.id);
    const { partId, payloadPath: at } = sealed;
    await bring(putting, { archiveFileId: sealed.id, partId, at, temporary, modifiedUs: item.modifiedUs });
    try {
      await context.assertLease();
      renameNew(temporary, root.makeFor(inside));
    } catch (error) {
      removeOwn(temporary);
      if (codeOf(error) !== 'EEXIST') throw error;
      return held('name taken');
    }
    return { done: true };
  } catch (error) {
    if (error instanceof OutsideError) return held('outside');
    // A file lies where a folder was, or the system refuses it.
    if (codeOf(error) === 'ENOTDIR') return held('name taken');
    if (['EACCES', 'EPERM', 'EROFS'].includes(codeOf(error))) return held('not permitted', codeOf(error));
    throw error;
  }
}

interface There {
  root: Root;
  item: Item;
  sealed: typeof archiveFiles.$inferSelect;
}

/** Null where nothing has its name. What reads as it was sealed is left as it is; anything else has its name for good. */
async function whatIsThere({ context }: Putting, { root, item, sealed }: There): Promise<ItemResult | null> {
  let place: string | Buffer;
  try {
    place = root.place({ path: item.path, raw: item.rawPath });
  } catch (error) {
    if (isMissing(error) && codeOf(error) === 'ENOENT') return null;
    throw error;
  }
  const facts = look(place);
  if (facts.is === 'gone') return null;
  if (facts.is !== 'file' || facts.sizeBytes !== sealed.sizeBytes) return held('name taken');
  try {
    const options = { expected: facts, sha512: sealed.xxh64 === null, stop: context.stop };
    const sum = await sumFile(context.pools.content, place, options);
    const isSame = sealed.xxh64 === null ? sum.sha512 === sealed.sha512 : sum.xxh64 === sealed.xxh64;
    // One that an earlier run of this work began may be its own.
    if (isSame) return { done: true, ...(item.state === 'waiting' ? { detail: THERE_ALREADY } : {}) };
  } catch (error) {
    if (codeOf(error) === 'stopped') throw error;
  }
  return held('name taken');
}

export const THERE_ALREADY = 'there already';

/** What was brought and has no name yet is ours, and goes; what has got its name counts. */
async function finishOrUndo({ context }: Putting, items: readonly Item[]): ReturnType<ItemWork['finishOrUndo']> {
  const names = await context.names();
  const ended: Awaited<ReturnType<ItemWork['finishOrUndo']>> = [];
  for (const item of items) {
    const root = await context.root(item.volumeId);
    if (root) {
      await context.assertLease();
      removeOwn(names.place(root, 'copy', item.id));
    }
    ended.push({ item, result: root && isInPlace(root, item) ? { done: true } : null });
  }
  return ended;
}

/** A time that is given to a file is rounded to what a double of seconds holds. */
const NEAR_US = 2;

/** By its size and the time that it was given with its name. */
function isInPlace(root: Root, { path, rawPath: raw, sizeBytes, modifiedUs }: Item): boolean {
  try {
    const facts = look(root.place({ path, raw }));
    return facts.is === 'file' && facts.sizeBytes === sizeBytes && Math.abs(facts.modifiedUs - modifiedUs) <= NEAR_US;
  } catch {
    return false;
  }
}

/** What was put back is known again. */
async function conclude({ context, step }: Putting): Promise<void> {
  const { db, pools, stop, now } = context;
  const rows = await db
    .select({ volumeId: stepItems.volumeId, path: stepItems.path })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, step.id), eq(stepItems.state, 'done')));
  for (const volumeId of new Set(rows.map((row) => row.volumeId as VolumeId))) {
    const path = context.pathOf(volumeId);
    if (path === null) continue;
    const folder = await commonFolder(
      db,
      volumeId,
      rows.filter((row) => row.volumeId === volumeId).map((row) => folderOf(row.path)),
    );
    context.rename('reading');
    const reading = await readVolume(db, pools.walk, volumeId, { stop, now, path, ...(folder ? { folder } : {}) });
    await readDocuments(db, pools.documents, volumeId, { now, reading, path });
  }
}

/** The deepest folder that the catalogue knows above all of them; null for the whole volume. */
async function commonFolder(db: Db, volumeId: number, all: readonly string[]): Promise<string | null> {
  let common = all[0] ?? '';
  for (const one of all) while (common !== '' && one !== common && !liesIn(one, common)) common = folderOf(common);
  for (; common !== ''; common = folderOf(common)) {
    const [known] = await db
      .select({ id: folders.id })
      .from(folders)
      .where(and(eq(folders.volumeId, volumeId), eq(folders.path, common)))
      .limit(1);
    if (known) return common;
  }
  return null;
}

const workOf = (putting: Putting): ItemWork => ({
  kind,
  ...COPYING,
  projectId: putting.archive.projectId,
  act: (items) => putItems(putting, items),
  finishOrUndo: (items) => finishOrUndo(putting, items),
  conclude: () => conclude(putting),
  lastWords: async (tx) => {
    const [sum] = await tx
      .select({
        files: sql`COALESCE(SUM(${stepItems.detail} = ${THERE_ALREADY}), 0)`.mapWith(Number),
        bytes: sql`COALESCE(SUM(IF(${stepItems.detail} = ${THERE_ALREADY}, 0, ${stepItems.sizeBytes})), 0)`.mapWith(
          Number,
        ),
      })
      .from(stepItems)
      .where(and(eq(stepItems.stepId, putting.step.id), eq(stepItems.state, 'done')));
    return {
      ...{ archiveId: putting.archive.id, carrier: listed(putting.sources.used) },
      ...{ bytes: sum!.bytes, thereAlready: sum!.files },
      ...(putting.sources.damages.length > 0 ? { damagedCopies: putting.sources.damages } : {}),
    };
  },
});

export const putBack = serverStep({
  kind,
  async findings(db, step, { archiveId, copyId, carrierIds, partIds, volumes: on, there, without, fetch }) {
    const ids = on.map((one) => one.volumeId);
    const findings = [
      ...(await unreachable(db, step, ids)),
      ...(await readOnly(db, step, ids)),
      ...(await carriersAskedFor(db, step, carrierIds)),
      ...fetchFindings(step, fetch),
    ];
    for (const { volumeId, bytes } of on) findings.push(...(await tooFull(db, step, { volumeId, neededBytes: bytes })));
    const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
    if (lacksGood(await sourcesOf(db, { archiveId, copyId, partIds })))
      findings.push(
        finding(step, 'copy not good', 'stop', {
          ...{ archive: archive?.name ?? '', why: 'A part of what it holds has no good copy any more.' },
        }),
      );
    if (there.files > 0) findings.push(finding(step, 'there already', 'note', there));
    const left = without.cut + without.noPlace;
    if (left > 0) findings.push(finding(step, 'not put back', 'note', { files: left, why: whyWithout(without) }));
    return findings;
  },
  async stores(tx, _step, params) {
    const volumeIds = params.volumes.map((one) => one.volumeId);
    const { all } = await carriersToRead(tx, { ...params, with: { volumeIds, carrierIds: [] } });
    return [
      ...volumeIds.flatMap((id) => [
        { store: 'volume' as const, id, mode: 'change' as const },
        { store: 'catalogue' as const, id, mode: 'change' as const },
      ]),
      ...all.map((id) => ({ store: 'carrier' as const, id, mode: 'look' as const })),
    ];
  },
  async begin(tx, step, params) {
    const { archiveId, copyId, only, partIds } = params;
    // Where nothing is missing, nothing is looked at: that volume may be away.
    const volumeIds = params.volumes.map((one) => one.volumeId);
    const meant = only && (await filesMeant(tx, archiveId, only));
    const insert = (which: SQL, order: SQL) =>
      tx.execute(sql`
        INSERT INTO step_items (step_id, volume_id, file_id, archive_file_id, path, raw_path, size_bytes, modified_us)
        SELECT ${step.id}, a.volume_id, a.file_id, a.id, a.path, a.raw_path, a.size_bytes, a.modified_us
        FROM ${PLACED} WHERE a.archive_id = ${archiveId} AND ${WHOLE} AND a.volume_id IN ${idList(volumeIds)} ${among(meant)} ${which} ORDER BY ${order}`);
    // What lies on tapes comes in the order in which it winds least, and then the rest.
    const { order } = await fetchFor(tx, { archiveId, copyId, partIds, fileIds: meant });
    for (const some of inSlices(order, 1000))
      await insert(sql`AND a.id IN ${idList(some)}`, sql`FIELD(a.id, ${sql.raw(some.join(','))})`);
    const rest = sql`AND a.id NOT IN (SELECT i.archive_file_id FROM step_items i WHERE i.step_id = ${step.id})`;
    await insert(order.length > 0 ? rest : sql``, sql`a.part_id, a.id`);
    const on = { volumeIds, carrierIds: [] };
    return { carrierIds: (await carriersToRead(tx, { archiveId, copyId, partIds, with: on })).all };
  },
  run: async (context, step, params) => runItems(context, step, workOf(await open(context, step, params))),
  giveUp: async (context, step, params) =>
    finishItems(context, step, {
      work: workOf(await open(context, step, params)),
      ending: { state: 'failed', trouble: context.givenUp },
    }),
});
