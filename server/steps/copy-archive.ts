// Another copy of a sealed archive: what it takes, and what stands against it. Where parts do not fit, or no good copy is there to
// read from, the plan says so.
import { eq, sql } from 'drizzle-orm';
import { layOn, overheadOf } from '#core/archive/layout.ts';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import type { ArchiveId, CarrierId } from '#core/model.ts';
import { copyArchive as kind } from '#core/steps/copy-archive.ts';
import { type CopyPart, copyPartsOf } from '../archives/copies.ts';
import { carrierRows } from '../archives/shelf.ts';
import { refusePacking, takesPacked } from '../carriers/kinds.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { archiveCopies, archiveParts, archives, copyParts } from '../db/schema/archives.ts';
import { steps } from '../db/schema/plans.ts';
import { Refused } from '../runtime/refused.ts';
import { addStep } from './adding.ts';
import { carriersAway, finding } from './findings.ts';
import { serverStep } from './kind.ts';
import { type Part, partsOf } from './package-model.ts';
import { carriersToRead, lacksGood, sourcesOf } from './part-sources.ts';
import { giveUpCopy, writeCopy } from './write-copy.ts';

type Params = ReturnType<typeof kind.params.parse>;

export interface NewCopy {
  archiveId: ArchiveId;
  carrierIds: readonly CarrierId[];
  /** The damaged copy that it is made instead of. */
  instead?: number;
  now: Date;
}

/** Adds another copy of an archive to the plan, whole on the first of these carriers that holds it, or over all of them. */
export async function addCopy(
  db: Database,
  { archiveId, carrierIds, instead, now }: NewCopy,
): Promise<{ files: number; bytes: number }> {
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  if (archive?.state !== 'sealed') throw new Refused('There is no such sealed archive. Nothing was added.');
  const rows = (await carrierRows(db)).filter((row) => carrierIds.includes(row.carrierId));
  if (rows.length === 0 || rows.length !== new Set(carrierIds).size)
    throw new Refused('No carrier is chosen, or one is not known. Nothing was added.');
  refusePacking(rows, archive.packer);
  const copies = await copyPartsOf(db, archiveId);
  const bad = copies.filter((part) => part.isOwn && part.copyId === instead);
  if (instead !== undefined && (bad.length === 0 || !isDamaged(bad)))
    throw new Refused(`That copy of ${archive.name} is not damaged, or was repaired already. Nothing was added.`);
  const has = copies.find(
    (part) => part.isOwn && part.state !== 'ended early' && carrierIds.includes(part.carrierId as CarrierId),
  );
  if (has)
    throw new Refused(
      `${has.carrier} holds a copy of ${archive.name} already: what fails takes both. Nothing was added; choose another carrier.`,
    );
  if (lacksGood(await sourcesOf(db, { archiveId, copyId: 0 })))
    throw new Refused(`A part of ${archive.name} has no good copy to copy from. Nothing was added.`);
  const parts = await partsOf(db, archiveId);
  const on = partsOn(parts, rows, archive.packer);
  const params: Params = {
    ...{ archiveId, archiveName: archive.name, on },
    ...(instead === undefined
      ? {}
      : { instead: { copyId: instead, carriers: [...new Set(bad.map((part) => part.carrier))] } }),
  };
  const named = new Map(rows.map((row) => [row.carrierId, row.name]));
  const names = { carriers: [...new Set(on.map((one) => named.get(one.carrierId)!))] };
  return inTransaction(db, async (tx) => {
    const stepId = await addStep(tx, { kind, params, names, now });
    const sum = {
      files: parts.reduce((files, part) => files + part.files, 0),
      bytes: parts.reduce((bytes, part) => bytes + part.bytes, 0),
    };
    await tx.update(steps).set(sum).where(eq(steps.id, stepId));
    return sum;
  });
}

const isDamaged = (parts: readonly CopyPart[]): boolean =>
  parts.some((part) => part.state === 'damaged') && parts.every((part) => !part.isReplaced);

export interface Repairable {
  copyId: number;
  carriers: string[];
  /** Where the new copy is best made: in reach, with room, and not where a good copy lies already. Null where nothing will do. */
  to: CarrierId | null;
}

/** Damaged copies of an archive that nothing was made instead of yet. */
export async function repairable(db: Database, archiveId: ArchiveId): Promise<Repairable[]> {
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  if (archive?.state !== 'sealed') return [];
  const own = (await copyPartsOf(db, archiveId)).filter((part) => part.isOwn && part.state !== 'ended early');
  const byCopy = new Map<number, CopyPart[]>();
  for (const part of own) byCopy.set(part.copyId, [...(byCopy.get(part.copyId) ?? []), part]);
  const parts = await partsOf(db, archiveId);
  const overhead = overheadOf(archive.packer);
  const files = parts.reduce((sum, part) => sum + part.files, 0);
  const needed = parts.reduce((sum, part) => sum + part.bytes + overhead.partBytes, 0) + files * overhead.fileBytes;
  const goodPlaces = new Set(own.filter((part) => part.state === 'good').map((part) => part.keptAt));
  const best = (await carrierRows(db))
    .filter(
      (row) =>
        row.state === 'reachable' &&
        row.freeBytes >= needed &&
        takesPacked(row.kind, archive.packer) &&
        !own.some((part) => part.carrierId === row.carrierId),
    )
    .sort((a, b) => Number(goodPlaces.has(a.place)) - Number(goodPlaces.has(b.place)) || a.freeBytes - b.freeBytes);
  return [...byCopy.values()].filter(isDamaged).map((bad, i) => ({
    copyId: bad[0]!.copyId,
    carriers: [...new Set(bad.map((part) => part.carrier))],
    // Two copies on one carrier would fail together.
    to: best[i]?.carrierId ?? null,
  }));
}

export interface CarrierCopies {
  archives: number;
  bytes: number;
  /** Archives that are not copied, each with the reason. */
  left: string[];
}

/**
 * Adds a copy of every archive that has something on a carrier to the plan, onto another: before it gets old, or is full. The carrier
 * itself stays as it is. Throws Refused where none can be copied.
 */
export async function addCarrierCopies(
  db: Database,
  { carrierId, to, now }: { carrierId: CarrierId; to: CarrierId; now: Date },
): Promise<CarrierCopies> {
  const rows = await carrierRows(db);
  const from = rows.find((row) => row.carrierId === carrierId);
  if (!from || !rows.some((row) => row.carrierId === to) || carrierId === to)
    throw new Refused('Choose another carrier that is registered. Nothing was added.');
  const all = new Map(from.layers.map(({ archiveId, name }) => [archiveId, name]));
  const sum: CarrierCopies = { archives: 0, bytes: 0, left: [] };
  for (const [archiveId, name] of all)
    try {
      const { bytes } = await addCopy(db, { archiveId, carrierIds: [to], now });
      sum.archives++;
      sum.bytes += bytes;
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      sum.left.push(`${name}: ${error.message.replace(/ Nothing was added.*$/, '')}`);
    }
  if (sum.archives === 0)
    throw new Refused(
      sum.left[0] ? `${sum.left[0]} Nothing was added.` : `${from.name} holds nothing. Nothing was added.`,
    );
  return sum;
}

/** Parts are as they were sealed: each goes whole on a carrier. Where they do not fit, the first has them all, and the plan says so. */
function partsOn(
  parts: readonly Part[],
  rows: readonly { carrierId: CarrierId; freeBytes: number }[],
  packer: string,
): Params['on'] {
  const { partBytes } = overheadOf(packer);
  const sizes = parts.map((part) => part.bytes);
  const holders = rows.map(({ carrierId, freeBytes }) => ({ carrierId, roomBytes: freeBytes }));
  const overhead = { partBytes: 0, fileBytes: partBytes };
  const alone = holders.find((holder) => layOn(sizes, [[holder]], overhead));
  const laid = layOn(sizes, [alone ? [alone] : holders], overhead);
  const carrierOf = (part: number): CarrierId =>
    (laid?.copies[0]!.carriers.find((one) => one.parts.includes(laid.partOf[part]!))?.carrierId ??
      holders[0]!.carrierId) as CarrierId;
  const on = new Map<CarrierId, Params['on'][number]>();
  for (const [i, part] of parts.entries()) {
    const carrierId = carrierOf(i);
    const own = on.get(carrierId) ?? { carrierId, partIds: [], bytes: 0 };
    on.set(carrierId, { carrierId, partIds: [...own.partIds, part.id], bytes: own.bytes + part.bytes });
  }
  return [...on.values()];
}

const targetsOf = ({ on }: Params): number[] => on.map((one) => one.carrierId);
const read = (db: Db, params: Params) =>
  carriersToRead(db, {
    ...{ archiveId: params.archiveId, copyId: 0 },
    with: { volumeIds: [], carrierIds: targetsOf(params) },
  });

export const copyArchive = serverStep({
  kind,
  async findings(db, step, params) {
    const { archiveId, archiveName, on } = params;
    const sources = await sourcesOf(db, { archiveId, copyId: 0 });
    const { needed } = await read(db, params);
    const findings = await carriersAway(db, step, [...targetsOf(params), ...needed]);
    if (lacksGood(sources))
      findings.push(finding(step, 'no source', 'stop', { archive: archiveName, parts: sources.size }));
    const rows = await carrierRows(db);
    const parts = await db.select().from(archiveParts).where(eq(archiveParts.archiveId, archiveId));
    const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
    const overhead = overheadOf(archive?.packer ?? 'folder');
    for (const { carrierId, partIds, bytes } of on) {
      const row = rows.find((one) => one.carrierId === carrierId);
      const own = parts.filter((part) => partIds.includes(part.id));
      const files = own.reduce((sum, part) => sum + part.files, 0);
      const neededBytes = bytes + own.length * overhead.partBytes + files * overhead.fileBytes;
      if (row && row.freeBytes < neededBytes)
        findings.push(
          finding(step, 'carrier too small', 'stop', { carrier: row.name, neededBytes, freeBytes: row.freeBytes }),
        );
      const same = row?.layers.find((layer) => own.some((part) => part.folder === layer.folder));
      if (same) findings.push(finding(step, 'same name', 'stop', { name: same.folder, where: row!.name }));
    }
    return findings;
  },
  async stores(tx, _step, params) {
    const { all } = await read(tx, params);
    const targets = targetsOf(params);
    return [
      ...targets.map((id) => ({ store: 'carrier' as const, id, mode: 'change' as const })),
      ...all
        .filter((id) => !targets.includes(id))
        .map((id) => ({ store: 'carrier' as const, id, mode: 'look' as const })),
    ];
  },
  /** Every file of its own parts is an item, so that a run that goes on knows what is there. */
  async begin(tx, step, params) {
    const { archiveId, on } = params;
    const [{ insertId: copyId }] = await tx.insert(archiveCopies).values({ archiveId, state: 'writing' });
    for (const { carrierId, partIds } of on)
      for (const partId of partIds) await tx.insert(copyParts).values({ copyId, partId, carrierId, state: 'writing' });
    await tx.execute(sql`
      INSERT INTO step_items (step_id, volume_id, file_id, archive_file_id, path, size_bytes, modified_us)
      SELECT ${step.id}, 0, 0, f.id, CONCAT(${`${PAYLOAD}/`}, f.payload_path), f.payload_bytes, f.modified_us
      FROM archive_files f JOIN archive_parts p ON p.id = f.part_id AND p.archive_id = f.archive_id
      WHERE f.archive_id = ${archiveId} ORDER BY p.ord, f.id`);
    return { copyId, carrierIds: (await read(tx, params)).all };
  },
  run: (context, step, params) => writeCopy(context, step, params),
  giveUp: (context, step, params) => giveUpCopy(context, step, params),
});
