// What the writing of a package is made of: what it is for, the copies that are being written, and the sentences in which it
// refuses. Shared by the files that open its carriers, write it and seal it.
import { and, eq, inArray, type SQL, sql } from 'drizzle-orm';
import type { ArchiveScope } from '#core/archive/selection.ts';
import type { CarrierId, ProjectId } from '#core/model.ts';
import { type Hours, hoursFor } from '#core/nights/hours.ts';
import { HELD_REASONS, HELD_WORDS, type HeldReason } from '#core/plan/plan.ts';
import type { StepKind } from '#core/steps/kind.ts';
import { size } from '#core/wording/amounts.ts';
import { codeOf } from '#disk/facts.ts';
import { type ArchiveFile, payloadAt } from '../archives/bag.ts';
import { nightOf } from '../archives/project-nights.ts';
import { type Carrier, type Pack, PackGone } from '../carriers/kind.ts';
import type { CarrierPlace } from '../carriers/kinds.ts';
import type { Database, Transaction } from '../db/connect.ts';
import { archiveFiles, archiveParts, archives, copyFiles } from '../db/schema/archives.ts';
import type { steps } from '../db/schema/plans.ts';
import type { JobContext } from '../runtime/context.ts';
import { noteProgress } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { nightHours } from '../site/night-hours.ts';

export type Part = typeof archiveParts.$inferSelect;

/** A part of a copy that is being written. */
export interface Target extends Destination {
  carrier: Carrier;
  part: Part;
  pack: Pack;
  /** It has its name already: an earlier run placed it. */
  placed: boolean;
}

/** Where a part of a copy is to go, as it is written down. */
export interface Destination {
  copyPartId: number;
  copyId: number;
  name: string;
  place: CarrierPlace;
  /** What may be written there, of what it says is free. */
  room(saidFreeBytes: number): Promise<number>;
}

/** A carrier that copies are laid on. */
export type Candidate = Omit<Destination, 'copyPartId' | 'copyId'> & { carrierId: CarrierId };

/** What a package is for. */
export interface Purpose {
  kind: StepKind;
  projectId: ProjectId;
  scope: ArchiveScope;
  /** Who gets it; null for an archive of the house, which says where everything was. */
  handedTo: string | null;
  /** The carriers of each copy, which are laid out once everything is weighed; null where its one copy is written down already. */
  sets: ((context: JobContext) => Promise<Candidate[][]>) | null;
  destinations(context: JobContext, part: Part): Promise<Destination[]>;
  /** What follows once it has its name, before the last of the work; told in its receipt. Run again, it changes nothing more. */
  afterwards?(writing: Writing): Promise<Record<string, unknown>>;
  /** What becomes of it, with the last of the work; `facts` are its receipt's. */
  concluded(tx: Transaction, writing: Writing, facts: Record<string, unknown>): Promise<Record<string, unknown>>;
}

export interface Writing {
  context: JobContext;
  step: typeof steps.$inferSelect;
  purpose: Purpose;
  scope: ArchiveScope;
  archive: typeof archives.$inferSelect;
  /** In order; files of an earlier archive that this one builds on lie in none of them. */
  parts: Part[];
  targets: Target[];
  /** Bytes a second that one file is written with at most, where others are to feel nothing of it. */
  mostPerSecond?: number;
  /** Those in which it may be written; null: whenever it is asked for. */
  hours: Hours | null;
  /** What followed it, for the receipt. */
  followed?: Record<string, unknown>;
}

/** What is being written, as far as whoever writes it and proves it needs to know: a package, or another copy of one. */
export type Bench = Pick<Writing, 'context' | 'step' | 'archive' | 'targets'>;

export async function openWriting(
  context: JobContext,
  step: typeof steps.$inferSelect,
  purpose: Purpose,
): Promise<Writing> {
  const { db, job } = context;
  const archiveId = Number(job.params.archiveId);
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  const parts = await partsOf(db, archiveId);
  if (!archive || parts.length === 0) throw new Error('The archive of this job is not in the catalogue.');
  const night = archive.night ? await nightOf(db, archive.projectId as ProjectId) : null;
  // As many files at once as there are threads share it.
  const mostPerSecond = night?.mostMBps ? (night.mostMBps * 1e6) / context.pools.carriers.size : undefined;
  const hours = archive.night ? hoursFor(await nightHours(db), 'projects') : null;
  return { context, step, purpose, scope: purpose.scope, archive, parts, targets: [], mostPerSecond, hours };
}

export const partsOf = (db: Database, archiveId: number): Promise<Part[]> =>
  db.select().from(archiveParts).where(eq(archiveParts.archiveId, archiveId)).orderBy(archiveParts.ord);

/** The copies of a file's part that have no name yet. */
export const openFor = ({ targets }: Bench, file: { partId: number }): Target[] =>
  targets.filter((target) => !target.placed && target.part.id === file.partId);

/** The rows of an archive that lie in parts of its own. */
export const inOwnParts = ({ archive, parts }: Pick<Writing, 'archive' | 'parts'>): SQL =>
  and(
    eq(archiveFiles.archiveId, archive.id),
    inArray(
      archiveFiles.partId,
      parts.map((part) => part.id),
    ),
  )!;

/** What is read of originals, by the rows of the archive. */
export const READ_ROLES = ['media', 'part', 'encoded', 'original document'] as const;

export async function bytesOf(db: Database, which: SQL): Promise<number> {
  const [row] = await db
    .select({ bytes: sql`COALESCE(SUM(${archiveFiles.sizeBytes}), 0)`.mapWith(Number) })
    .from(archiveFiles)
    .where(which);
  return row!.bytes;
}

export async function textOf(carrier: Carrier, of: Pack | string, at: string): Promise<string> {
  const chunks: Buffer[] = [];
  for await (const chunk of (await carrier.read(of, at)) as AsyncIterable<Buffer>) chunks.push(chunk);
  return Buffer.concat(chunks).toString('utf8');
}

export interface Sums {
  sizeBytes: number;
  sha512: string;
  xxh64: string;
}

export const keepSums = (file: ArchiveFile, { sizeBytes, sha512: strong, xxh64 }: Sums): void =>
  void Object.assign(file, { payloadBytes: sizeBytes, sha512: strong, xxh64 });

export async function readBack(writing: Bench, target: Target, file: ArchiveFile): Promise<void> {
  const copies = writing.targets.filter((one) => one.part.id === target.part.id).length;
  const sums = await sumOn(writing, target, payloadAt(file), (bytes) => writing.context.add(bytes / copies));
  if (sums.xxh64 !== file.xxh64 || sums.sizeBytes !== file.payloadBytes) throw differs(target.name, file.payloadPath);
}

export async function sumOn(
  { context }: Bench,
  target: Target,
  at: string,
  progress?: (bytes: number) => void,
): Promise<Sums> {
  try {
    return await context.pools.carriers.ask(
      { do: 'sum', carrier: target.place, of: target.pack, at, strong: progress === undefined },
      { progress, stop: context.stop },
    );
  } catch (error) {
    context.check();
    const code = codeOf(error);
    if (code === 'ENOENT') await context.assertLease();
    if (['ENOENT', 'EIO', 'not a file', 'ELOOP'].includes(code)) throw differs(target.name, at);
    throw error;
  }
}

/** What is known of files by now, of all at once: one row after the other costs as much as copying a small one. */
async function keepProven(tx: Transaction, files: readonly ArchiveFile[]): Promise<void> {
  const rows = files.map(({ id, payloadBytes, sha512: strong, xxh64 }) => [id, payloadBytes, strong, xxh64]);
  await tx.execute(sql`
    UPDATE ${archiveFiles} f JOIN JSON_TABLE(${JSON.stringify(rows)}, '$[*]' COLUMNS (id INT PATH '$[0]', payload_bytes BIGINT PATH '$[1]',
      sha512 CHAR(128) PATH '$[2]', xxh64 CHAR(16) PATH '$[3]')) proven ON proven.id = f.id
    SET f.payload_bytes = proven.payload_bytes, f.sha512 = proven.sha512, f.xxh64 = proven.xxh64`);
}

export async function noteFiles(
  { context, targets }: Bench,
  files: readonly ArchiveFile[],
  state: 'written' | 'read back',
): Promise<void> {
  const readBackAt = state === 'read back' ? context.now() : null;
  const rows = files.flatMap((file) =>
    targets
      .filter((target) => !target.placed && target.part.id === file.partId)
      .map(({ copyPartId }) => ({ copyPartId, archiveFileId: file.id, state, readBackAt })),
  );
  await context.transaction(async (tx) => {
    await noteProgress(tx, context.job);
    await keepProven(tx, files);
    if (rows.length > 0) await tx.insert(copyFiles).values(rows).onDuplicateKeyUpdate({ set: { state, readBackAt } });
  });
}

/** Why a file did not go in, in a sentence; a pack that is gone means that another worker has it, or had it. */
export async function throwFor(
  { context }: Bench,
  error: unknown,
  file: Pick<ArchiveFile, 'path' | 'sizeBytes'>,
): Promise<never> {
  context.check();
  const code = codeOf(error);
  if (error instanceof PackGone || code === 'pack_gone') {
    await context.assertLease();
    throw new Refused(
      'What had been written was taken away from where it was written. Nothing was sealed; the originals were not touched. Add it to the plan again.',
    );
  }
  if (code === 'carrier_away')
    throw new Refused(
      'Where it was written was taken away meanwhile. Nothing was sealed; the originals were not touched.',
    );
  if (code === 'ENOSPC' || code === 'EDQUOT')
    throw new Refused(
      `There was no room left: ${size(file.sizeBytes)} of ${file.path} did not fit. What was written was thrown away; the originals were not touched. Choose another place for it.`,
    );
  // What could be cut when it was weighed, and cannot now, is another file.
  const reason = code === 'cannot_cut' ? 'changed' : HELD_REASONS.find((one) => one === code);
  if (reason) throw notAsPlanned(file.path, reason);
  throw error;
}

export const notAsPlanned = (path: string, reason: HeldReason) =>
  new Refused(
    `${path} cannot go in: ${HELD_WORDS[reason]}. Nothing was sealed, and what was written was thrown away; the originals were not touched. Read the volume again and add it to the plan anew.`,
  );

export const differs = (carrier: string, example: string) =>
  new Refused(
    `${example} on ${carrier} read back differently from what was written. The disk may be failing. Nothing was sealed and the originals were not touched. Use another one.`,
  );
