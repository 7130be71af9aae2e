// Folders in which nothing lies, nor in any below them, each told once by its topmost. Pure; the service brings the folders.
import { folderOf, liesIn } from '../paths.ts';

export interface EmptyFolder {
  id: number;
  volumeId: number;
  path: string;
  projectId: number;
}

/** A folder that is wanted though nothing lies in it: a home, or one that a reading could not see whole. */
export interface Wanted {
  volumeId: number;
  folder: string;
}

export interface EmptyTree extends EmptyFolder {
  /** How many there are, itself included. */
  folders: number;
}

/** `empty` are all folders that hold no file; those that are wanted, or hold one that is, stay. */
export function emptyTrees(empty: readonly EmptyFolder[], wanted: readonly Wanted[]): EmptyTree[] {
  const key = (volumeId: number, path: string) => `${volumeId} ${path}`;
  const kept = new Set<string>();
  for (const { volumeId, folder } of wanted)
    for (let at = folder; ; at = folderOf(at)) {
      kept.add(key(volumeId, at));
      if (at === '') break;
    }
  const homes = new Map<number, string[]>();
  for (const { volumeId, folder } of wanted) homes.set(volumeId, [...(homes.get(volumeId) ?? []), folder]);
  const mayGo = new Map(
    empty
      .filter(
        (one) =>
          one.path !== '' &&
          !kept.has(key(one.volumeId, one.path)) &&
          !homes.get(one.volumeId)?.some((home) => home !== '' && liesIn(one.path, home)),
      )
      .map((one) => [key(one.volumeId, one.path), one]),
  );
  const trees = new Map<string, EmptyTree>();
  for (const one of mayGo.values()) {
    let top = one;
    for (;;) {
      const above = mayGo.get(key(top.volumeId, folderOf(top.path)));
      if (!above || above === top) break;
      top = above;
    }
    const at = key(top.volumeId, top.path);
    const tree = trees.get(at);
    if (tree) tree.folders++;
    else trees.set(at, { ...top, folders: 1 });
  }
  return [...trees.values()];
}
