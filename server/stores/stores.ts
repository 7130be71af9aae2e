// Stations, volumes and carriers: registering them, and looking whether they are there and are the ones they should be.
import path from 'node:path';
import { eq, isNull } from 'drizzle-orm';
import type { CarrierId, Duty, VolumeId } from '#core/model.ts';
import { liesIn } from '#core/paths.ts';
import { size } from '#core/wording/amounts.ts';
import { giveIdentity, lookAtVolume } from '#disk/private.ts';
import { type Database, sqlCode } from '../db/connect.ts';
import { carriers, stations, volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';

export interface NewVolume {
  station: string;
  stationRole: 'workstation' | 'server' | 'portable';
  name: string;
  path: string;
  duty: Duty;
  /** Null: measured from the file system. */
  quotaBytes: number | null;
  readEveryHours?: number | null;
  systemDrive?: boolean;
  portable?: boolean;
  shared?: boolean;
  linkMbits?: number | null;
}

/** Registers a volume and gives it an identity, so that another disk at its place is recognised later. */
export async function addVolume(db: Database, given: NewVolume, now: Date): Promise<VolumeId> {
  const { root, identity, totalBytes, freeBytes } = await settle(db, given.path, given.name);
  await db
    .insert(stations)
    .values({ name: given.station, role: given.stationRole })
    .onDuplicateKeyUpdate({ set: { role: given.stationRole, retiredAt: null } });
  const [station] = await db.select().from(stations).where(eq(stations.name, given.station));
  const values = {
    stationId: station!.id,
    name: given.name,
    path: root,
    duty: given.duty,
    capacityBytes: given.quotaBytes ?? totalBytes,
    quota: given.quotaBytes !== null,
    freeBytes,
    identity,
    readEveryHours: given.readEveryHours ?? null,
    systemDrive: given.systemDrive ?? false,
    portable: given.portable ?? given.stationRole === 'portable',
    shared: given.shared ?? given.stationRole === 'server',
    linkMbits: given.linkMbits ?? null,
    state: 'reachable' as const,
    seenAt: now,
  };
  const [{ insertId }] = await refuseTakenName(given.name, () => db.insert(volumes).values(values));
  return insertId as VolumeId;
}

export interface NewCarrier {
  name: string;
  type: 'disk' | 'tape' | 'remote store';
  place: string;
  path: string;
  capacityBytes: number | null;
}

export async function addCarrier(db: Database, given: NewCarrier, now: Date): Promise<CarrierId> {
  const { root, identity, totalBytes } = await settle(db, given.path, given.name);
  const values = {
    ...given,
    path: root,
    capacityBytes: given.capacityBytes ?? totalBytes,
    identity,
    state: 'reachable' as const,
    seenAt: now,
  };
  const [{ insertId }] = await refuseTakenName(given.name, () => db.insert(carriers).values(values));
  return insertId as CarrierId;
}

async function settle(db: Database, given: string, name: string) {
  if (!path.isAbsolute(given))
    throw new Refused(
      `${given} is not a full path. Give the path from the top of the machine. Nothing was registered.`,
    );
  const root = path.resolve(given);
  const look = lookAtVolume(root);
  if (look.state === 'unreachable')
    throw new Refused(`There is no folder at ${root} that can be read (${look.code}). Nothing was registered.`);
  if (!look.writable)
    throw new Refused(
      `${root} cannot be written to, so ${name} could not be given its identity. Nothing was registered.`,
    );
  for (const other of [
    ...(await db.select().from(volumes).where(isNull(volumes.retiredAt))),
    ...(await db.select().from(carriers)),
  ]) {
    if (other.path === root)
      throw new Refused(`${root} is registered already, as ${other.name}. Nothing was registered.`);
    // A volume inside a volume is walked once, as its own; one around another would count its files twice.
    if (liesIn(other.path.slice(1), root.slice(1)))
      throw new Refused(
        `${root} holds ${other.name}, which is registered on its own. Register a narrower folder. Nothing was registered.`,
      );
  }
  return { root, identity: giveIdentity(root), totalBytes: look.totalBytes, freeBytes: look.freeBytes };
}

async function refuseTakenName<T>(name: string, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (sqlCode(error) === 'ER_DUP_ENTRY')
      throw new Refused(`The name ${name} is taken. Choose another. Nothing was registered.`);
    throw error;
  }
}

interface Store {
  id: number;
  name: string;
  path: string;
  identity: string | null;
}

/** What is at a store's place now. Never by path alone: another disk mounted there is 'swapped'. */
export function stateOf(store: Store) {
  const look = lookAtVolume(store.path);
  if (look.state === 'unreachable') return { state: 'unreachable' as const, look: null };
  return { state: look.identity === store.identity ? ('reachable' as const) : ('swapped' as const), look };
}

/** Looks at one volume again and keeps what was seen. An unreachable one keeps its contents and when it was seen. */
export async function lookAgain(db: Database, volumeId: VolumeId, now: Date) {
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, volumeId));
  if (!volume) throw new Refused(`There is no volume with the number ${volumeId}. Nothing was changed.`);
  const { state, look } = stateOf(volume);
  const seen =
    state === 'reachable' && look
      ? {
          freeBytes: look.freeBytes,
          seenAt: now,
          readOnly: !look.writable,
          // What cannot be true does not take the place of what was measured before.
          ...(volume.quota || !look.credible ? {} : { capacityBytes: look.totalBytes }),
        }
      : {};
  await db
    .update(volumes)
    .set({ state, ...seen })
    .where(eq(volumes.id, volumeId));
  return { ...volume, ...seen, state };
}

/** Looks at everything a worker might reach; returns the numbers of what it reaches. */
export async function reachableStores(db: Database, now: Date): Promise<{ volumes: number[]; carriers: number[] }> {
  const reached = { volumes: [] as number[], carriers: [] as number[] };
  for (const volume of await db.select({ id: volumes.id }).from(volumes).where(isNull(volumes.retiredAt)))
    if ((await lookAgain(db, volume.id as VolumeId, now)).state === 'reachable') reached.volumes.push(volume.id);
  for (const carrier of await db.select().from(carriers)) {
    const { state } = stateOf(carrier);
    await db
      .update(carriers)
      .set({ state, ...(state === 'reachable' ? { seenAt: now } : {}) })
      .where(eq(carriers.id, carrier.id));
    if (state === 'reachable') reached.carriers.push(carrier.id);
  }
  return reached;
}

/** The sentence for a store that has no room. */
export const tooSmall = (name: string, needed: number, free: number): string =>
  `${name} has ${size(free)} free and ${size(needed)} is needed. Nothing was written. Choose another, or free some space first.`;
