// Where a package is written: which parts it has and where each of its copies lies, the carriers opened, what earlier runs
// began taken over, and what cannot go well refused before anything is written.
import { and, eq, inArray, isNull, or, sql } from 'drizzle-orm';
import { layOn, type Layout, type Overhead, overheadOf } from '#core/archive/layout.ts';
import { utf8Length } from '#core/paths.ts';
import { listed, size } from '#core/wording/amounts.ts';
import { sha512 } from '#disk/sums.ts';
import { type Carrier, CarrierAway } from '../carriers/kind.ts';
import { openCarrier } from '../carriers/kinds.ts';
import { packedName } from '../carriers/packers.ts';
import { idList } from '../db/conditions.ts';
import type { Transaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyFiles, copyParts } from '../db/schema/archives.ts';
import { stepItems } from '../db/schema/plans.ts';
import { siteMark } from '../db/site-mark.ts';
import { Refused } from '../runtime/refused.ts';
import { tooSmall } from '../stores/look.ts';
import {
  type Bench,
  bytesOf,
  type Candidate,
  type Destination,
  inOwnParts,
  partsOf,
  type Target,
  textOf,
  type Writing,
} from './package-model.ts';

/** Opens the carriers and takes over what earlier runs began; where nothing was, decides what lies where. */
export async function openTargets(writing: Writing): Promise<void> {
  await layOut(writing);
  for (const to of await placesOf(writing)) writing.targets.push({ ...to, carrier: await opened(to), placed: false });
  const taken = new Map<string, number>();
  for (const target of writing.targets) await beginOn(writing, target, taken);
}

export type Place = Omit<Target, 'carrier' | 'placed'>;

/** Every part of every copy, as it is written down where it goes. */
export async function placesOf({ context, purpose, parts }: Writing): Promise<Place[]> {
  const own = { site: await siteMark(context.db), job: context.job.mark, lease: context.job.lease! };
  const places: Place[] = [];
  for (const part of parts)
    for (const to of await purpose.destinations(context, part))
      places.push({ ...to, part, pack: { folder: part.folder, ...own, item: part.id } });
  return places;
}

/**
 * Takes over what earlier runs began, for a run that ends before it has opened anything: so that it is thrown away, or counts
 * where it has got its name. What is away meanwhile is left to the sweep.
 */
export async function takeOverBegun({ context, targets }: Bench, places: readonly Place[]): Promise<void> {
  if (targets.length > 0) return;
  for (const to of places)
    try {
      const target = { ...to, carrier: await openCarrier(to.place), placed: false };
      targets.push(target);
      await context.assertLease();
      if (!(await target.carrier.takeOver(to.pack))) target.placed = await isPlaced(target);
    } catch (error) {
      if (!(error instanceof CarrierAway)) throw error;
    }
}

export async function opened(to: Pick<Destination, 'name' | 'place'>): Promise<Carrier> {
  return openCarrier(to.place).catch((error: unknown) => {
    if (!(error instanceof CarrierAway)) throw error;
    throw new Refused(
      `${to.name} cannot be reached, or another is in its place. Nothing was sealed; the originals were not touched. Connect it and add it to the plan again.`,
    );
  });
}

/** Decides once, when everything is weighed, which parts there are and on which carriers each copy has them. */
async function layOut(writing: Writing): Promise<void> {
  const { context, archive, purpose } = writing;
  if (!purpose.sets) return;
  const [known] = await context.db.select().from(archiveCopies).where(eq(archiveCopies.archiveId, archive.id)).limit(1);
  if (known || archive.state === 'ended early') return;
  const sets = [];
  for (const set of await purpose.sets(context)) {
    const holders = [];
    for (const candidate of set) holders.push({ ...candidate, roomBytes: await roomOn(candidate) });
    sets.push(holders);
  }
  const units = await unitsOf(writing);
  const sizes = units.map((unit) => unit.bytes);
  const laid = layOn(sizes, sets, overheadOf(archive.packer));
  if (!laid) throw notHeld(sizes, sets, overheadOf(archive.packer));
  await context.transaction((tx) => writeDown(tx, writing, { units, laid }));
  writing.parts = await partsOf(context.db, archive.id);
}

async function roomOn(candidate: Candidate): Promise<number> {
  const carrier = await opened(candidate);
  try {
    return await candidate.room(await carrier.freeBytes());
  } finally {
    await carrier.close();
  }
}

type Held = Candidate & { roomBytes: number };

/** Which set does not hold it, in a sentence. */
function notHeld(sizes: readonly number[], sets: readonly (readonly Held[])[], overhead: Overhead): Refused {
  const small = sets.find((set) => layOn(sizes, [set], overhead) === null) ?? sets[0]!;
  const needed = sizes.reduce((sum, own) => sum + own + overhead.fileBytes, overhead.partBytes * small.length);
  const room = small.reduce((sum, one) => sum + one.roomBytes, 0);
  if (small.length === 1) return new Refused(tooSmall(small[0]!.name, needed, room));
  const largest = sizes.reduce((most, own) => Math.max(most, own), 0);
  return new Refused(
    `${listed(small.map((one) => one.name))} together do not hold it: ${size(needed)} is needed, the largest file of it ${size(largest)}, and ${size(room)} is free on all of them. Nothing was written; the originals were not touched. Choose one more carrier, or larger ones.`,
  );
}

interface Unit {
  ids: number[];
  bytes: number;
}

/** Files one by one, in the order in which they are written; documents first and together, as they are written anew from each other. */
async function unitsOf(writing: Writing): Promise<Unit[]> {
  const rows = await writing.context.db
    .select({ id: archiveFiles.id, role: archiveFiles.role, bytes: archiveFiles.sizeBytes })
    .from(archiveFiles)
    .where(inOwnParts(writing))
    .orderBy(archiveFiles.id);
  const isDocument = ({ role }: { role: string }) => role === 'document' || role === 'original document';
  const documents = rows.filter(isDocument);
  const together = { ids: documents.map((row) => row.id), bytes: documents.reduce((sum, row) => sum + row.bytes, 0) };
  return [
    ...(documents.length > 0 ? [together] : []),
    ...rows.filter((row) => !isDocument(row)).map((row) => ({ ids: [row.id], bytes: row.bytes })),
  ];
}

/** The parts, which files each has, and the copies. */
async function writeDown(
  tx: Transaction,
  { archive, parts: [first] }: Writing,
  { units, laid }: { units: readonly Unit[]; laid: Layout },
): Promise<void> {
  const ids = [first!.id];
  const total = laid.partBytes.length;
  for (const [i, bytes] of laid.partBytes.entries()) {
    const own = units.filter((_, unit) => laid.partOf[unit] === i).flatMap((unit) => unit.ids);
    const row = { ord: i + 1, folder: partFolder(archive.folder, i + 1, total), files: own.length, bytes };
    if (i === 0) await tx.update(archiveParts).set(row).where(eq(archiveParts.id, first!.id));
    else {
      const [{ insertId }] = await tx.insert(archiveParts).values({ archiveId: archive.id, ...row });
      ids.push(insertId);
      for (const some of inSlices(own, 5000))
        await tx
          .update(archiveFiles)
          .set({ partId: insertId })
          .where(sql`${archiveFiles.id} IN ${idList(some)}`);
    }
  }
  for (const { carriers } of laid.copies) {
    const [{ insertId: copyId }] = await tx.insert(archiveCopies).values({ archiveId: archive.id, state: 'writing' });
    for (const { carrierId, parts } of carriers)
      for (const part of parts)
        await tx.insert(copyParts).values({ copyId, partId: ids[part]!, carrierId, state: 'writing' });
  }
}

/** One of the parts of an archive over several carriers. */
export const isPartOf = (name: string, folder: string): boolean =>
  name.startsWith(`${folder}_`) && /^\d+of\d+$/.test(name.slice(folder.length + 1));

/** The name of one of several parts, so that whoever holds it knows how many to look for. */
export function partFolder(folder: string, number: number, total: number): string {
  if (total === 1) return folder;
  const name = `${folder}_${number}of${total}`;
  if (utf8Length(name) > 250)
    throw new Refused(
      `"${folder}" is too long a name for an archive over several carriers. Nothing was written. Add it to the plan again under a shorter one.`,
    );
  return name;
}

/** @param taken what was begun on carriers in this run, by their names */
export async function beginOn(writing: Bench, target: Target, taken: Map<string, number>): Promise<void> {
  const { context, archive } = writing;
  const { part } = target;
  await context.assertLease();
  if (await target.carrier.takeOver(target.pack, () => context.check())) return;
  if (await isPlaced(target)) {
    target.placed = true;
    return;
  }
  if (await target.carrier.has(part.folder))
    throw new Refused(
      `${target.name} has something named ${packedName(part.folder, archive.packer)} already, and nothing is ever written over. Add it to the plan again under another name.`,
    );
  const { partBytes, fileBytes } = overheadOf(archive.packer);
  const needed = part.bytes + partBytes + part.files * fileBytes + (taken.get(target.name) ?? 0);
  const room = await target.room(await target.carrier.freeBytes());
  if (room < needed) throw new Refused(tooSmall(target.name, needed, room));
  taken.set(target.name, needed);
  await target.carrier.begin(target.pack);
  await beginAnew(writing, target);
}

/** Begun anew here, for the first time or after what was there went away: nothing that was written down of it counts. */
async function beginAnew({ context, step }: Bench, { copyPartId, part }: Target): Promise<void> {
  await context.transaction(async (tx) => {
    await tx.delete(copyFiles).where(eq(copyFiles.copyPartId, copyPartId));
    const own = (column: typeof archiveFiles.fileId | typeof archiveFiles.id) =>
      tx.select({ id: column }).from(archiveFiles).where(eq(archiveFiles.partId, part.id));
    await tx
      .update(stepItems)
      .set({ state: 'waiting' })
      .where(
        and(
          ...[eq(stepItems.stepId, step.id), eq(stepItems.state, 'done')],
          or(
            and(isNull(stepItems.archiveFileId), inArray(stepItems.fileId, own(archiveFiles.fileId))),
            inArray(stepItems.archiveFileId, own(archiveFiles.id)),
          ),
        ),
      );
  });
}

/** What has our name, and the very tag manifest that was written down before it got it, is ours. */
async function isPlaced({ carrier, pack, part: { manifestSha512 } }: Target): Promise<boolean> {
  if (manifestSha512 === null || !(await carrier.has(pack.folder))) return false;
  try {
    return sha512(await textOf(carrier, pack.folder, 'tagmanifest-sha512.txt')) === manifestSha512;
  } catch {
    return false;
  }
}

/** What will be written is known to the byte now. */
export async function noteWeight({ context, archive, parts }: Writing): Promise<void> {
  for (const part of parts) part.bytes = await bytesOf(context.db, eq(archiveFiles.partId, part.id));
  archive.bytes = parts.reduce((sum, part) => sum + part.bytes, 0);
  await context.transaction(async (tx) => {
    await tx.update(archives).set({ bytes: archive.bytes }).where(eq(archives.id, archive.id));
    for (const { id, bytes } of parts) await tx.update(archiveParts).set({ bytes }).where(eq(archiveParts.id, id));
  });
}
