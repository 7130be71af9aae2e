// Versions of one document: files of one folder whose names differ only in a version mark. The newest counts, the
// older ones are listed. Called after documents were read, and when a relinked version is named.

export interface VersionedFile {
  id: number;
  /** Folder and volume, as one text: only files that lie together are versions of one document. */
  place: string;
  name: string;
  modifiedUs: number;
  gone: boolean;
}

/** 'night-ferry_final v12.otio' is 'night-ferry_final' in version 12; no mark at all is version 0. */
export function versionOf(name: string): { stem: string; version: number; ending: string } {
  const dot = name.lastIndexOf('.');
  const [bare, ending] = dot > 0 ? [name.slice(0, dot), name.slice(dot)] : [name, ''];
  const mark = /^(.+?)[ ._-]+v(\d{1,6})$/is.exec(bare);
  return mark ? { stem: mark[1]!, version: Number(mark[2]), ending } : { stem: bare, version: 0, ending };
}

/** The name of the next version beside these names; 'cut.otio' is followed by 'cut v2.otio'. */
export function nextVersion(name: string, taken: readonly string[]): string {
  const own = versionOf(name);
  const same = (other: string) => {
    const { stem, ending } = versionOf(other);
    return stem.toLowerCase() === own.stem.toLowerCase() && ending.toLowerCase() === own.ending.toLowerCase();
  };
  const highest = Math.max(1, ...[name, ...taken].filter(same).map((other) => versionOf(other).version));
  const separator = /[ ._-](?=v\d+$)/i.exec(name.slice(0, name.length - own.ending.length))?.[0] ?? ' ';
  return `${own.stem}${separator}v${highest + 1}${own.ending}`;
}

/**
 * Which version takes the place of which: for every older one the newest, by its mark, then by when it was changed.
 * A file that is gone takes nobody's place, unless all are gone.
 */
export function supersededBy(files: readonly VersionedFile[]): Map<number, number> {
  const groups = new Map<string, VersionedFile[]>();
  for (const file of files) {
    const { stem, ending } = versionOf(file.name);
    const key = `${file.place}\n${stem.toLowerCase()}\n${ending.toLowerCase()}`;
    groups.set(key, [...(groups.get(key) ?? []), file]);
  }
  const superseded = new Map<number, number>();
  for (const group of groups.values()) {
    const [newest, ...older] = [...group].sort(
      (a, b) =>
        Number(a.gone) - Number(b.gone) ||
        versionOf(b.name).version - versionOf(a.name).version ||
        b.modifiedUs - a.modifiedUs ||
        b.id - a.id,
    );
    for (const file of older) superseded.set(file.id, newest!.id);
  }
  return superseded;
}
