// Taking in what others made: a folder on a carrier becomes an archive of the catalogue where it lies. Every file is read once; what
// lists of checksums came with it are believed only where they match, and what does not match stays out and is told. Nothing is
// written on the carrier. An archive of ours is known again by its own lists.
import { isoDay } from '#core/house-time.ts';
import { and, asc, eq, gt, inArray, isNull, sql } from 'drizzle-orm';
import { z } from 'zod';
import { NoContainer } from '#core/archive/containers/container.ts';
import { archiveFolderName } from '#core/archive/selection.ts';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import { isList, LARGEST_LIST, type ListedSum, readList } from '#core/fixity/lists.ts';
import { c4Of } from '#core/fixity/mhl.ts';
import { slugOf } from '#core/homes/owners.ts';
import type { CarrierId } from '#core/model.ts';
import { liesIn, nameOf, relativePath } from '#core/paths.ts';
import { count, counted, size } from '#core/wording/amounts.ts';
import { awaitedWords } from '#core/wording/archives.ts';
import { codeOf } from '#disk/facts.ts';
import { PRIVATE_FOLDER } from '#disk/identity.ts';
import type { OtherSum } from '../carriers/copy-thread.ts';
import { type Carrier, CarrierAway, type Entry } from '../carriers/kind.ts';
import { type CarrierPlace, isSequential, placeOf } from '../carriers/kinds.ts';
import { FOLDER, packedName, packerOfFound } from '../carriers/packers.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import {
  archiveBins,
  archiveClips,
  archiveCopies,
  archiveFiles,
  archiveParts,
  archives,
  archiveTimelines,
  awaitedFiles,
  copyParts,
} from '../db/schema/archives.ts';
import { documents } from '../db/schema/documents.ts';
import { jobs } from '../db/schema/jobs.ts';
import { projects, projectStates } from '../db/schema/projects.ts';
import { carriers } from '../db/schema/stores.ts';
import type { JobContext } from '../runtime/context.ts';
import { endingOf } from '../runtime/endings.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import { endJob, enqueue } from '../runtime/queue.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';
import { workKind } from '../runtime/work-kind.ts';
import { type CopyPart, copyPartsOf, readText, withCarrier } from './copies.ts';
import { adoptCopy, archiveWith } from './adopt-copy.ts';
import { askToReadDocuments, awaitedBy, awaitFiles, joinKin } from './kin.ts';
import { type OwnBag, ownBag } from './own-bag.ts';
import { noteTakenDocuments } from './taken-documents.ts';
import { untilReady } from './thaw.ts';

export interface TakeIn {
  carrierId: CarrierId;
  /** Where it lies on the carrier. */
  folder: string;
  /** Of the project that it becomes, or that it is of. */
  name: string;
  client: string;
  year: number | null;
}

const params = z.object({
  carrierId: z.number().int(),
  folder: z.string(),
  name: z.string(),
  client: z.string(),
  year: z.number().int().nullable(),
});
type Params = z.infer<typeof params>;

/** Asks for a folder to be taken in, by whoever reaches its carrier. Throws Refused in a sentence where it cannot be. */
export async function askToTakeIn(
  db: Database,
  { folder: given, name: said, ...asked }: TakeIn,
  { who, now }: { who: string; now: Date },
): Promise<void> {
  const [carrier] = await db.select().from(carriers).where(eq(carriers.id, asked.carrierId));
  if (!carrier) throw new Refused('There is no such carrier. Nothing was begun.');
  const checked = relativePath(given.trim());
  if (!checked.ok)
    throw new Refused(
      `“${given}” names no folder on ${carrier.name}. Give its path from the top of the carrier. Nothing was begun.`,
    );
  const folder = checked.path;
  if (folder.split('/')[0] === PRIVATE_FOLDER)
    throw new Refused(`${folder} is a folder that Keramion keeps for itself. Nothing was begun.`);
  await refuseKnown(db, carrier, folder);
  const name = said.trim();
  if (slugOf(name || usualName(folder)) === '')
    throw new Refused(
      `“${name || usualName(folder)}” has no letter or digit in it. Give another name. Nothing was begun.`,
    );
  const title = `Take in ${folder} from ${carrier.name}`;
  const stores = [{ store: 'carrier' as const, id: carrier.id, mode: 'look' as const }];
  await inTransaction(db, async (tx) => {
    const waiting = await tx
      .select({ params: jobs.params })
      .from(jobs)
      .where(and(eq(jobs.kind, takeInWork.kind), inArray(jobs.state, ['queued', 'running'])));
    if (waiting.some((one) => one.params.carrierId === carrier.id && overlap(String(one.params.folder), folder)))
      throw new Refused(`${folder} on ${carrier.name} is being taken in already. Nothing more was begun.`);
    await enqueue(tx, { kind: takeInWork.kind, title, params: { ...asked, folder, name }, who, stores }, now);
  });
}

/** What a project is called of which nothing else is known. */
const usualName = (folder: string): string => nameOf(folder).replace(/\.(tar|zip)$/i, '');

const overlap = (one: string, other: string): boolean => liesIn(one, other) || liesIn(other, one);

/** What the catalogue has already is not taken in once more under another name. */
async function refuseKnown(db: Db, { id, name }: { id: number; name: string }, folder: string): Promise<void> {
  const rows = await db
    .select({ own: copyParts.folder, of: archiveParts.folder, archive: archives.name, packer: archives.packer })
    .from(copyParts)
    .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
    .innerJoin(archives, eq(archives.id, archiveParts.archiveId))
    .where(and(eq(copyParts.carrierId, id), inArray(copyParts.state, ['writing', 'good', 'damaged'])));
  const lies = (row: (typeof rows)[number]) => row.own ?? packedName(row.of, row.packer);
  const known = rows.find((row) => overlap(lies(row), folder));
  if (known)
    throw new Refused(
      `${lies(known)} on ${name} is in the catalogue already, as ${known.archive}. Nothing was taken in.`,
    );
}

/** What a take-in has in its hands. */
interface Taking {
  context: JobContext;
  asked: Params;
  archive: typeof archives.$inferSelect;
  part: CopyPart;
  /** What lies there and does not go in, with the reason. */
  gaps: { path: string; why: string }[];
}

export const takeInWork = workKind<Params>({
  kind: 'take in',
  params,
  async run(context, asked) {
    try {
      const place = await placeOn(context, asked);
      const own = await withCarrier({ place }, (carrier) => ownBag(context.db, carrier, asked.folder));
      const known = own && (await archiveWith(context.db, own.manifestSha512));
      if (known)
        return await adoptCopy(context, known, { ...asked, carrier: place.name, place: { ...place, packer: FOLDER } });
      await takeIn(await begun(context, asked, own), own);
    } catch (thrown) {
      const away =
        thrown instanceof CarrierAway
          ? new Refused(
              'The carrier was taken away while it was read. Nothing was taken in. Connect it and take it in again.',
            )
          : thrown instanceof NoContainer
            ? new Refused(`${asked.folder} could not be taken in: ${thrown.message}. Nothing was changed.`)
            : thrown;
      // Throws on where the lease or the database is gone: then the next worker goes on with what was read.
      const ending = endingOf(context, away);
      await context.transaction(async (tx) => {
        await forget(tx, context.job.id);
        await endJob(tx, context.job, ending);
      });
    }
  },
  giveUp: (context) => context.transaction((tx) => forget(tx, context.job.id)),
});

/** Where the carrier is for this worker. */
async function placeOn(context: JobContext, { carrierId, folder }: Params): Promise<CarrierPlace> {
  const [carrier] = await context.db.select().from(carriers).where(eq(carriers.id, carrierId));
  if (!carrier) throw new Refused('There is no such carrier any more. Nothing was taken in.');
  return placeOf(carrier, context.carrierPath(carrier.id), packerOfFound(folder));
}

/** The archive that this work fills: begun by it now, or by a worker before. */
async function begun(context: JobContext, asked: Params, own: OwnBag | null): Promise<Taking> {
  const archiveId = await context.transaction(async (tx) => {
    const [known] = await tx.select({ id: archives.id }).from(archives).where(eq(archives.jobId, context.job.id));
    if (known) return known.id;
    // It was asked for long ago, and somebody else may have been quicker.
    const [carrier] = await tx.select().from(carriers).where(eq(carriers.id, asked.carrierId)).for('update');
    await refuseKnown(tx, carrier!, asked.folder);
    return newArchive(tx, { context, asked, own });
  });
  const [archive] = await context.db.select().from(archives).where(eq(archives.id, archiveId));
  const [part] = await copyPartsOf(context.db, archiveId, (id) => context.carrierPath(id));
  return { context, asked, archive: archive!, part: part!, gaps: [] };
}

interface Begun {
  context: JobContext;
  asked: Params;
  own: OwnBag | null;
}

async function newArchive(tx: Transaction, { context, asked, own: bag }: Begun): Promise<number> {
  const now = context.now();
  // An archive of ours says whose it is.
  const name = asked.name || (bag && slugOf(bag.project) !== '' ? bag.project : usualName(asked.folder));
  const slug = slugOf(name);
  const [project] = await tx.select().from(projects).where(eq(projects.slug, slug));
  const facts = { name: name.slice(0, 250), client: asked.client, year: asked.year };
  const projectId = project?.id ?? (await newProject(tx, { ...facts, slug }, now));
  const wanted = bag ? nameOf(asked.folder).slice(0, 240) : archiveFolderName(slug, isoDay(now.getTime()));
  const folder = await freeFolder(tx, wanted);
  const own = { name: project?.name ?? facts.name, folder, state: 'writing' as const, files: 0, bytes: 0 };
  const [{ insertId: archiveId }] = await tx
    .insert(archives)
    .values({ projectId, ...own, packer: FOLDER, jobId: context.job.id });
  const [{ insertId: partId }] = await tx
    .insert(archiveParts)
    .values({ archiveId, ord: 1, folder, files: 0, bytes: 0 });
  const [{ insertId: copyId }] = await tx.insert(archiveCopies).values({ archiveId, state: 'writing' });
  const place = { carrierId: asked.carrierId, packer: packerOfFound(asked.folder), folder: asked.folder };
  await tx.insert(copyParts).values({ copyId, partId, ...place, state: 'writing' });
  return archiveId;
}

async function newProject(
  tx: Transaction,
  facts: { name: string; client: string; year: number | null; slug: string },
  now: Date,
): Promise<number> {
  const state = 'archived' as const;
  const [{ insertId }] = await tx.insert(projects).values({ ...facts, origin: 'carrier', state, stateSince: now });
  await tx.insert(projectStates).values({ projectId: insertId, state, since: now });
  return insertId;
}

/** A name that no archive has, on any carrier. */
async function freeFolder(tx: Transaction, wanted: string): Promise<string> {
  const rows = await tx
    .select({ folder: archives.folder })
    .from(archives)
    .where(sql`LEFT(${archives.folder}, ${wanted.length}) = ${wanted}`);
  const taken = new Set(rows.map((row) => row.folder));
  for (let n = 1; ; n++) {
    const name = n === 1 ? wanted : `${wanted}-${n}`;
    if (!taken.has(name)) return name;
  }
}

/** Ended early: the catalogue is as it was before. Nothing of it was on any carrier. */
async function forget(tx: Transaction, jobId: number): Promise<void> {
  const [archive] = await tx.select().from(archives).where(eq(archives.jobId, jobId));
  if (archive?.state !== 'writing') return;
  const timelineIds = tx
    .select({ id: archiveTimelines.id })
    .from(archiveTimelines)
    .where(eq(archiveTimelines.archiveId, archive.id));
  await tx.execute(sql`DELETE FROM archive_uses WHERE timeline_id IN (${timelineIds})`);
  await tx.execute(
    sql`DELETE p FROM copy_parts p JOIN archive_copies c ON c.id = p.copy_id WHERE c.archive_id = ${archive.id}`,
  );
  for (const table of [
    ...[archiveTimelines, archiveClips, archiveBins, archiveFiles],
    ...[awaitedFiles, archiveParts, archiveCopies],
  ])
    await tx.delete(table).where(eq(table.archiveId, archive.id));
  await tx.delete(archives).where(eq(archives.id, archive.id));
  const [project] = await tx.select().from(projects).where(eq(projects.id, archive.projectId));
  const [other] = await tx
    .select({ id: archives.id })
    .from(archives)
    .where(eq(archives.projectId, archive.projectId))
    .limit(1);
  const [named] = await tx
    .select({ id: documents.id })
    .from(documents)
    .where(eq(documents.projectId, archive.projectId))
    .limit(1);
  if (project?.origin !== 'carrier' || other || named) return;
  await tx.delete(projectStates).where(eq(projectStates.projectId, project.id));
  await tx.delete(projects).where(eq(projects.id, project.id));
}

async function takeIn(taking: Taking, own: OwnBag | null): Promise<void> {
  const { context, part, asked } = taking;
  await untilReady(context, part);
  const found = await withCarrier(part, async (carrier) => {
    if (!(await carrier.has(part.folder)))
      throw new Refused(
        `${asked.folder} is not on ${part.carrier}, or is neither a folder nor a tar or zip. Nothing was taken in.`,
      );
    if (taking.archive.files === 0) await list(taking, carrier);
    return listedSums(taking, carrier);
  });
  if (own) await keepOwn(taking, own);
  // Of an archive of ours its lists were compared already, and are no payload.
  const listed = own ? new Map([...found].filter(([path]) => path.startsWith(`${PAYLOAD}/`))) : found;
  const [sum] = await context.db
    .select({
      bytes: sql`COALESCE(SUM(${archiveFiles.sizeBytes}), 0)`.mapWith(Number),
      done: sql`COALESCE(SUM(IF(${archiveFiles.sha512} IS NULL, 0, ${archiveFiles.sizeBytes})), 0)`.mapWith(Number),
    })
    .from(archiveFiles)
    .where(eq(archiveFiles.archiveId, taking.archive.id));
  context.phase('reading and summing', 'bytes', sum!.bytes, sum!.done);
  await sumAll(taking, listed);
  await noteMissing(taking, listed);
  // Its lists are believed where all of it is as they say.
  if (own && taking.gaps.length === 0) await awaitKin(taking, own);
  if (!own) context.rename('reading its documents');
  const contents = await noteTakenDocuments(context, taking.part, taking.archive.id);
  await conclude(taking, { own, listed, contents });
}

const NO_PLAIN_FILE = 'it is no plain file, or has a name that cannot be read here';

/** A folder that cannot be looked into ends it: what is in it would be missing without a word. */
async function* entriesOf(carrier: Carrier, { folder, carrier: name }: CopyPart): AsyncGenerator<Entry> {
  try {
    yield* carrier.list(folder);
  } catch (error) {
    const code = codeOf(error);
    if (!['EACCES', 'EPERM', 'EIO', 'ELOOP', 'ENAMETOOLONG'].includes(code)) throw error;
    throw new Refused(
      `A folder in ${folder} on ${name} cannot be looked into (${code}). Nothing was taken in. Give the worker leave to read it, or take its parts in one by one.`,
    );
  }
}

/** What lies there: written down before anything of it is read. What is no plain file is told, and nothing behind a link is read. */
async function list({ context, archive, part }: Taking, carrier: Carrier): Promise<void> {
  context.phase('listing', 'files', 0);
  await context.transaction((tx) => tx.delete(archiveFiles).where(eq(archiveFiles.archiveId, archive.id)));
  let files = 0;
  let some: (typeof archiveFiles.$inferInsert)[] = [];
  const keep = async () => {
    const rows = some;
    some = [];
    if (rows.length === 0) return;
    await context.transaction((tx) => tx.insert(archiveFiles).values(rows));
    files += rows.length;
    context.add(rows.length);
  };
  for await (const { at, sizeBytes, modifiedMs } of entriesOf(carrier, part)) {
    context.check();
    const path = at.slice(PAYLOAD.length + 1);
    some.push({
      ...{ archiveId: archive.id, partId: part.partId, role: 'media', payloadPath: path, path },
      ...{ volumeId: 0, fileId: 0, sizeBytes: sizeBytes ?? 0, payloadBytes: sizeBytes ?? 0 },
      modifiedUs: Math.round((modifiedMs ?? context.now().getTime()) * 1000),
      whyWhole: sizeBytes === null ? NO_PLAIN_FILE : null,
    });
    if (some.length === 1000) await keep();
  }
  await keep();
  if (files === 0) throw new Refused(`${part.folder} on ${part.carrier} holds no file. Nothing was taken in.`);
  await context.transaction(async (tx) => {
    // A number that is no file of the catalogue, and another for each: what goes by it keeps them apart.
    await tx.execute(sql`UPDATE archive_files SET file_id = ${NO_FILE} + id WHERE archive_id = ${archive.id}`);
    await tx.update(archives).set({ files }).where(eq(archives.id, archive.id));
  });
  archive.files = files;
}

/** Files that were never on a volume of the house have numbers from here on. */
const NO_FILE = 2 ** 50;

type Sums = ReadonlyMap<string, ListedSum[]>;

/** What lists beside the files say of them, by the path of each. */
async function listedSums({ context, archive, part, gaps }: Taking, carrier: Carrier): Promise<Sums> {
  const sums = new Map<string, ListedSum[]>();
  const rows = context.db
    .select({ path: archiveFiles.payloadPath, bytes: archiveFiles.sizeBytes })
    .from(archiveFiles)
    .where(
      and(
        eq(archiveFiles.archiveId, archive.id),
        sql`LOWER(${archiveFiles.payloadPath}) REGEXP '(\\.(mhl|md5|sha1|sha256|sha512|xxh64)|sums?(\\.txt)?|manifest-[a-z0-9]+\\.txt)$'`,
      ),
    );
  for (const { path, bytes } of await rows) {
    if (!isList(path)) continue;
    context.check();
    if (bytes > LARGEST_LIST) {
      gaps.push({ path, why: 'as a list of checksums it is too large to be read; what it lists was summed only' });
      continue;
    }
    const reading = readList(path, await readText(carrier, part.folder, `${PAYLOAD}/${path}`));
    for (const one of reading.sums) sums.set(one.path, [...(sums.get(one.path) ?? []), one]);
  }
  return sums;
}

const others = (listed: readonly ListedSum[]): OtherSum[] => [
  ...new Set(listed.flatMap(({ kind }) => (kind === 'md5' || kind === 'sha1' || kind === 'sha256' ? [kind] : []))),
];

const BATCH = 200;

/** Every file once, from the medium. Those that an earlier worker read are not read again. */
async function sumAll(taking: Taking, listed: Sums): Promise<void> {
  const { context, archive, part } = taking;
  for (let last = 0; ;) {
    const rows = await context.db
      .select()
      .from(archiveFiles)
      .where(and(eq(archiveFiles.archiveId, archive.id), gt(archiveFiles.id, last), isNull(archiveFiles.sha512)))
      .orderBy(asc(archiveFiles.id))
      .limit(BATCH);
    if (rows.length === 0) return;
    last = rows.at(-1)!.id;
    const read: { id: number; sha512: string; xxh64: string }[] = [];
    await inParallel(isSequential(part.place) ? 1 : context.pools.carriers.size, rows, async (file) => {
      context.check();
      const why = await sumOne(taking, file, { listed: listed.get(file.payloadPath) ?? [], read });
      if (why !== null) taking.gaps.push({ path: file.payloadPath, why });
    });
    await context.transaction(async (tx) => {
      for (const { id, ...sums } of read) await tx.update(archiveFiles).set(sums).where(eq(archiveFiles.id, id));
    });
  }
}

type File = typeof archiveFiles.$inferSelect;

interface Summing {
  listed: readonly ListedSum[];
  read: { id: number; sha512: string; xxh64: string }[];
}

/** Reads one and compares; why it stays out, or null. */
async function sumOne({ context, part }: Taking, file: File, { listed, read }: Summing): Promise<string | null> {
  const at = `${PAYLOAD}/${file.payloadPath}`;
  if (file.whyWhole === NO_PLAIN_FILE) return NO_PLAIN_FILE;
  let sums;
  try {
    sums = await context.pools.carriers.ask(
      { do: 'sum', carrier: part.place, of: part.folder, at, strong: true, also: others(listed) },
      { stop: context.stop, progress: (bytes) => context.add(bytes) },
    );
  } catch (error) {
    context.check();
    const code = codeOf(error);
    if (code === 'carrier_away') throw new CarrierAway(part.carrier);
    if (code === 'stopped') throw error;
    return `it cannot be read (${code})`;
  }
  if (sums.sizeBytes !== file.sizeBytes) return 'it changed while it was taken in';
  const { sha512, xxh64 } = sums;
  const own: Partial<Record<ListedSum['kind'], string>> = { ...sums.also, sha512, xxh64, c4: c4Of(sha512) };
  const wrong = listed.find(({ kind, sum }) => own[kind] !== sum);
  if (wrong) return `it does not match the checksum that came with it (${wrong.kind})`;
  read.push({ id: file.id, sha512, xxh64 });
  return null;
}

const MOST_MISSING = 10_000;

/** What a list names and nobody finds there any more. */
async function noteMissing({ context, archive, gaps }: Taking, listed: Sums): Promise<void> {
  const missing = new Set(listed.keys());
  for (const some of inSlices([...missing], 500)) {
    const rows = await context.db
      .select({ path: archiveFiles.payloadPath })
      .from(archiveFiles)
      .where(and(eq(archiveFiles.archiveId, archive.id), inArray(archiveFiles.payloadPath, some)));
    for (const { path } of rows) missing.delete(path);
  }
  for (const path of [...missing].slice(0, MOST_MISSING))
    gaps.push({ path, why: 'a list of checksums names it, and it is not there' });
}

/** An archive of ours says itself what its files are; its own lists are no payload. */
async function keepOwn({ context, archive }: Taking, own: OwnBag): Promise<void> {
  await context.transaction(async (tx) => {
    await tx.execute(
      sql`DELETE FROM archive_files WHERE archive_id = ${archive.id} AND payload_path NOT LIKE ${`${PAYLOAD}/%`}`,
    );
    for (const [path, facts] of own.files)
      await tx
        .update(archiveFiles)
        .set(facts)
        .where(and(eq(archiveFiles.archiveId, archive.id), eq(archiveFiles.payloadPath, path)));
  });
}

/** What of it lies elsewhere, as far as that is here: before its documents are read, which name it. */
const awaitKin = ({ context, archive }: Taking, own: OwnBag): Promise<unknown> =>
  context.transaction(async (tx) => {
    const { id, projectId } = archive;
    // What an earlier run of this work had joined already.
    await tx.execute(sql`
      DELETE f FROM archive_files f JOIN archive_parts p ON p.id = f.part_id WHERE f.archive_id = ${id} AND p.archive_id <> ${id}`);
    await awaitFiles(tx, id, own);
    await joinKin(tx, projectId, { filling: id, only: id });
  });

interface Told {
  own: OwnBag | null;
  listed: Sums;
  contents: { documents: number; timelines: number };
}

/** What is in it: files and bytes of it all, and of what was read here. */
async function sumsIn(tx: Transaction, { archive, part }: Taking) {
  const isOwn = eq(archiveFiles.partId, part.partId);
  // A document that was relinked for the archive is the same again.
  const isFile = sql`${archiveFiles.role} <> 'document'`;
  const [sum] = await tx
    .select({
      files: sql`COALESCE(SUM(${isFile}), 0)`.mapWith(Number),
      bytes: sql`COALESCE(SUM(${archiveFiles.payloadBytes}), 0)`.mapWith(Number),
      ownRows: sql`COALESCE(SUM(${isOwn}), 0)`.mapWith(Number),
      ownFiles: sql`COALESCE(SUM(${isOwn} AND ${isFile}), 0)`.mapWith(Number),
      ownBytes: sql`COALESCE(SUM(IF(${isOwn}, ${archiveFiles.payloadBytes}, 0)), 0)`.mapWith(Number),
    })
    .from(archiveFiles)
    .where(eq(archiveFiles.archiveId, archive.id));
  return sum!;
}

type SumsIn = Awaited<ReturnType<typeof sumsIn>>;

/** It is an archive from here on, and what was read a copy of it that is proven. */
async function seal(
  tx: Transaction,
  { asked, archive, part, gaps }: Taking,
  { own, sum, now }: { own: OwnBag | null; sum: SumsIn; now: Date },
): Promise<void> {
  // Its lists name all that it had: of one that is not whole any more they would say what is not so.
  if (own && gaps.length === 0) {
    await tx.update(archiveParts).set({ manifestSha512: own.manifestSha512 }).where(eq(archiveParts.id, part.partId));
    await tx.execute(sql`
      UPDATE archive_files SET payload_path = SUBSTRING(payload_path, ${PAYLOAD.length + 2}) WHERE archive_id = ${archive.id}`);
    const folder = asked.folder === archive.folder ? null : asked.folder;
    await tx.update(copyParts).set({ packer: null, folder }).where(eq(copyParts.id, part.copyPartId));
  }
  const { files, bytes } = sum;
  const times = { state: 'good' as const, readBackAt: now };
  await tx
    .update(archiveParts)
    .set({ files: sum.ownRows, bytes: sum.ownBytes })
    .where(eq(archiveParts.id, part.partId));
  await tx
    .update(archives)
    .set({ state: 'sealed', files, bytes, gaps: gaps.length, sealedAt: now })
    .where(eq(archives.id, archive.id));
  await tx
    .update(archiveCopies)
    .set({ writtenAt: now, ...times })
    .where(eq(archiveCopies.id, part.copyId));
  await tx.update(copyParts).set(times).where(eq(copyParts.id, part.copyPartId));
  await tx.execute(sql`
    INSERT INTO copy_files (copy_part_id, archive_file_id, state, read_back_at)
    SELECT ${part.copyPartId}, id, 'read back', ${now} FROM archive_files WHERE part_id = ${part.partId}`);
}

async function conclude(taking: Taking, { own, listed, contents }: Told): Promise<void> {
  const { context, asked, archive, part, gaps } = taking;
  const now = context.now();
  await context.transaction(async (tx) => {
    await tx.delete(archiveFiles).where(and(eq(archiveFiles.archiveId, archive.id), isNull(archiveFiles.sha512)));
    const sum = await sumsIn(tx, taking);
    if (sum.ownRows === 0)
      throw new Refused(
        `Of ${asked.folder} nothing could be taken in, for example ${gaps[0]?.path ?? ''}: ${gaps[0]?.why ?? ''}. Nothing was changed.`,
      );
    const checked = await checkedOf(tx, archive.id, listed);
    const same = await sameElsewhere(tx, part.partId);
    await seal(tx, taking, { own, sum, now });
    const completes = await joinKin(tx, archive.projectId);
    await askToReadDocuments(tx, completes, { who: context.job.who, now });
    const awaited = await awaitedBy(tx, archive.id);
    const { ownFiles: files, ownBytes: bytes } = sum;
    await writeReceipt(tx, {
      ...{ at: now, who: context.job.who, action: 'taken in', projectId: archive.projectId },
      ...{ files, bytes, held: gaps.length, itemsSha256: itemsHash([]) },
      title: `${asked.folder} on ${part.carrier} is in the catalogue as ${archive.folder}: ${counted(files, 'file')}, ${size(bytes)}, ${words(files, checked)}${awaited === null ? '' : `; ${awaitedWords(awaited)}`}`,
      facts: {
        ...{ archiveId: archive.id, carrier: part.carrier, folder: asked.folder, checked, ...contents },
        ...(awaited === null ? {} : { awaited }),
        ...(completes.length > 0 ? { completes } : {}),
        ...(same.files > 0 ? { sameInOtherArchives: same } : {}),
        ...(gaps.length > 0 ? { stayedOut: gaps.slice(0, MOST_TOLD) } : {}),
      },
    });
    await endJob(tx, context.job, { state: 'done' });
  });
}

const MOST_TOLD = 200;

const words = (files: number, checked: number): string =>
  checked === 0
    ? 'none had a checksum with it, so they are as they were found'
    : checked === files
      ? 'all match the checksums that came with them'
      : `${count(checked)} of them ${checked === 1 ? 'matches the checksum' : 'match the checksums'} that came with ${checked === 1 ? 'it' : 'them'}, the others had none`;

/** How many of its files came with a checksum; those that did not match stayed out. */
async function checkedOf(tx: Transaction, archiveId: number, listed: Sums): Promise<number> {
  let checked = 0;
  for (const some of inSlices([...listed.keys()], 500)) {
    const [row] = await tx
      .select({ n: sql`COUNT(*)`.mapWith(Number) })
      .from(archiveFiles)
      .where(and(eq(archiveFiles.archiveId, archiveId), inArray(archiveFiles.payloadPath, some)));
    checked += row!.n;
  }
  return checked;
}

/** What of it other archives hold already, byte for byte. */
async function sameElsewhere(tx: Transaction, partId: number): Promise<{ files: number; bytes: number }> {
  const [rows] = (await tx.execute(sql`
    SELECT COUNT(*) AS files, COALESCE(SUM(f.payload_bytes), 0) AS bytes FROM archive_files f WHERE f.part_id = ${partId}
    AND EXISTS (SELECT 1 FROM archive_files o JOIN archives a ON a.id = o.archive_id AND a.state = 'sealed'
      WHERE o.size_bytes = f.size_bytes AND o.xxh64 = f.xxh64 AND o.sha512 = f.sha512 AND o.archive_id <> f.archive_id)`)) as unknown as [
    { files: number; bytes: number }[],
  ];
  return { files: Number(rows[0]!.files), bytes: Number(rows[0]!.bytes) };
}
