// Ranges of media that go into an archive instead of the whole. Each is made up before anything is written, so that its size
// is known to the byte; what cannot be cut stays whole, and why is kept with it.
import { and, eq, inArray, notInArray } from 'drizzle-orm';
import { fold, freePlace } from '#core/archive/names.ts';
import type { Frames } from '#core/essence/cut/cut.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import { codeOf } from '#disk/facts.ts';
import type { ArchiveFile } from '../archives/bag.ts';
import { measurePart } from '../carriers/copying.ts';
import { archiveFiles } from '../db/schema/archives.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';

export const partIn = ({ role, partFrom, partTo }: ArchiveFile): Frames | null =>
  role === 'part' ? { from: partFrom!, to: partTo! } : null;

export function grouped<T, K>(items: readonly T[], keyOf: (item: T) => K): Map<K, T[]> {
  const groups = new Map<K, T[]>();
  for (const item of items) {
    const group = groups.get(keyOf(item));
    if (group) group.push(item);
    else groups.set(keyOf(item), [item]);
  }
  return groups;
}

/** Says in a sentence why a file cannot go in. */
type Fail = (error: unknown, file: ArchiveFile) => Promise<never>;

/** False where all was weighed already. */
export async function weighParts(context: JobContext, archiveId: number, fail: Fail): Promise<boolean> {
  const rows = await context.db
    .select()
    .from(archiveFiles)
    .where(and(eq(archiveFiles.archiveId, archiveId), eq(archiveFiles.role, 'part'), eq(archiveFiles.measured, false)))
    .orderBy(archiveFiles.id);
  const files = [...grouped(rows, (row) => row.fileId).values()];
  if (files.length === 0) return false;
  context.phase('reading where frames lie', 'files', files.length);
  for (const { volumeId } of rows) await context.root(volumeId);
  await inParallel(context.pools.carriers.size, files, async (parts) => {
    context.check();
    await weigh(context, parts, fail);
    context.add(1);
  });
  return true;
}

async function weigh(context: JobContext, parts: readonly ArchiveFile[], fail: Fail): Promise<void> {
  const [first] = parts;
  const root = await context.root(first!.volumeId);
  const weighed: { id: number; sizeBytes: number; part: Frames }[] = [];
  try {
    if (!root) throw Object.assign(new Error('Its volume cannot be reached.'), { code: 'unreachable' });
    for (const file of parts) {
      const { sizeBytes, part } = await measurePart(
        context.pools.carriers,
        { from: root.place(file), expected: { ...file, sizeBytes: file.ofBytes! }, part: partIn(file)! },
        { stop: context.stop },
      );
      weighed.push({ id: file.id, sizeBytes, part: part! });
    }
  } catch (error) {
    if (codeOf(error) !== 'cannot_cut') return fail(error, first!);
    return staysWhole(context, parts, (error as Error).message);
  }
  await context.transaction(async (tx) => {
    for (const { id, sizeBytes, part } of weighed)
      await tx
        .update(archiveFiles)
        .set({ sizeBytes, partFrom: part.from, partTo: part.to, measured: true })
        .where(eq(archiveFiles.id, id));
  });
}

/** Instead of its parts the file goes in whole, under its own name, or one beside it where that is taken. */
async function staysWhole(context: JobContext, parts: readonly ArchiveFile[], why: string): Promise<void> {
  const [first] = parts;
  const ids = parts.map((part) => part.id);
  await context.transaction(async (tx) => {
    const rows = await tx
      .select({ at: archiveFiles.payloadPath })
      .from(archiveFiles)
      .where(and(eq(archiveFiles.archiveId, first!.archiveId), notInArray(archiveFiles.id, ids)));
    const taken = new Set(rows.map((row) => fold(row.at)));
    const { id: _, ofBytes, ...row } = first!;
    await tx.delete(archiveFiles).where(inArray(archiveFiles.id, ids));
    await tx.insert(archiveFiles).values({
      ...row,
      role: 'media',
      payloadPath: freePlace(folderOf(first!.payloadPath), nameOf(first!.path), taken),
      sizeBytes: ofBytes!,
      partFrom: null,
      partTo: null,
      whyWhole: why.slice(0, 250),
    });
  });
}
