// Whether two volumes lie on one disk, so that one that dies takes both. People say it where the system cannot tell, as of two
// shares of one server; else the number of the file system does, within one station: each counts its own.
import { foldPath } from '../homes/moves.ts';

export interface OnDisk {
  id: number;
  stationId: number;
  /** What people call its disk; empty: as the system says. */
  disk: string;
  /** Number of its file system; null before it was read. */
  device: number | null;
}

export function isOneDisk(a: OnDisk, b: OnDisk): boolean {
  if (a.id === b.id) return true;
  if (a.disk !== '' || b.disk !== '') return foldPath(a.disk) === foldPath(b.disk);
  return a.stationId === b.stationId && a.device !== null && a.device === b.device;
}
