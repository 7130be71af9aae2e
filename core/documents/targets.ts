// Where a document's media references point: from the text as written to a place inside a known volume. Called when
// documents are read and when media is matched again after a reading.
import type { VolumeId } from '../model.ts';
import { resolveInside } from '../paths.ts';
import { insideOf, styleOf } from '../places/station-paths.ts';

/** A volume and the full path it has on one station, in that station's syntax. */
export interface KnownMount {
  volumeId: VolumeId;
  path: string;
}

export type Target =
  | { place: 'inside'; volumeId: VolumeId; path: string }
  /** It climbs out of every volume; it is never followed. */
  | { place: 'outside'; path: string }
  /** An absolute path on no volume we know. */
  | { place: 'unknown'; path: string };

/** Removes 'file://' and percent-encoding; a text that is no URL is taken as a path. */
export function pathOfUrl(text: string): string {
  const url = /^file:\/\/(?:localhost)?(\/.*)$/i.exec(text);
  // file:///R:/a.mov names a drive, file://server/share/a.mov a share of another machine.
  const share = /^file:\/\/([^/]+)(\/[^/]+.*)$/i.exec(text);
  const path = url
    ? url[1]!.replace(/^\/(?=[A-Za-z](:|%3A)\/)/i, '')
    : share
      ? `\\\\${share[1]}${share[2]!.replaceAll('/', '\\')}`
      : text;
  if (!url && !share && !/%[0-9a-f]{2}/i.test(path)) return path;
  try {
    return decodeURIComponent(path);
  } catch {
    return path;
  }
}

/** The ways a reference may be read: percent signs can be part of a plain path, so that reading is tried as well. */
function readings(text: string): string[] {
  const decoded = pathOfUrl(text);
  return decoded === text || text.toLowerCase().startsWith('file:') ? [decoded] : [text, decoded];
}

/**
 * The places one reference may mean, the likeliest last. The caller takes the first that is known, else the last.
 * @param from the document's volume and the folder it lies in, for relative references
 */
export function readTarget(
  text: string,
  from: { volumeId: VolumeId; folder: string },
  mounts: readonly KnownMount[],
): Target[] {
  return readings(text).map((path) => place(path, from, mounts));
}

function place(path: string, from: { volumeId: VolumeId; folder: string }, mounts: readonly KnownMount[]): Target {
  if (path.includes('\0')) return { place: 'outside', path };
  if (styleOf(path) === null) {
    const inside = resolveInside(from.folder, path);
    return inside === null ? { place: 'outside', path } : { place: 'inside', volumeId: from.volumeId, path: inside };
  }
  const style = styleOf(path);
  // Climbing is settled before anybody asks on which volume a path lies.
  const settled = style === 'posix' ? climbed(path) : path;
  if (settled === null) return { place: 'outside', path };
  const best = mounts
    .flatMap((mount) => {
      const inside = insideOf(mount.path, settled);
      return inside === null ? [] : [{ mount, inside }];
    })
    .sort((a, b) => b.mount.path.length - a.mount.path.length)[0];
  if (!best) return { place: 'unknown', path };
  const inside = resolveInside('', best.inside);
  return inside === null
    ? { place: 'outside', path }
    : { place: 'inside', volumeId: best.mount.volumeId, path: inside };
}

function climbed(path: string): string | null {
  const inside = resolveInside('', path.slice(1));
  return inside === null ? null : `/${inside}`;
}

/**
 * A new place written the way the old one was: as a file URL where it was one, as a plain path else.
 * @param path a full path as the document's station writes it: POSIX, with a drive letter, or UNC
 */
export function writeTarget(written: string, path: string): string {
  if (!/^file:/i.test(written)) return path;
  const style = styleOf(path);
  if (style === 'drive') return `file:///${path.slice(0, 2)}${urlOfPath(path.slice(2).replaceAll('\\', '/'))}`;
  if (style === 'unc') return `file://${urlOfPath(path.replaceAll('\\', '/').slice(2))}`;
  return fileUrlOf(path);
}

/** A path as the text of a relative URL (RFC 3986), each segment percent-encoded. */
export const urlOfPath = (path: string): string => path.split('/').map(encodeURIComponent).join('/');

/** An absolute path as a file URL. */
export const fileUrlOf = (path: string): string => `file://${urlOfPath(path)}`;

/** The relative path from one folder to a file, both inside the same tree. */
export function relativeFrom(folder: string, file: string): string {
  const from = folder === '' ? [] : folder.split('/');
  const to = file.split('/');
  let same = 0;
  while (same < from.length && same < to.length - 1 && from[same] === to[same]) same++;
  return [...from.slice(same).map(() => '..'), ...to.slice(same)].join('/');
}
