// Which kind a file is, by rules over its folder, its ending and the duty of its volume. The walker asks once a folder
// and then once a file, so a folder's words are settled first.
import { documentEndings } from '../documents/formats/registry.ts';
import type { Duty, Kind } from '../model.ts';
import { endingOf, folderOf, liesIn, nameOf } from '../paths.ts';

/**
 * One rule; the first that fits wins. Every part that is given must fit: a folder on the path that has one of the
 * words (whole words, any case), the volume's duty, the file's ending (without dot, lower case), its name.
 */
export interface KindRule {
  kind: Kind;
  folderWords?: readonly string[];
  duties?: readonly Duty[];
  endings?: readonly string[];
  /** Patterns over the file's whole name, any case: * stands for anything, ? for one letter. */
  names?: readonly string[];
  /** Only in this folder of a volume and below it: what was brought back keeps the kinds it had. */
  below?: string;
}

/** A file that keeps its kind, by its path in its volume. */
export interface KeptKind {
  path: string;
  kind: Kind;
}

/**
 * Rules by which files keep their kinds: by ending the kind that most of that ending have, before that the others by name,
 * since every walk carries all rules with it.
 */
export function keptRules(folder: string, kept: readonly KeptKind[]): KindRule[] {
  const byEnding = new Map<string, Map<Kind, number>>();
  for (const { path, kind } of kept) {
    const kinds = byEnding.get(endingOf(path)) ?? new Map<Kind, number>();
    byEnding.set(endingOf(path), kinds.set(kind, (kinds.get(kind) ?? 0) + 1));
  }
  const usual = new Map(
    [...byEnding].map(([ending, kinds]) => [ending, [...kinds].sort((a, b) => b[1] - a[1])[0]![0]]),
  );
  const named = new Map<string, { kind: Kind; below: string; names: string[] }>();
  for (const { path, kind } of kept) {
    if (usual.get(endingOf(path)) === kind) continue;
    const key = `${kind} ${folderOf(path)}`;
    const rule = named.get(key) ?? { kind, below: folderOf(path), names: [] };
    rule.names.push(nameOf(path));
    named.set(key, rule);
  }
  return [...named.values(), ...[...usual].map(([ending, kind]) => ({ kind, below: folder, endings: [ending] }))];
}

const DOCUMENT_ENDINGS = [
  ...documentEndings(),
  'otiod',
  'pdf',
  'txt',
  'csv',
  'md',
  'json',
  'xml',
  'docx',
  'xlsx',
  'original',
];
/** Of documents, and of the folders that some of them are. */
const PROJECT_ENDINGS = [...documentEndings(), 'otiod'];
const AUDIO_ENDINGS = ['wav', 'bwf', 'rf64', 'aif', 'aiff', 'flac', 'mp3', 'm4a'];
const PICTURE_ENDINGS = [
  'mov',
  'mp4',
  'mxf',
  'm4v',
  'avi',
  'mkv',
  'dpx',
  'exr',
  'tif',
  'tiff',
  'png',
  'jpg',
  'jpeg',
  'dng',
  'ari',
];

/** The rules a site starts with, in general words. A project document is never taken for a cache, wherever it lies. */
export const DEFAULT_RULES: readonly KindRule[] = [
  { kind: 'backup', folderWords: ['autosave', 'autosaves', 'backup', 'backups', 'snapshots'] },
  { kind: 'document', endings: PROJECT_ENDINGS },
  { kind: 'cache', folderWords: ['cache', 'caches', 'peaks', 'thumbnails', 'waveforms'] },
  { kind: 'proxy', folderWords: ['proxy', 'proxies'] },
  { kind: 'delivery', folderWords: ['delivery', 'deliveries', 'masters'] },
  { kind: 'render', folderWords: ['render', 'renders'] },
  { kind: 'library', folderWords: ['library', 'libraries'] },
  // What a camera writes beside its takes goes where they go.
  { kind: 'source', folderWords: ['camera', 'cameras', 'rushes', 'footage', 'cards'], endings: ['xml'] },
  { kind: 'document', endings: DOCUMENT_ENDINGS },
  { kind: 'cache', duties: ['cache'] },
  { kind: 'backup', duties: ['backups'] },
  { kind: 'library', duties: ['library'] },
  { kind: 'delivery', duties: ['deliveries'] },
  { kind: 'render', duties: ['renders'] },
  { kind: 'audio', endings: AUDIO_ENDINGS },
  { kind: 'source', endings: PICTURE_ENDINGS },
];

const wordsOf = (path: string) => new Set(path.toLowerCase().split(/[^\p{L}\p{N}]+/u));

/**
 * Settles the rules for one folder and gives the function that names the kind of a file in it.
 * @param folder path inside the volume, '' for its top
 */
export function kindsInFolder(rules: readonly KindRule[], folder: string, duty: Duty): (name: string) => Kind {
  const open = rulesInFolder(rules, folder, duty);
  const byEnding = new Map<string, Kind>();
  if (open.some((rule) => rule.names)) {
    return (name) => {
      const ending = endingOf(name);
      const at = open.findIndex(
        (rule) =>
          (!rule.endings || rule.endings.includes(ending)) &&
          (!rule.names || rule.names.some((pattern) => fitsPattern(pattern, name))),
      );
      return open[at]?.kind ?? 'other';
    };
  }
  return (name) => {
    const ending = endingOf(name);
    let kind = byEnding.get(ending);
    if (kind === undefined) {
      kind = open.find((rule) => !rule.endings || rule.endings.includes(ending))?.kind ?? 'other';
      byEnding.set(ending, kind);
    }
    return kind;
  };
}

/** The rules that can fit a file in this folder, in their order. */
export function rulesInFolder(rules: readonly KindRule[], folder: string, duty: Duty): KindRule[] {
  const words = wordsOf(folder);
  return rules.filter(
    (rule) =>
      (!rule.folderWords || rule.folderWords.some((word) => words.has(word))) &&
      (!rule.duties || rule.duties.includes(duty)) &&
      (rule.below === undefined || liesIn(folder, rule.below)),
  );
}

/**
 * True where a name fits a pattern: * stands for anything, ? for one letter, any case. Takes time by the length of the name
 * times that of the pattern, whatever they are: an expression with several stars could take for ever.
 */
export function fitsPattern(pattern: string, name: string): boolean {
  const [wanted, letters] = [[...pattern.toLowerCase()], [...name.toLowerCase()]];
  let [at, i] = [0, 0];
  /** Where the last star was, and up to where it has taken letters. */
  let star: { at: number; i: number } | null = null;
  while (i < letters.length) {
    if (wanted[at] === '*') {
      star = { at, i };
      at++;
    } else if (at < wanted.length && (wanted[at] === '?' || wanted[at] === letters[i])) {
      at++;
      i++;
    } else if (star) {
      star.i++;
      at = star.at + 1;
      i = star.i;
    } else return false;
  }
  while (wanted[at] === '*') at++;
  return at === wanted.length;
}
