// Paths inside a volume, as text: always relative, '/'-separated, never climbing. The disk room turns them into real
// paths (disk/paths.ts); nothing else joins paths.

/** Why a text cannot be a path inside a volume. */
export type PathTrouble = 'empty' | 'absolute' | 'climbs' | 'nul' | 'too long';

/** Longest relative path taken, in UTF-8 bytes: Linux's PATH_MAX of 4096 with its closing NUL. */
export const LONGEST_PATH_BYTES = 4095;

/**
 * Checks a relative path and gives it in its one normal form: no empty or '.' segments, no '..' at all.
 * A path that climbs is refused even where it would come back inside, so that no two spellings name one file.
 */
export function relativePath(text: string): { ok: true; path: string } | { ok: false; trouble: PathTrouble } {
  if (text.includes('\0')) return { ok: false, trouble: 'nul' };
  if (text.startsWith('/')) return { ok: false, trouble: 'absolute' };
  const segments = text.split('/').filter((segment) => segment !== '' && segment !== '.');
  if (segments.includes('..')) return { ok: false, trouble: 'climbs' };
  const path = segments.join('/');
  if (path === '') return { ok: false, trouble: 'empty' };
  if (utf8Length(path) > LONGEST_PATH_BYTES) return { ok: false, trouble: 'too long' };
  return { ok: true, path };
}

/** Resolves `reference` against the folder `from` (both inside one volume); null where it leaves the volume. */
export function resolveInside(from: string, reference: string): string | null {
  const stack = from === '' ? [] : from.split('/');
  for (const segment of reference.split('/')) {
    if (segment === '' || segment === '.') continue;
    if (segment === '..') {
      if (stack.pop() === undefined) return null;
    } else stack.push(segment);
  }
  const checked = relativePath(stack.join('/'));
  return checked.ok ? checked.path : null;
}

/** The folder part of a relative path; '' for a name at the top. */
export function folderOf(path: string): string {
  const slash = path.lastIndexOf('/');
  return slash < 0 ? '' : path.slice(0, slash);
}

/** The last segment of a path. */
export function nameOf(path: string): string {
  return path.slice(path.lastIndexOf('/') + 1);
}

/** Joins two relative parts, either of which may be ''. */
export function joinPath(folder: string, name: string): string {
  return folder === '' ? name : name === '' ? folder : `${folder}/${name}`;
}

/** True where `path` is `folder` itself or lies below it. '' holds everything. */
export function liesIn(path: string, folder: string): boolean {
  return folder === '' || path === folder || path.startsWith(`${folder}/`);
}

/** Lower-case ending without the dot; '' where there is none. */
export function endingOf(name: string): string {
  const dot = name.lastIndexOf('.');
  return dot <= 0 ? '' : name.slice(dot + 1).toLowerCase();
}

/** Length of a text in UTF-8 bytes. */
export function utf8Length(text: string): number {
  let bytes = 0;
  for (let i = 0; i < text.length; i++) {
    const code = text.charCodeAt(i);
    if (code < 0x80) bytes += 1;
    else if (code < 0x800) bytes += 2;
    else if (code >= 0xd800 && code < 0xdc00 && i + 1 < text.length) {
      bytes += 4;
      i++;
    } else bytes += 3;
  }
  return bytes;
}
