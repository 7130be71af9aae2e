// Where strayed files go when they are moved home: the order they have among themselves is kept, nothing takes a name
// that is taken. Pure; the service brings the facts.
import type { FileId, VolumeId } from '../model.ts';
import { folderOf, joinPath, liesIn, nameOf } from '../paths.ts';

export interface Stray {
  fileId: FileId;
  volumeId: VolumeId;
  /** Name of its volume, for telling files of one name apart. */
  volume: string;
  path: string;
}

export interface Moving {
  strays: readonly Stray[];
  /** Folders the project claims: what lies below one keeps its place below it. */
  claims: readonly { volumeId: VolumeId; folder: string }[];
  /** Folder of the home; '' for the whole volume. */
  home: string;
  /** True where the home has something of that path already. Compared without case and in NFC by the caller. */
  taken(path: string): boolean;
}

/** The form in which two paths are one on some file system or other. */
export const foldPath = (path: string): string => path.normalize('NFC').toLowerCase();

/** A place for every stray. Two that would be one get the name of their volume, then a number, into their folder. */
export function placeMoves({ strays, claims, home, taken }: Moving): Map<FileId, string> {
  const used = new Set<string>();
  const placed = new Map<FileId, string>();
  const order = [...strays].sort((a, b) => a.volumeId - b.volumeId || (a.path < b.path ? -1 : 1));
  for (const stray of order) {
    const inside = insideOf(stray, claims, order);
    const fits = (path: string) => !used.has(foldPath(path)) && !taken(path);
    let path = joinPath(home, inside);
    const folder = `from ${stray.volume.replaceAll('/', '-')}`;
    for (let n = 1; !fits(path); n++) path = joinPath(home, joinPath(n === 1 ? folder : `${folder} ${n}`, inside));
    used.add(foldPath(path));
    placed.set(stray.fileId, path);
  }
  return placed;
}

/** Its path below the nearest claimed folder, else below the deepest folder that it shares with the volume's others. */
function insideOf(stray: Stray, claims: Moving['claims'], all: readonly Stray[]): string {
  const own = claims
    .filter((claim) => claim.volumeId === stray.volumeId && claim.folder !== '' && liesIn(stray.path, claim.folder))
    .sort((a, b) => b.folder.length - a.folder.length)[0];
  if (own) return stray.path.slice(own.folder.length + 1);
  let shared = folderOf(stray.path);
  for (const other of all)
    if (other.volumeId === stray.volumeId)
      while (shared !== '' && !liesIn(other.path, shared)) shared = folderOf(shared);
  return shared === '' ? nameOf(stray.path) : stray.path.slice(shared.length + 1);
}
