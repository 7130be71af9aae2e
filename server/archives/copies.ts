// Copies of archives on carriers: which are good, what proves one, and what is written down when one is not. Asked by the
// steps that remove originals and restore, and by the shelf.
import { and, asc, eq, gt, inArray, or } from 'drizzle-orm';
import { NoContainer } from '#core/archive/containers/container.ts';
import type { ManifestEntry } from '#core/fixity/bagit.ts';
import { FAST_SUMS, MANIFEST, parseManifest, PAYLOAD, TAG_MANIFEST } from '#core/fixity/bagit.ts';
import { codeOf } from '#disk/facts.ts';
import { sha512 } from '#disk/sums.ts';
import { type Carrier, CarrierAway } from '../carriers/kind.ts';
import { type CarrierPlace, openCarrier, placeOf, waitSeconds } from '../carriers/kinds.ts';
import { isAsFound, packedName } from '../carriers/packers.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyFiles, copyParts } from '../db/schema/archives.ts';
import { carriers } from '../db/schema/stores.ts';

export interface CopyPart {
  copyPartId: number;
  copyId: number;
  partId: number;
  /** Of the archive itself, not of one that it builds on. */
  isOwn: boolean;
  /** Of how many parts this is which, from 1; its size; and the archive that it is a part of. */
  number: number;
  bytes: number;
  archive: string;
  readBackMs: number | null;
  /** Where the carrier is kept, and whether it is in reach. */
  keptAt: string;
  carrierState: string;
  /** Until something of it is here, where it is not there at once. */
  waitSeconds: number;
  carrierId: number;
  carrier: string;
  folder: string;
  manifestSha512: string | null;
  state: string;
  /** It is damaged, and another copy was made instead of it. */
  isReplaced: boolean;
  place: CarrierPlace;
}

/** Where everything that an archive holds lies: the parts of its own copies, and of the archives that it builds on. */
export async function copyPartsOf(
  db: Db,
  archiveId: number,
  pathOf: (carrierId: number) => string | null = () => null,
): Promise<CopyPart[]> {
  const rows = await db
    .select({ part: copyParts, of: archiveParts, archive: archives, copy: archiveCopies, carrier: carriers })
    .from(copyParts)
    .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
    .innerJoin(archives, eq(archives.id, archiveParts.archiveId))
    .innerJoin(archiveCopies, eq(archiveCopies.id, copyParts.copyId))
    .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
    .where(
      or(
        eq(archiveParts.archiveId, archiveId),
        inArray(
          archiveParts.id,
          db
            .selectDistinct({ id: archiveFiles.partId })
            .from(archiveFiles)
            .where(eq(archiveFiles.archiveId, archiveId)),
        ),
      ),
    )
    .orderBy(asc(copyParts.id));
  return rows.map(({ part, of, archive, copy, carrier }) => ({
    copyPartId: part.id,
    copyId: copy.id,
    partId: of.id,
    isOwn: of.archiveId === archiveId,
    ...{ number: of.ord, bytes: of.bytes, archive: archive.folder, readBackMs: part.readBackAt?.getTime() ?? null },
    ...{ keptAt: carrier.place, carrierState: carrier.state, waitSeconds: waitSeconds(carrier) },
    carrierId: carrier.id,
    carrier: carrier.name,
    folder: part.folder ?? of.folder,
    manifestSha512: of.manifestSha512,
    state: part.state,
    isReplaced: copy.replacedBy !== null,
    place: placeOf(carrier, pathOf(carrier.id), part.packer ?? archive.packer),
  }));
}

/** What a copy says that it should not, in words: it is not the one that was sealed. */
export class CopyDamaged extends Error {
  override readonly name = 'CopyDamaged';
  readonly code = 'copy_damaged';
}

const SMALL = 64 << 20;

/** A small file of a carrier, whole. Throws where it is not small: lists are bounded. */
export async function readText(carrier: Carrier, folder: string, at: string): Promise<string> {
  const chunks: Buffer[] = [];
  let bytes = 0;
  for await (const chunk of (await carrier.read(folder, at)) as AsyncIterable<Buffer>) {
    bytes += chunk.length;
    if (bytes > SMALL * 8) throw new CopyDamaged(`${at} is larger than any list that was written`);
    chunks.push(chunk);
  }
  return Buffer.concat(chunks).toString('utf8');
}

export interface TrustedSums {
  sha512: Map<string, string>;
  /** By payload path; null in archives that were sealed before XXH64 was kept. */
  xxh64: Map<string, string> | null;
  /** The lists themselves and everything else beside the payload, by name; the tag manifest last. None of what was found. */
  texts: Map<string, string>;
}

/** Of what others filled nothing on the carrier is trusted: its sums are those that were read when it was taken in. */
async function sumsTakenIn(db: Db, carrier: Carrier, part: CopyPart): Promise<TrustedSums> {
  if (!(await carrier.has(part.folder))) throw new CopyDamaged(`${part.folder} is not on the carrier`);
  const sums: TrustedSums = { sha512: new Map(), xxh64: new Map(), texts: new Map() };
  for (let last = 0; ;) {
    const rows = await db
      .select({
        id: archiveFiles.id,
        path: archiveFiles.payloadPath,
        sha512: archiveFiles.sha512,
        xxh64: archiveFiles.xxh64,
      })
      .from(archiveFiles)
      .where(and(eq(archiveFiles.partId, part.partId), gt(archiveFiles.id, last)))
      .orderBy(asc(archiveFiles.id))
      .limit(10_000);
    for (const { path, ...own } of rows) {
      sums.sha512.set(`${PAYLOAD}/${path}`, own.sha512!);
      sums.xxh64!.set(`${PAYLOAD}/${path}`, own.xxh64!);
    }
    if (rows.length < 10_000) return sums;
    last = rows.at(-1)!.id;
  }
}

/**
 * Sums of every payload file, trusted because each list is covered by the one before it, up to the catalogue. Throws
 * CopyDamaged with what is wrong; what the carrier itself throws goes on.
 */
export async function trustedSums(db: Db, carrier: Carrier, part: CopyPart): Promise<TrustedSums> {
  if (isAsFound(part.place.packer)) return sumsTakenIn(db, carrier, part);
  const text = async (name: string) => {
    try {
      return await readText(carrier, part.folder, name);
    } catch (error) {
      if (error instanceof CopyDamaged || error instanceof CarrierAway) throw error;
      if (!(await carrier.has(part.folder)))
        throw new CopyDamaged(`${packedName(part.folder, part.place.packer)} is not on the carrier`);
      if (error instanceof NoContainer)
        throw new CopyDamaged(`of ${packedName(part.folder, part.place.packer)} ${error.message}`);
      throw new CopyDamaged(`${name} cannot be read (${codeOf(error)})`);
    }
  };
  const tags = await text(TAG_MANIFEST);
  if (part.manifestSha512 === null || sha512(tags) !== part.manifestSha512)
    throw new CopyDamaged(`${TAG_MANIFEST} is not the one that was sealed`);
  const listed = entriesOf(TAG_MANIFEST, tags, 128);
  const lists = new Map<string, string>();
  for (const entry of listed) {
    const own = await text(entry.path);
    if (sha512(own) !== entry.hash) throw new CopyDamaged(`${entry.path} is not what was sealed`);
    lists.set(entry.path, own);
  }
  const strong = entriesOf(MANIFEST, lists.get(MANIFEST) ?? '', 128);
  if (strong.some((entry) => !entry.path.startsWith(`${PAYLOAD}/`)))
    throw new CopyDamaged(`${MANIFEST} lists what is no payload`);
  const fast = lists.has(FAST_SUMS) ? entriesOf(FAST_SUMS, lists.get(FAST_SUMS)!, 16) : null;
  return { sha512: asMap(strong), xxh64: fast && asMap(fast), texts: lists.set(TAG_MANIFEST, tags) };
}

const asMap = (entries: readonly ManifestEntry[]) => new Map(entries.map((entry) => [entry.path, entry.hash]));

function entriesOf(name: string, text: string, digits: number): ManifestEntry[] {
  const reading = parseManifest(text, digits);
  if (!reading.ok)
    throw new CopyDamaged(`line ${reading.trouble.line} of ${name} is wrong (${reading.trouble.detail})`);
  return reading.entries;
}

/** Opens the carrier of a part, uses it and closes it. */
export async function withCarrier<T>(part: Pick<CopyPart, 'place'>, use: (carrier: Carrier) => Promise<T>): Promise<T> {
  const carrier = await openCarrier(part.place);
  try {
    return await use(carrier);
  } finally {
    await carrier.close();
  }
}

/** Writes down that a part of a copy is damaged, and which of its files. The copy is as good as its worst part. */
export async function markDamaged(
  tx: Transaction,
  part: CopyPart,
  fileIds: readonly number[],
  now: Date,
): Promise<void> {
  await tx.update(copyParts).set({ state: 'damaged' }).where(eq(copyParts.id, part.copyPartId));
  await tx.update(archiveCopies).set({ state: 'damaged' }).where(eq(archiveCopies.id, part.copyId));
  for (const archiveFileId of fileIds)
    await tx
      .insert(copyFiles)
      .values({ copyPartId: part.copyPartId, archiveFileId, state: 'damaged', readBackAt: now })
      .onDuplicateKeyUpdate({ set: { state: 'damaged', readBackAt: now } });
}

/** Writes down that files of a part were read back as they were sealed. */
export async function markReadBack(
  tx: Transaction,
  part: CopyPart,
  fileIds: readonly number[],
  now: Date,
): Promise<void> {
  for (const archiveFileId of fileIds)
    await tx
      .insert(copyFiles)
      .values({ copyPartId: part.copyPartId, archiveFileId, state: 'read back', readBackAt: now })
      .onDuplicateKeyUpdate({ set: { state: 'read back', readBackAt: now } });
}
