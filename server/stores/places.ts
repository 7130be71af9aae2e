// Changing what is registered: a volume's name, duty, capacity and paths; the paths other stations have to it; taking it
// out of use. Each change leaves a receipt. Nothing on any disk is changed, but for the identity a new one is given.
import { and, eq, isNull, ne, sql } from 'drizzle-orm';
import type { Duty, StationId, VolumeId } from '#core/model.ts';
import { readTarget } from '#core/documents/targets.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import { pathOn, styleOf } from '#core/places/station-paths.ts';
import { lookAtStore } from '#disk/identity.ts';
import { type Database, inTransaction, sqlCode, type Transaction } from '../db/connect.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { jobs, jobStores } from '../db/schema/jobs.ts';
import { mounts, stations, volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';

export interface By {
  who: string;
  now: Date;
}

type Action =
  | 'volume added'
  | 'volume changed'
  | 'volume retired'
  | 'carrier added'
  | 'station retired'
  | 'kinds changed'
  | 'template changed';

export async function placeReceipt(tx: Transaction, { who, now }: By, action: Action, title: string): Promise<void> {
  await writeReceipt(tx, {
    at: now,
    who,
    action,
    title,
    files: 0,
    bytes: 0,
    held: 0,
    facts: {},
    itemsSha256: itemsHash([]),
  });
}

/** The same in a transaction of its own. */
export const placeReceiptIn = (
  db: Database,
  by: By,
  { action, title }: { action: Action; title: string },
): Promise<void> => inTransaction(db, (tx) => placeReceipt(tx, by, action, title));

export interface VolumeChange {
  volumeId: VolumeId;
  name: string;
  duty: Duty;
  /** Null: measured from the file system. */
  quotaBytes: number | null;
  path: string;
  /** Null: only when asked. */
  readEveryHours: number | null;
  systemDrive: boolean;
  portable: boolean;
  shared: boolean;
  linkMbits: number | null;
  /** Left out: as it was. */
  disk?: string;
}

const CHANGE_WORDS = {
  name: 'name',
  duty: 'duty',
  path: 'path',
  quota: 'kind of capacity',
  capacityBytes: 'capacity',
  readEveryHours: 'when it is read',
  systemDrive: 'system drive',
  portable: 'portable',
  shared: 'shared',
  linkMbits: 'link speed',
  disk: 'disk',
} as const;

/** Changes a volume. Its new path must hold the very same volume, known by its identity. */
export async function changeVolume(db: Database, change: VolumeChange, by: By): Promise<void> {
  await inTransaction(db, async (tx) => {
    const [volume] = await tx.select().from(volumes).where(eq(volumes.id, change.volumeId)).for('update');
    if (!volume || volume.retiredAt) throw new Refused('There is no such volume in use. Nothing was changed.');
    const moved = change.path !== volume.path;
    const look = await lookAtStore(change.path);
    if (moved && look.state === 'unreachable')
      throw new Refused(`There is no folder at ${change.path} that can be read (${look.code}). Nothing was changed.`);
    if (moved && look.state === 'reachable' && look.identity !== volume.identity)
      throw new Refused(
        `What lies at ${change.path} is not ${volume.name}: it has another identity, or none. Nothing was changed.`,
      );
    const measured = look.state === 'reachable' ? look.totalBytes : volume.capacityBytes;
    const next = {
      name: change.name,
      duty: change.duty,
      path: change.path,
      quota: change.quotaBytes !== null,
      capacityBytes: change.quotaBytes ?? measured,
      readEveryHours: change.readEveryHours,
      systemDrive: change.systemDrive,
      portable: change.portable,
      shared: change.shared,
      linkMbits: change.linkMbits,
      disk: change.disk ?? volume.disk,
    };
    const differences = (Object.keys(next) as (keyof typeof next)[]).filter((key) => next[key] !== volume[key]);
    if (differences.length === 0) return;
    try {
      await tx.update(volumes).set(next).where(eq(volumes.id, change.volumeId));
    } catch (error) {
      if (sqlCode(error) === 'ER_DUP_ENTRY')
        throw new Refused(`The name ${change.name} is taken. Choose another. Nothing was changed.`);
      throw error;
    }
    await placeReceipt(
      tx,
      by,
      'volume changed',
      `${volume.name}: ${differences.map((key) => CHANGE_WORDS[key]).join(', ')} changed`,
    );
  });
}

export interface StationChange {
  stationId: StationId;
  name: string;
  role: 'workstation' | 'server' | 'portable';
}

/** Gives a station another name or role. */
export async function changeStation(db: Database, { stationId, name, role }: StationChange, by: By): Promise<void> {
  await inTransaction(db, async (tx) => {
    const [station] = await tx.select().from(stations).where(eq(stations.id, stationId)).for('update');
    if (!station || station.retiredAt) throw new Refused('There is no such station in use. Nothing was changed.');
    if (station.name === name && station.role === role) return;
    try {
      await tx.update(stations).set({ name, role }).where(eq(stations.id, stationId));
    } catch (error) {
      if (sqlCode(error) === 'ER_DUP_ENTRY')
        throw new Refused(`The name ${name} is taken by another station. Nothing was changed.`);
      throw error;
    }
    await placeReceipt(tx, by, 'volume changed', `Station ${station.name} is now ${name}, a ${role}`);
  });
}

/** Takes a station out of use. It must have no volume in use; the paths it had to others are forgotten. */
export async function retireStation(db: Database, stationId: StationId, by: By): Promise<void> {
  await inTransaction(db, async (tx) => {
    const [station] = await tx.select().from(stations).where(eq(stations.id, stationId)).for('update');
    if (!station || station.retiredAt) throw new Refused('There is no such station in use. Nothing was changed.');
    const [own] = await tx
      .select({ name: volumes.name })
      .from(volumes)
      .where(and(eq(volumes.stationId, stationId), isNull(volumes.retiredAt)));
    if (own)
      throw new Refused(
        `${own.name} hangs on ${station.name} and is in use. Retire it first, or move it. Nothing was changed.`,
      );
    await tx.delete(mounts).where(eq(mounts.stationId, stationId));
    await tx.update(stations).set({ retiredAt: by.now }).where(eq(stations.id, stationId));
    await placeReceipt(tx, by, 'station retired', `${station.name} retired`);
  });
}

/** Stations in use, with how many volumes hang on each. */
export async function stationRows(db: Database) {
  const rows = await db
    .select({
      stationId: stations.id,
      name: stations.name,
      role: stations.role,
      volumes: sql`COUNT(${volumes.id})`.mapWith(Number),
    })
    .from(stations)
    .leftJoin(volumes, and(eq(volumes.stationId, stations.id), isNull(volumes.retiredAt)))
    .where(isNull(stations.retiredAt))
    .groupBy(stations.id, stations.name, stations.role)
    .orderBy(stations.name);
  return rows.map((row) => ({ ...row, stationId: row.stationId as StationId }));
}

/** Takes a volume out of use. What is known of it is kept; work that waits on it keeps it in use. */
export async function retireVolume(db: Database, volumeId: VolumeId, by: By): Promise<void> {
  await inTransaction(db, async (tx) => {
    const [volume] = await tx
      .select()
      .from(volumes)
      .where(and(eq(volumes.id, volumeId), isNull(volumes.retiredAt)))
      .for('update');
    if (!volume) throw new Refused('There is no such volume in use. Nothing was changed.');
    const [busy] = await tx
      .select({ title: jobs.title })
      .from(jobs)
      .innerJoin(jobStores, eq(jobStores.jobId, jobs.id))
      .where(and(eq(jobStores.store, 'volume'), eq(jobStores.storeId, volumeId), isNull(jobs.finishedAt)));
    if (busy)
      throw new Refused(
        `"${busy.title}" is not done yet and needs ${volume.name}. Wait for it or cancel it first. Nothing was changed.`,
      );
    await tx.update(volumes).set({ retiredAt: by.now }).where(eq(volumes.id, volumeId));
    await placeReceipt(tx, by, 'volume retired', `${volume.name} retired`);
  });
}

export interface Mount {
  volumeId: VolumeId;
  station: string;
  /** As that station writes it; empty to forget it. */
  path: string;
}

/** Keeps the path a station has to a volume, or forgets it. */
export async function setMount(db: Database, { volumeId, station, path }: Mount, by: By): Promise<void> {
  const style = path === '' ? null : styleOf(path);
  if (path !== '' && style === null)
    throw new Refused(
      `${path} is no full path: it should begin like /mnt/store, R:\\ or \\\\server\\share. Nothing was changed.`,
    );
  await inTransaction(db, async (tx) => {
    const [volume] = await tx
      .select()
      .from(volumes)
      .where(and(eq(volumes.id, volumeId), isNull(volumes.retiredAt)));
    if (!volume) throw new Refused('There is no such volume in use. Nothing was changed.');
    await tx
      .insert(stations)
      .values({ name: station, role: 'workstation' })
      .onDuplicateKeyUpdate({ set: { name: station, retiredAt: null } });
    const [row] = await tx.select().from(stations).where(eq(stations.name, station));
    const [taken] =
      path === ''
        ? []
        : await tx
            .select({ name: volumes.name })
            .from(mounts)
            .innerJoin(volumes, eq(volumes.id, mounts.volumeId))
            .where(and(eq(mounts.stationId, row!.id), eq(mounts.path, path), ne(mounts.volumeId, volumeId)));
    if (taken) throw new Refused(`On ${station} ${path} is ${taken.name} already. Nothing was changed.`);
    if (path === '') await tx.delete(mounts).where(and(eq(mounts.volumeId, volumeId), eq(mounts.stationId, row!.id)));
    else await tx.insert(mounts).values({ volumeId, stationId: row!.id, path }).onDuplicateKeyUpdate({ set: { path } });
    await placeReceipt(
      tx,
      by,
      'volume changed',
      path === '' ? `${volume.name}: no longer known on ${station}` : `${volume.name}: ${path} on ${station}`,
    );
  });
}

export interface StationPath {
  station: string;
  mount: string;
  path: string;
}

/** How each station that mounts the volume names a file or folder of it; the volume's own station first. */
export async function stationPaths(db: Database, volumeId: VolumeId, inside: string): Promise<StationPath[]> {
  const [own] = await db
    .select({ station: stations.name, mount: volumes.path })
    .from(volumes)
    .innerJoin(stations, eq(stations.id, volumes.stationId))
    .where(eq(volumes.id, volumeId));
  const others = await db
    .select({ station: stations.name, mount: mounts.path })
    .from(mounts)
    .innerJoin(stations, eq(stations.id, mounts.stationId))
    .where(eq(mounts.volumeId, volumeId))
    .orderBy(stations.name);
  return [...(own ? [own] : []), ...others].map((row) => ({ ...row, path: pathOn(row.mount, inside) }));
}

/** Every known mount, for the storage page and for understanding paths written elsewhere. */
export async function allMounts(db: Database): Promise<{ volumeId: VolumeId; station: string; path: string }[]> {
  const rows = await db
    .select({ volumeId: mounts.volumeId, station: stations.name, path: mounts.path })
    .from(mounts)
    .innerJoin(stations, eq(stations.id, mounts.stationId))
    .orderBy(stations.name);
  return rows.map((row) => ({ ...row, volumeId: row.volumeId as VolumeId }));
}

/** The file that lies at a path as any station writes it; null where none is known there. */
export async function fileAtPath(db: Database, path: string): Promise<number | null> {
  const own = await db
    .select({ volumeId: volumes.id, path: volumes.path })
    .from(volumes)
    .where(isNull(volumes.retiredAt));
  const known = [...own.map((row) => ({ ...row, volumeId: row.volumeId as VolumeId })), ...(await allMounts(db))];
  for (const target of readTarget(path, { volumeId: 0 as VolumeId, folder: '' }, known)) {
    if (target.place !== 'inside') continue;
    const [row] = await db
      .select({ id: files.id })
      .from(files)
      .innerJoin(folders, eq(folders.id, files.folderId))
      .where(
        and(
          eq(folders.volumeId, target.volumeId),
          eq(folders.pathHash, pathHash(folderOf(target.path))),
          eq(files.name, nameOf(target.path)),
          isNull(files.goneAt),
        ),
      );
    if (row) return row.id;
  }
  return null;
}
