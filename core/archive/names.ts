// Names inside an archive: the same on every system that may read it later, no two alike even where case or Unicode
// form is ignored, and always the same for the same input. Called when an archive is planned.
import { joinPath, nameOf, utf8Length } from '../paths.ts';

/** Longest single name written, in UTF-8 bytes, leaving room for '~12' before the ending. */
const LONGEST_NAME_BYTES = 240;
const RESERVED = /^(con|prn|aux|nul|com\d|lpt\d)(\.|$)/i;
// '%' and line breaks would have to be encoded in a manifest (RFC 8493, 2.1.3), and then no plain tool could check it.
const NOT_PORTABLE = /[\u0000-\u001f\u007f<>:"/\\|?*%]/g;

/** Most names are as they should be: found out at once, as there may be many thousands. */
const PLAIN = /^[A-Za-z0-9_][A-Za-z0-9_ .()+,=&@#~-]{0,200}$/;

/** One name made portable: NFC, no characters that a common file system or a manifest refuses, not too long. */
export function portableName(name: string): string {
  const last = name.charCodeAt(name.length - 1);
  if (PLAIN.test(name) && last !== 0x20 && last !== 0x2e && !RESERVED.test(name)) return name;
  let text = name
    .normalize('NFC')
    .replace(NOT_PORTABLE, '_')
    .replace(/[. ]+$/, '')
    .replace(/^ +/, '');
  if (text === '' || text === '.' || text === '..') text = '_';
  if (RESERVED.test(text)) text = `_${text}`;
  return shortenName(text);
}

function shortenName(name: string): string {
  if (utf8Length(name) <= LONGEST_NAME_BYTES) return name;
  const dot = name.lastIndexOf('.');
  const ending = dot > 0 && utf8Length(name.slice(dot)) < 32 ? name.slice(dot) : '';
  let room = LONGEST_NAME_BYTES - utf8Length(ending);
  let stem = '';
  for (const char of ending ? name.slice(0, dot) : name) {
    room -= utf8Length(char);
    if (room < 0) break;
    stem += char;
  }
  // Where it was cut a space or a dot may stand at the end now, and NFC may join what came together.
  return (stem + ending).normalize('NFC').replace(/[. ]+$/, '');
}

/** Words of a pattern for names, in braces; the ending of a file stays. */
export const NAME_WORDS = ['file', 'clip', 'bin'] as const;
export const KEPT_NAMES = '{file}';

/** What is wrong with a pattern, as a sentence; null where it is one. */
export function patternTrouble(pattern: string): string | null {
  if (pattern.length > 100) return 'A pattern for names has at most 100 letters.';
  const words = [...pattern.matchAll(/\{([^{}]*)\}/g)].map(([, word]) => word!);
  const unknown = words.filter((word) => !(NAME_WORDS as readonly string[]).includes(word));
  if (unknown.length > 0) return `A pattern for names knows {file}, {clip} and {bin}, not {${unknown[0]}}.`;
  if (!words.includes('file') && !words.includes('clip')) return 'A pattern for names has {file} or {clip} in it.';
  return null;
}

/** A file's name by a pattern. Where no clip has a name, or no bin, the file's own stands for it. */
export function nameBy(
  pattern: string,
  { name, clip, bin }: { name: string; clip: string | null; bin: string | null },
): string {
  if (pattern === KEPT_NAMES) return name;
  const stem = stemOf(name);
  // A clip that is called as its file is would have two endings.
  const ending = name.slice(stem.length);
  const clipStem =
    clip && clip.toLowerCase().endsWith(ending.toLowerCase()) ? clip.slice(0, -ending.length || undefined) : clip;
  const words = { file: stem, clip: clipStem || stem, bin: bin || stem };
  return pattern.replace(/\{(file|clip|bin)\}/g, (_, word: keyof typeof words) => words[word]) + ending;
}

/** What has to be placed: its wished folder inside the payload and its own name. */
export interface Wish<Key> {
  key: Key;
  folder: string[];
  name: string;
  /** Decides who keeps the plain name when two collide: the lower text does. */
  order: string;
  /** What it belongs to, with that one's wished name: where that is renamed, it is renamed alike. */
  follows?: { key: Key; name: string };
}

/**
 * Gives every wish its own path. Two that would be one on a case-insensitive or Unicode-normalising file system are
 * told apart by '~2', '~3' before the ending, in the order of `order`; whoever is alone with a name keeps it. A file never takes
 * the path of a folder. What follows another is placed after all that follow none.
 */
export function placeNames<Key>(wishes: readonly Wish<Key>[]): Map<Key, string> {
  // By the name as it is compared, whose it is; null where it is a folder's, or decided.
  const taken = new Map<string, Wish<Key> | null>();
  const folders = new Map<string, string>();
  // The same list of folders is asked for again and again.
  const lists = new Map<readonly string[], string>();
  const portable = (folder: readonly string[]): string => {
    let path = lists.get(folder);
    if (path === undefined) lists.set(folder, (path = portablePath(folder)));
    return path;
  };
  const portablePath = (folder: readonly string[]): string => {
    const key = JSON.stringify(folder);
    const known = folders.get(key);
    if (known !== undefined) return known;
    const names = folder.map(portableName);
    for (let i = 1; i <= names.length; i++) taken.set(fold(names.slice(0, i).join('/')), null);
    folders.set(key, names.join('/'));
    return names.join('/');
  };
  for (const { folder } of wishes) portable(folder);
  const placed = new Map<Key, string>();
  const placeAt = (wish: Wish<Key>, { path, folded }: Place, owner: Wish<Key> | null) => {
    taken.set(folded, owner);
    placed.set(wish.key, path);
  };
  const place = (some: readonly Wish<Key>[]): void => {
    const alike = new Set<Wish<Key>>();
    const contested = new Set<string>();
    for (const wish of some) {
      const own = placeOf(portable(wish.folder), portableName(nameBeside(wish, placed)));
      const owner = taken.get(own.folded);
      if (owner === undefined) {
        placeAt(wish, own, wish);
        continue;
      }
      alike.add(wish);
      if (owner === null) continue;
      alike.add(owner);
      contested.add(own.folded);
      taken.set(own.folded, null);
    }
    for (const folded of contested) taken.delete(folded);
    for (const wish of [...alike].sort((a, b) => (a.order < b.order ? -1 : a.order > b.order ? 1 : 0)))
      placeAt(wish, freePath(portable(wish.folder), nameBeside(wish, placed), taken), null);
  };
  place(wishes.filter(({ follows }) => !follows));
  place(wishes.filter(({ follows }) => follows));
  return placed;
}

export const stemOf = (name: string) => (name.lastIndexOf('.') > 0 ? name.slice(0, name.lastIndexOf('.')) : name);

function nameBeside<Key>({ name, follows }: Wish<Key>, placed: ReadonlyMap<Key, string>): string {
  const main = follows && placed.get(follows.key);
  const stem = follows && stemOf(follows.name);
  return main && stem && name.startsWith(stem) ? stemOf(nameOf(main)) + name.slice(stem.length) : name;
}

const ASCII = /^[\x20-\x7e]*$/;

/** As two names are compared that some file system may take for one. */
export const fold = (path: string): string => (ASCII.test(path) ? path : path.normalize('NFC')).toLowerCase();

/** A place for a name that none of these (see fold) has. */
export const freePlace = (folder: string, wished: string, taken: Taken): string => freePath(folder, wished, taken).path;

interface Taken {
  has(folded: string): boolean;
}

/** A path, and as it is compared. */
interface Place {
  path: string;
  folded: string;
}

function placeOf(folder: string, name: string): Place {
  const path = joinPath(folder, name);
  return { path, folded: fold(path) };
}

function freePath(folder: string, wished: string, taken: Taken): Place {
  const name = portableName(wished);
  for (let n = 1; ; n++) {
    const place = placeOf(folder, n === 1 ? name : numbered(name, n));
    if (!taken.has(place.folded)) return place;
  }
}

function numbered(name: string, n: number): string {
  const dot = name.lastIndexOf('.');
  return dot > 0 ? `${name.slice(0, dot)}~${n}${name.slice(dot)}` : `${name}~${n}`;
}
