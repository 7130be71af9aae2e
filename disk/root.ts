// A volume's top, held open: what is done below it is done on that very disk, also after another was mounted at its path
// in between. Folders below are opened one by one, never through a link. Whoever changes something on a volume goes
// through one of these.
import { closeSync, constants, existsSync, fstatSync, mkdirSync, openSync, readlinkSync } from 'node:fs';
import { folderOf, nameOf, relativePath } from '#core/paths.ts';
import { codeOf, isMissing } from './facts.ts';
import { readIdentity } from './identity.ts';
import { type Inside, OutsideError } from './paths.ts';

/** What lies at a volume's path is not that volume, or nothing lies there. */
export class NotTheOne extends Error {
  readonly code = 'not_the_one';
  constructor(readonly path: string) {
    super(`What lies at ${path} is not the volume that belongs there.`);
  }
}

const FOLDER = constants.O_RDONLY | constants.O_DIRECTORY | constants.O_NOFOLLOW;
/** Linux reaches an open folder by its number; elsewhere paths are used, and looked at before. */
const BY_NUMBER = existsSync('/proc/self/fd');
const MOST_OPEN = 64;
/** Within that nobody could tell whether a folder was moved before or after: not every file of it is a question. */
export const FOLDER_HOLDS_MS = 5;

export class Root {
  private readonly folders = new Map<string, number>();
  private topNow: string | null = null;
  /** For how long a folder that was still in its place counts as being there; as it is, not at all. */
  holdsForMs = 0;
  private readonly seenAt = new Map<string, number>();

  private constructor(
    readonly path: string,
    private readonly fd: number,
  ) {}

  /** Opens a volume's top and makes sure that it is the one with this identity; null: whatever is there. */
  static open(path: string, identity: string | null): Root {
    let fd: number;
    try {
      fd = openSync(path, constants.O_RDONLY | constants.O_DIRECTORY);
    } catch (error) {
      if (isMissing(error)) throw new NotTheOne(path);
      throw error;
    }
    const root = new Root(path, fd);
    try {
      if (identity !== null && readIdentity(root.top) !== identity) throw new NotTheOne(path);
      return root;
    } catch (error) {
      root.close();
      throw error;
    }
  }

  /** The top itself, as a path that the system resolves to the open folder. */
  get top(): string {
    return BY_NUMBER ? `/proc/self/fd/${this.fd}` : this.path;
  }

  /** Number of the file system that the top lies on. */
  get device(): number {
    return fstatSync(this.fd).dev;
  }

  /**
   * The place of a file whose folder is there: a path into that very folder. The last name is not followed by whoever
   * uses it with calls that do not follow links. Throws OutsideError where a link or a climbing name is on the way, and
   * the system's error where a folder is not there.
   */
  place(inside: Inside): string | Buffer {
    const { folder, name } = split(inside);
    const at = this.folder(folder);
    return inside.raw
      ? Buffer.concat([Buffer.from(`${at}/`), Buffer.from(name, 'latin1')])
      : `${at}/${Buffer.from(name, 'latin1').toString('utf8')}`;
  }

  /**
   * The place of what whoever asks has put into a folder of ours and looks at there anyway: it is what it is, also where
   * somebody has moved that folder meanwhile.
   */
  placeOfOwn(inside: string): string {
    const { folder, name } = split({ path: inside });
    const known = this.folders.get(folder);
    if (known === undefined) return this.placeText(inside);
    this.keepOpen(folder, known);
    return `/proc/self/fd/${known}/${name}`;
  }

  /** The same for names that are text. */
  placeText(inside: string): string {
    return this.place({ path: inside }) as string;
  }

  /** The place of something that is about to be made: missing folders on its way are made first. */
  make(inside: string): string {
    return this.makeFor({ path: inside }) as string;
  }

  /** The same for names that need not be text. */
  makeFor(inside: Inside): string | Buffer {
    try {
      return this.place(inside);
    } catch (error) {
      if (!isMissing(error)) throw error;
    }
    const segments = split(inside).folder.split('/').filter(Boolean);
    for (let i = 1; i <= segments.length; i++) {
      const raw = Buffer.from(segments.slice(0, i).join('/'), 'latin1');
      try {
        mkdirSync(this.place({ path: raw.toString('utf8'), raw: inside.raw ? raw : null }));
      } catch (error) {
        if (codeOf(error) !== 'EEXIST') throw error;
      }
    }
    return this.place(inside);
  }

  close(): void {
    for (const fd of this.folders.values()) closeSync(fd);
    this.folders.clear();
    closeSync(this.fd);
  }

  private folder(path: string): string {
    if (path === '') return this.top;
    const known = this.folders.get(path);
    if (known !== undefined) {
      const now = performance.now();
      const holds = now - (this.seenAt.get(path) ?? -Infinity) < this.holdsForMs;
      // A folder that was removed, or put somewhere else, is not the one that is meant any more.
      if (holds || this.isStillThere(path, known)) {
        if (!holds) this.seenAt.set(path, now);
        this.keepOpen(path, known);
        return `/proc/self/fd/${known}`;
      }
      this.folders.delete(path);
      this.seenAt.delete(path);
      closeSync(known);
    }
    const fd = this.openFolder(path);
    if (!BY_NUMBER) {
      closeSync(fd);
      return `${this.path}/${path}`;
    }
    this.folders.set(path, fd);
    if (this.folders.size > MOST_OPEN) {
      const [oldest, number] = this.folders.entries().next().value!;
      this.folders.delete(oldest);
      this.seenAt.delete(oldest);
      closeSync(number);
    }
    return `/proc/self/fd/${fd}`;
  }

  /** The last to be closed: what the disk still works at by its number is not closed under it. */
  private keepOpen(path: string, fd: number): void {
    this.folders.delete(path);
    this.folders.set(path, fd);
  }

  /** By the system's own word, which names a folder that is held open by where it is now, without any link. */
  private isStillThere(path: string, fd: number): boolean {
    try {
      this.topNow ??= placeNow(this.fd);
      // Where the top itself was moved, its folders are opened anew.
      return placeNow(fd) === `${this.topNow === '/' ? '' : this.topNow}/${path}`;
    } catch {
      return false;
    }
  }

  private openFolder(path: string): number {
    let at = openSync(this.top, constants.O_RDONLY | constants.O_DIRECTORY);
    let way = this.path;
    for (const segment of path.split('/')) {
      const bytes = Buffer.from(segment, 'latin1');
      way = `${way}/${segment}`;
      const next = Buffer.concat([
        Buffer.from(BY_NUMBER ? `/proc/self/fd/${at}/` : way.slice(0, -segment.length)),
        bytes,
      ]);
      try {
        const fd = openSync(next, FOLDER);
        closeSync(at);
        at = fd;
      } catch (error) {
        closeSync(at);
        // A link where a folder should be: ELOOP by itself, ENOTDIR with O_DIRECTORY.
        if (['ELOOP', 'ENOTDIR'].includes(codeOf(error))) throw new OutsideError(path);
        throw error;
      }
    }
    return at;
  }
}

/** Where an open folder is now, byte for byte; one that was removed is nowhere. */
const placeNow = (fd: number): string => readlinkSync(`/proc/self/fd/${fd}`, 'latin1');

/** Byte for byte as latin1, where '/' and '.' are what they are in UTF-8: so names need not be text. */
function split(inside: Inside): { folder: string; name: string } {
  const path = (inside.raw ?? Buffer.from(inside.path)).toString('latin1');
  const checked = relativePath(path);
  if (!checked.ok || checked.path !== path) throw new OutsideError(inside.path);
  return { folder: folderOf(path), name: nameOf(path) };
}
