// The path a file has on each station that mounts its volume: /mnt/… here, a drive letter or \\server\share there. Read
// both ways: to name a file in a station's own syntax, and to understand a path that was written on it.
// Source: POSIX pathnames; Windows drive-letter and UNC paths as in [MS-DTYP] 2.2.57.

import { foldPath } from '../homes/moves.ts';

export type PathStyle = 'posix' | 'drive' | 'unc';

/** The syntax of a mount's path; null where it is none of the three, or not a full path. */
export function styleOf(mount: string): PathStyle | null {
  if (/^\/(?!\/)/.test(mount)) return 'posix';
  if (/^[A-Za-z]:([\\/]|$)/.test(mount)) return 'drive';
  if (/^(\\\\|\/\/)[^\\/]+[\\/][^\\/]+/.test(mount)) return 'unc';
  return null;
}

/** A file of a volume, `inside` being '/'-separated and relative, as the station that mounts it at `mount` names it. */
export function pathOn(mount: string, inside: string): string {
  if (styleOf(mount) === 'posix') {
    const base = mount.replace(/\/+$/, '');
    return inside === '' ? base || '/' : `${base}/${inside}`;
  }
  const base = mount.replaceAll('/', '\\').replace(/\\+$/, '');
  if (inside === '') return styleOf(mount) === 'drive' ? `${base}\\` : base;
  return `${base}\\${inside.replaceAll('/', '\\')}`;
}

/**
 * The '/'-separated path inside a volume of a full path written on a station that mounts it at `mount`; null where the
 * path is not on it. Windows paths compare without case, others exactly, unless `anyCase`: some systems do not tell case
 * apart. Unicode forms never count: a name changes its form on its way between systems. The result may still climb: it is
 * to be checked.
 */
export function insideOf(mount: string, written: string, anyCase = false): string | null {
  const style = styleOf(mount);
  if (style === null || styleOf(written) !== style) return null;
  const [base, path] = [segments(mount, style), segments(written, style)];
  const form = (part: string) => (style === 'posix' && !anyCase ? part.normalize('NFC') : foldPath(part));
  if (base.length > path.length || base.some((part, i) => form(part) !== form(path[i]!))) return null;
  return path.slice(base.length).join('/');
}

function segments(path: string, style: PathStyle): string[] {
  const plain = (style === 'posix' ? path : path.replaceAll('\\', '/')).replace(/\/+$/, '');
  return plain.split('/').filter((part, i) => i === 0 || part !== '');
}
