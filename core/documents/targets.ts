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

/** Removes 'file:' and percent-encoding; a text that is no URL is taken as a path. Source: RFC 8089, its appendices E and F. */
export function pathOfUrl(text: string): string {
  const path = localPath(text);
  return path === null ? (/%[0-9a-f]{2}/i.test(text) ? decoded(text) : text) : decoded(path);
}

/** What a file URL names on this or another machine, still encoded; null where the text is no file URL. */
function localPath(text: string): string | null {
  const rest = /^file:(.*)$/is.exec(text)?.[1]?.replaceAll('\\', '/');
  if (rest === undefined) return null;
  const drive = /^\/*([A-Za-z])(?::|%3A|\|)(\/.*)$/i.exec(rest);
  if (drive) return `${drive[1]}:${drive[2]}`;
  const [, host, path] = /^\/\/([^/]*)(\/.*)$/s.exec(rest) ?? [];
  // file:///x and file:/x are of this machine; file://server/share/x and file:////server/share/x of another.
  if (host === undefined || path === undefined) return rest;
  if (host !== '' && host.toLowerCase() !== 'localhost') return share(`${host}${path}`);
  return path.startsWith('//') ? share(path.replace(/^\/+/, '')) : path;
}
const share = (path: string): string => (/^[^/]+\/[^/]/.test(path) ? `\\\\${path.replaceAll('/', '\\')}` : `/${path}`);

/** Percent-encoding taken off where it is whole; what is not stays as it stands. */
function decoded(path: string): string {
  return path.replace(/(?:%[0-9a-f]{2})+/gi, (run) => {
    try {
      return decodeURIComponent(run);
    } catch {
      return run;
    }
  });
}

/** The ways a reference may be read: percent signs can be part of a plain path, so that reading is tried as well. */
function readings(text: string): string[] {
  const path = pathOfUrl(text);
  const both = path === text || /^file:/i.test(text) ? [path] : [text, path];
  // Two slashes begin a share, and on some systems a plain path.
  return both.flatMap((one) =>
    /^(\/\/|\\\\)/.test(one) ? [`/${one.replace(/^[\\/]+/, '').replaceAll('\\', '/')}`, one] : [one],
  );
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
  const all = readings(text).map((path) => place(path, from, mounts));
  return [...all.filter((one) => one.place !== 'inside'), ...all.filter((one) => one.place === 'inside')];
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
  const on = (anyCase: boolean) =>
    mounts
      .flatMap((mount) => {
        const inside = insideOf(mount.path, settled, anyCase);
        return inside === null ? [] : [{ mount, inside }];
      })
      .sort((a, b) => b.mount.path.length - a.mount.path.length)[0];
  const best = on(false) ?? on(true);
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
