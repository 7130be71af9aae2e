// The rack: every volume with what it holds by kind, whether it is there, and when it was read. On every screen, so it
// asks only the rollups.
import { eq, isNull, sql } from 'drizzle-orm';
import type { Duty, Kind, VolumeId } from '#core/model.ts';
import { asideByVolume } from '../db/aside.ts';
import type { Database } from '../db/connect.ts';
import { stations, type STORE_STATES, volumes } from '../db/schema/stores.ts';
import { volumeSums } from '../db/schema/sums.ts';

export interface RackVolume {
  volumeId: VolumeId;
  name: string;
  station: string;
  role: 'workstation' | 'server' | 'portable';
  path: string;
  quota: boolean;
  readEveryHours: number | null;
  systemDrive: boolean;
  portable: boolean;
  shared: boolean;
  linkMbits: number | null;
  /** As people call it; empty: as the system says. */
  disk: string;
  readOnly: boolean;
  duty: Duty;
  state: (typeof STORE_STATES)[number];
  capacityBytes: number;
  usedBytes: number;
  files: number;
  /** Of what is used: set aside, and still taking its space. */
  asideBytes: number;
  byKind: { kind: Kind; bytes: number }[];
  seenMs: number | null;
  readMs: number | null;
}

const ROLE_ORDER = { server: 0, workstation: 1, portable: 2 };

export async function rackVolumes(db: Database): Promise<RackVolume[]> {
  const rows = await db
    .select()
    .from(volumes)
    .innerJoin(stations, eq(stations.id, volumes.stationId))
    .where(isNull(volumes.retiredAt));
  const holdings = await db
    .select({
      volumeId: volumeSums.volumeId,
      kind: volumeSums.kind,
      bytes: sql`SUM(${volumeSums.bytes})`.mapWith(Number),
      files: sql`SUM(${volumeSums.files})`.mapWith(Number),
    })
    .from(volumeSums)
    .groupBy(volumeSums.volumeId, volumeSums.kind);
  const aside = await asideByVolume(db);
  const list = rows.map(({ volumes: v, stations: s }): RackVolume => {
    const own = holdings.filter((h) => h.volumeId === v.id);
    const catalogued = own.reduce((sum, h) => sum + h.bytes, 0);
    return {
      volumeId: v.id as VolumeId,
      name: v.name,
      station: s.name,
      role: s.role,
      path: v.path,
      quota: v.quota,
      readEveryHours: v.readEveryHours,
      systemDrive: v.systemDrive,
      portable: v.portable,
      shared: v.shared,
      linkMbits: v.linkMbits,
      disk: v.disk,
      readOnly: v.readOnly,
      duty: v.duty,
      state: v.state,
      capacityBytes: v.capacityBytes,
      asideBytes: aside.get(v.id) ?? 0,
      usedBytes: v.quota ? catalogued + (aside.get(v.id) ?? 0) : Math.max(0, v.capacityBytes - v.freeBytes),
      files: own.reduce((sum, h) => sum + h.files, 0),
      byKind: own.filter((h) => h.bytes > 0).map((h) => ({ kind: h.kind, bytes: h.bytes })),
      seenMs: v.seenAt?.getTime() ?? null,
      readMs: v.readAt?.getTime() ?? null,
    };
  });
  return list.sort(
    (a, b) => ROLE_ORDER[a.role] - ROLE_ORDER[b.role] || a.station.localeCompare(b.station) || a.volumeId - b.volumeId,
  );
}
