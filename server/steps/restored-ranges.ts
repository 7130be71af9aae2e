// Ranges of media instead of whole files, as an archive is brought back: the whole is read and proved, and what is asked for of it is cut
// on the volume, in the folder that nobody sees yet. The step that restores calls this; which frames there are is kept with the step, so
// that documents say it.
import { eq } from 'drizzle-orm';
import type { Handles } from '#core/archive/lengths.ts';
import { joinPath } from '#core/paths.ts';
import { sumFile } from '#disk/content/content.ts';
import { codeOf, look } from '#disk/facts.ts';
import { keepTime } from '#disk/folders.ts';
import type { Root } from '#disk/root.ts';
import { removeOwn, renameNew } from '#disk/write.ts';
import { filesMeant, type Only } from '../archives/contents.ts';
import { type InRanges, rangePath, rangesMeant, stillsNotShown } from '../archives/ranges.ts';
import { cutOwn } from '../carriers/copying.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { grouped } from '#core/grouped.ts';
import { inSlices } from '../db/holdings.ts';
import { stepParts } from '../db/schema/plans.ts';
import type { JobContext } from '../runtime/context.ts';
import type { Item } from '../runtime/run-items.ts';

type Row = typeof stepParts.$inferSelect;

/** A file that comes in ranges, and what is kept of how far they are. */
export interface Ranged extends Omit<InRanges, 'parts'> {
  parts: Row[];
}
export type Ranges = Map<number, Ranged>;

/** Keeps which ranges come of which files. */
export async function chooseRanges(
  tx: Transaction,
  stepId: number,
  ranges: ReadonlyMap<number, InRanges>,
): Promise<void> {
  const rows = [...ranges].flatMap(([fileId, { parts }]) =>
    parts.map(({ from, to, bytes }) => ({ stepId, fileId, partFrom: from, partTo: to, sizeBytes: bytes })),
  );
  for (const some of inSlices(rows)) await tx.insert(stepParts).values(some);
}

interface Asked {
  archiveId: number;
  only: Only | null;
  handles: Handles | null;
}

/** The files that are brought back, whole or in ranges; and of sequences the stills that stay, with where each lies in the archive. */
export async function filesAsked(
  db: Db,
  { archiveId, only, handles }: Asked & { only: Only },
): Promise<{ ids: number[]; stillsOut: ReadonlyMap<number, string> }> {
  const meant = await filesMeant(db, archiveId, only);
  if (!handles) return { ids: meant, stillsOut: new Map() };
  const stillsOut = await stillsNotShown(db, archiveId, { only, handles, meant });
  return { ids: meant.filter((id) => !stillsOut.has(id)), stillsOut };
}

/** As they were kept when the step began, without those that turned out not to be cut. */
export async function rangesOfStep(db: Db, stepId: number, { archiveId, only, handles }: Asked): Promise<Ranges> {
  if (!only || !handles) return new Map();
  const rows = await db.select().from(stepParts).where(eq(stepParts.stepId, stepId)).orderBy(stepParts.id);
  const known = await rangesMeant(db, archiveId, { only, handles, meant: await filesMeant(db, archiveId, only) });
  const found: Ranges = new Map();
  for (const [id, parts] of grouped(rows, (row) => row.fileId)) {
    const file = known.get(id);
    if (file && parts.every((part) => part.whyWhole === null)) found.set(id, { ...file, parts });
  }
  return found;
}

interface Cutting {
  root: Root;
  /** The folder in which it is built. */
  built: string;
  item: Item;
  /** Where the whole lies, proved. */
  temporary: string;
  ranges: Ranges;
}

/** Cuts the ranges of one file and puts them in their places; false where it has to come whole, which is kept with the reason. */
export async function cutInto(
  context: JobContext,
  { root, built, item, temporary, ranges }: Cutting,
): Promise<boolean> {
  const ranged = ranges.get(item.archiveFileId!)!;
  const made: { id: number; sizeBytes: number; partFrom: number; partTo: number }[] = [];
  const places: string[] = [];
  try {
    for (const part of ranged.parts) {
      const cut = await cutOne(context, { root, item, temporary, part });
      const place = root.make(joinPath(built, rangePath(ranged.payloadPath, cut.partFrom)));
      removeOwn(place);
      renameNew((await context.names()).place(root, 'cut', item.id), place);
      places.push(place);
      made.push({ id: part.id, ...cut });
    }
  } catch (error) {
    if (codeOf(error) !== 'cannot_cut') throw error;
    for (const place of places) removeOwn(place);
    const whyWhole = (error as Error).message.slice(0, 250);
    await context.transaction(async (tx) => {
      for (const { id } of ranged.parts) await tx.update(stepParts).set({ whyWhole }).where(eq(stepParts.id, id));
    });
    ranges.delete(ranged.id);
    return false;
  }
  await context.transaction(async (tx) => {
    for (const { id, ...cut } of made)
      await tx
        .update(stepParts)
        .set({ ...cut, measured: true })
        .where(eq(stepParts.id, id));
  });
  for (const [i, part] of ranged.parts.entries()) Object.assign(part, made[i]);
  return true;
}

/** Under a private name, read once more, and the same as it was written. */
async function cutOne(
  context: JobContext,
  { root, item, temporary, part }: Pick<Cutting, 'root' | 'item' | 'temporary'> & { part: Row },
): Promise<{ sizeBytes: number; partFrom: number; partTo: number }> {
  const to = (await context.names()).place(root, 'cut', item.id);
  removeOwn(to);
  const facts = look(temporary);
  if (facts.is !== 'file') throw new Error('What was brought is gone.');
  const { stop, pools } = context;
  try {
    const asked = { from: part.partFrom, to: part.partTo };
    const made = await cutOwn(pools.carriers, { from: temporary, expected: facts, part: asked, to }, { stop });
    const { xxh64, sizeBytes } = await sumFile(pools.content, to, { sha512: false, stop });
    if (xxh64 !== made.xxh64 || sizeBytes !== made.sizeBytes)
      throw new Error('A range that was cut reads otherwise than it was written.');
    keepTime(to, item.modifiedUs);
    return { sizeBytes, partFrom: made.part!.from, partTo: made.part!.to };
  } catch (error) {
    removeOwn(to);
    throw error;
  }
}

/** Bytes that were read and do not come. */
export const leftOut = (ranges: Ranges): number =>
  [...ranges.values()].reduce(
    (sum, { wholeBytes, parts }) => sum + wholeBytes - parts.reduce((n, part) => n + part.sizeBytes, 0),
    0,
  );

/** Where a file of an archive comes to lie, below the folder. */
export const placesOf = (ranged: Ranged | undefined, payloadPath: string): string[] =>
  ranged ? ranged.parts.map((part) => rangePath(payloadPath, part.partFrom)) : [payloadPath];
