// The one place where a path inside a volume becomes a real path. Nothing that comes from a document, a manifest, a
// form or an archive can leave its volume, and no link is followed out.
import { realpathSync } from 'node:fs';
import path from 'node:path';
import { folderOf, joinPath, relativePath } from '#core/paths.ts';
import { look } from './facts.ts';

/** A path that leaves its volume, or is none. Nothing was touched. */
export class OutsideError extends Error {
  readonly code = 'outside';
  constructor(readonly path: string) {
    super(`The path ${JSON.stringify(path)} leads out of its volume, so nothing was done there.`);
  }
}

/** A file inside a volume. `raw` holds the bytes of a path that is not valid UTF-8; `path` is then for reading only. */
export interface Inside {
  path: string;
  raw?: Buffer | null;
}

/** Joins a volume's root and a path inside it, as text alone: for places that are about to be made. */
export function absolute(root: string, inside: Inside): string | Buffer {
  if (inside.raw) return rawAbsolute(root, inside);
  const checked = relativePath(inside.path);
  if (!checked.ok || checked.path !== inside.path) throw new OutsideError(inside.path);
  return path.join(root, inside.path);
}

/** The same where the path is known to be text. */
export function absoluteText(root: string, inside: string): string {
  return inside === '' ? root : (absolute(root, { path: inside }) as string);
}

function rawAbsolute(root: string, inside: Inside): Buffer {
  // Byte for byte as latin1, where '/' and '.' are what they are in UTF-8.
  const checked = relativePath(inside.raw!.toString('latin1'));
  if (!checked.ok) throw new OutsideError(inside.path);
  return Buffer.concat([Buffer.from(`${root}/`), inside.raw!]);
}

/**
 * The real place of an existing file: its folder is resolved, and must be the very folder inside the volume that the
 * path names. The last name itself is not followed. Throws OutsideError, or the system's error where it is not there.
 */
export function locate(root: string, inside: Inside): string | Buffer {
  const place = absolute(root, inside);
  const realRoot = realpathSync(root);
  const folder = inside.raw ? folderOf(inside.raw.toString('latin1')) : folderOf(inside.path);
  const wanted = inside.raw
    ? Buffer.from(joinPath(realRoot, folder), 'latin1')
    : Buffer.from(path.join(realRoot, folder));
  const parent = inside.raw
    ? Buffer.concat([Buffer.from(`${root}/`), Buffer.from(folder, 'latin1')])
    : path.join(root, folder);
  const real = realpathSync(parent, { encoding: 'buffer' });
  if (!real.equals(trimmed(wanted))) throw new OutsideError(inside.path);
  return place;
}

const trimmed = (buffer: Buffer) => (buffer.length > 1 && buffer.at(-1) === 0x2f ? buffer.subarray(0, -1) : buffer);

/**
 * Checks a place that is about to be made: every folder on its way that is there already must be a true folder of the
 * volume, no link. Throws OutsideError.
 */
export function refuseLinks(root: string, inside: string): void {
  const segments = inside.split('/').slice(0, -1);
  for (let i = 1; i <= segments.length; i++) {
    const at = absoluteText(root, segments.slice(0, i).join('/'));
    const { is } = look(at);
    if (is === 'gone') return;
    if (is !== 'folder') throw new OutsideError(inside);
  }
}

/** A file's names as the catalogue keeps them: bytes beside the text where it is not valid UTF-8. */
export interface CataloguedNames {
  folder: string;
  rawFolder: Buffer | null;
  name: string;
  rawName: Buffer | null;
}

/** Where a catalogued file is in its volume: its path, and its bytes where its name or its folder is not valid UTF-8. */
export function placeOfFile({ folder, rawFolder, name, rawName }: CataloguedNames): {
  path: string;
  raw: Buffer | null;
} {
  const path = joinPath(folder, name);
  if (!rawName && !rawFolder) return { path, raw: null };
  const head = rawFolder ?? Buffer.from(folder);
  return { path, raw: Buffer.concat([head, Buffer.from(head.length === 0 ? '' : '/'), rawName ?? Buffer.from(name)]) };
}

/** Text for a name that is not valid UTF-8: its wrong bytes as \xNN. */
export function readableName(raw: Buffer): string {
  const text = raw.toString('utf8');
  if (Buffer.from(text, 'utf8').equals(raw)) return text;
  let out = '';
  for (const char of raw.toString('latin1')) {
    const code = char.charCodeAt(0);
    out += code < 0x80 ? char : `\\x${code.toString(16).padStart(2, '0').toUpperCase()}`;
  }
  return out;
}

/** What a path leads to, through every link; the path itself where nothing is there. */
export function realPath(place: string): string {
  try {
    return realpathSync(place);
  } catch {
    return place;
  }
}
