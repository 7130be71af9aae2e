// Registering volumes and carriers: each is given an identity, so that another disk at its place is known as another
// later. Run by a worker, which stands at the disks, and by the demo.
import path from 'node:path';
import { eq, isNull } from 'drizzle-orm';
import type { CarrierId, Duty, VolumeId } from '#core/model.ts';
import { liesIn } from '#core/paths.ts';
import { giveIdentity, lookAtStore, type StoreLook } from '#disk/identity.ts';
import { realPath } from '#disk/paths.ts';
import { carrierKindOf } from '../carriers/kinds.ts';
import { type Database, type Db, inTransaction, sqlCode } from '../db/connect.ts';
import { carriers, stations, volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { carrierFolders } from './look.ts';
import { usableFolder } from './usable-folder.ts';

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
  /** The disk or array it lies on, where the system cannot tell. */
  disk?: string;
}

/** Registers a volume and gives it an identity. */
export async function addVolume(db: Database, given: NewVolume, now: Date): Promise<VolumeId> {
  const { root, look } = await placeForVolume(db, given);
  const identity = giveIdentity(root);
  return refuseTakenName(given.name, () =>
    inTransaction(db, async (tx) => {
      await tx
        .insert(stations)
        .values({ name: given.station, role: given.stationRole })
        .onDuplicateKeyUpdate({ set: { role: given.stationRole, retiredAt: null } });
      const [station] = await tx.select().from(stations).where(eq(stations.name, given.station));
      const [{ insertId }] = await tx.insert(volumes).values({
        stationId: station!.id,
        name: given.name,
        path: root,
        duty: given.duty,
        capacityBytes: given.quotaBytes ?? look.totalBytes,
        quota: given.quotaBytes !== null,
        freeBytes: look.freeBytes,
        identity,
        readEveryHours: given.readEveryHours ?? null,
        systemDrive: given.systemDrive ?? false,
        portable: given.portable ?? given.stationRole === 'portable',
        shared: given.shared ?? given.stationRole === 'server',
        linkMbits: given.linkMbits ?? null,
        disk: given.disk ?? '',
        state: 'reachable',
        seenAt: now,
      });
      return insertId as VolumeId;
    }),
  );
}

export interface NewCarrier {
  name: string;
  kind: string;
  place: string;
  settings: Record<string, unknown>;
  capacityBytes: number | null;
}

/** Registers a carrier of any kind that is known. */
export async function addCarrier(db: Database, given: NewCarrier, now: Date): Promise<CarrierId> {
  const kind = carrierKindOf(given.kind);
  const parsed = kind.settings.safeParse(given.settings);
  if (!parsed.success)
    throw new Refused(
      `What was said of ${given.name} does not fit a ${kind.name}: ${parsed.error.issues[0]?.message ?? 'it is not complete'}. Nothing was registered.`,
    );
  for (const folder of kind.folders(parsed.data))
    if (path.isAbsolute(folder)) await refuseOverlap(db, path.resolve(folder));
  const { settings, identity } = await kind.register(parsed.data);
  await refuseKnownIdentity(db, identity, kind.describe(settings));
  const look = await kind.look(settings);
  return refuseTakenName(given.name, () =>
    inTransaction(db, async (tx) => {
      const [{ insertId }] = await tx.insert(carriers).values({
        name: given.name,
        kind: given.kind,
        place: given.place,
        settings: settings as Record<string, unknown>,
        capacityBytes: given.capacityBytes ?? (look.state === 'reachable' ? look.totalBytes : 0),
        ...(look.state === 'reachable' ? { freeBytes: look.freeBytes, facts: look.facts ?? null } : {}),
        identity,
        state: 'reachable',
        seenAt: now,
      });
      return insertId as CarrierId;
    }),
  );
}

async function placeForVolume(
  db: Database,
  { path: given, name }: Pick<NewVolume, 'path' | 'name'>,
): Promise<{ root: string; look: Extract<StoreLook, { state: 'reachable' }> }> {
  const { root, look } = await usableFolder(given, name);
  await refuseOverlap(db, root);
  if (look.identity !== null) await refuseKnownIdentity(db, look.identity, root);
  return { root, look };
}

/** One disk under two paths would be counted, and cleared, twice: places are compared by what they lead to. */
async function refuseOverlap(db: Database, root: string): Promise<void> {
  const trouble = await overlapOf(db, root);
  if (trouble !== null) throw new Refused(`${trouble} Nothing was registered.`);
}

/** What is registered and lies at the same place, or in it, in a sentence; null where nothing does. */
export async function overlapOf(db: Database, root: string): Promise<string | null> {
  const own = realPath(root);
  const registered = [
    ...(await db.select({ name: volumes.name, path: volumes.path }).from(volumes).where(isNull(volumes.retiredAt))),
    ...(await carrierFolders(db)).map((folder) => ({ name: `the carrier in ${folder}`, path: folder })),
  ];
  const here = await lookAtStore(root);
  for (const other of registered) {
    const real = realPath(other.path);
    const there = await lookAtStore(other.path);
    const isSame =
      here.state === 'reachable' &&
      there.state === 'reachable' &&
      here.device === there.device &&
      here.inode === there.inode;
    if (real === own || isSame) return `${root} is registered already, as ${other.name}.`;
    // A volume inside a volume is walked once, as its own; one around another would count its files twice.
    if (liesIn(real.slice(1), own.slice(1)))
      return `${root} holds ${other.name}, which is registered on its own. Register a narrower folder.`;
  }
  return null;
}

/** A copy of a disk carries its identity along: the two could not be told apart. */
async function refuseKnownIdentity(db: Db, identity: string, where: string): Promise<void> {
  const [volume] = await db.select({ name: volumes.name }).from(volumes).where(eq(volumes.identity, identity));
  const [carrier] = await db.select({ name: carriers.name }).from(carriers).where(eq(carriers.identity, identity));
  const known = volume ?? carrier;
  if (known)
    throw new Refused(
      `${where} carries the identity of ${known.name}: it is ${known.name} at another path, or a copy of it. Nothing was registered. If it is ${known.name}, change its path; if it is a copy, remove the folder .keramion from the copy and register it again.`,
    );
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
