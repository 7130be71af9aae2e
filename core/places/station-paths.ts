// The path a file has on each station that mounts its volume: /mnt/… here, a drive letter or \\server\share there. Read
// both ways: to name a file in a station's own syntax, and to understand a path that was written on it.
// Source: POSIX pathnames; Windows drive-letter and UNC paths as in [MS-DTYP] 2.2.57.

export type PathStyle = 'posix' | 'drive' | 'unc';

/** The syntax of a mount's path; null where it is none of the three, or not a full path. */
export function styleOf(mount: string): PathStyle | null {
  if (/^\/(?!\/)/.test(mount)) return 'posix';
  if (/^[A-Za-z]:([\\/]|$)/.test(mount)) return 'drive';
  if (/^\\\\[^\\/]+[\\/][^\\/]+/.test(mount)) return 'unc';
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
 * path is not on it. Windows paths compare without case, others exactly. The result may still climb: it is to be checked.
 */
export function insideOf(mount: string, written: string): string | null {
  const style = styleOf(mount);
  if (style === null || styleOf(written) !== style) return null;
  const [base, path] = [normal(mount, style), normal(written, style)];
  const [a, b] = style === 'posix' ? [base, path] : [base.toLowerCase(), path.toLowerCase()];
  if (a === b) return '';
  return b.startsWith(`${a}/`) ? path.slice(base.length + 1) : null;
}

const normal = (path: string, style: PathStyle) =>
  (style === 'posix' ? path : path.replaceAll('\\', '/')).replace(/\/+$/, '');
