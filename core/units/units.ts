// Units: files that are used, moved and counted together. A sequence of stills is one thing with a range of frames, the
// takes of one recording that a camera cut into pieces are one, and a small file named after a larger one is its
// sidecar. Pure; asked for one folder at a time by the space lens and by whoever stages a move.
import { endingOf } from '../paths.ts';

export interface UnitFile {
  id: number;
  name: string;
  sizeBytes: number;
}

export type Unit<File extends UnitFile> =
  | { is: 'file'; name: string; files: [File] }
  /** `first` and `last` are frame numbers; `gaps` are the frames between them that are not there. */
  | { is: 'sequence'; name: string; files: File[]; first: number; last: number; gaps: FrameGap[]; missing: number }
  | { is: 'spanned'; name: string; files: File[] }
  | { is: 'with sidecars'; name: string; files: File[] };

export interface FrameGap {
  from: number;
  to: number;
}

const STILLS = new Set(['dpx', 'exr', 'tif', 'tiff', 'png', 'jpg', 'jpeg', 'tga', 'cin', 'dng', 'ari', 'bmp', 'webp']);
const SPANNED = new Set(['mov', 'mp4', 'mxf', 'wav', 'bwf', 'mts', 'rf64']);
const SIDECARS = new Set([
  'xml',
  'xmp',
  'srt',
  'vtt',
  'cdl',
  'ale',
  'json',
  'txt',
  'thm',
  'md5',
  'mhl',
  'wav',
  'jpg',
  'png',
  'csv',
]);
const MEDIA = new Set([
  'mov',
  'mp4',
  'mxf',
  'm4v',
  'avi',
  'mkv',
  'mts',
  'wav',
  'bwf',
  'rf64',
  'aif',
  'aiff',
  'ari',
  'dng',
]);
/** Two stills of one counter may be two pictures; three in a row are a sequence. */
const LEAST_STILLS = 3;

/** By its ending it is a picture that may be one of a sequence. */
export const isStillName = (name: string): boolean => STILLS.has(endingOf(name));

/** By its ending it can only lie beside media, never be media itself. */
export function isOnlySidecar(name: string): boolean {
  const ending = endingOf(name);
  return SIDECARS.has(ending) && !MEDIA.has(ending) && !STILLS.has(ending);
}

/** The units of one folder, in the order of their names. Every file is in exactly one. */
export function unitsOf<File extends UnitFile>(files: readonly File[]): Unit<File>[] {
  const left = new Map(files.map((file) => [file.id, file]));
  const take = (some: readonly File[]) => some.forEach((file) => left.delete(file.id));
  const units: Unit<File>[] = [];
  for (const sequence of sequencesOf(files)) {
    units.push(sequence);
    take(sequence.files);
  }
  for (const spanned of spannedOf([...left.values()])) {
    units.push(spanned);
    take(spanned.files);
  }
  for (const group of sidecarsOf([...left.values()])) {
    units.push(group);
    take(group.files);
  }
  for (const file of left.values()) units.push({ is: 'file', name: file.name, files: [file] });
  return units.sort((a, b) => (a.name < b.name ? -1 : a.name > b.name ? 1 : 0));
}

/** Stills that differ only in a counter of the same width, or of any width where it is not padded. */
function sequencesOf<File extends UnitFile>(files: readonly File[]): Extract<Unit<File>, { is: 'sequence' }>[] {
  const groups = new Map<string, { head: string; tail: string; width: number; frames: Map<number, File> }>();
  for (const file of files) {
    const ending = endingOf(file.name);
    if (!STILLS.has(ending)) continue;
    const stem = file.name.slice(0, -ending.length - 1);
    const counter = /^(.*?)(\d{1,15})$/s.exec(stem);
    if (!counter) continue;
    const [, head, digits] = counter as unknown as [string, string, string];
    // 0999 and 1000 share a width; 999 and 1000 share being unpadded.
    const width = digits.startsWith('0') || digits.length >= 4 ? digits.length : 0;
    const tail = file.name.slice(stem.length);
    const key = `${head}\n${tail}\n${width}`;
    const group = groups.get(key) ?? { head, tail, width, frames: new Map<number, File>() };
    group.frames.set(Number(digits), file);
    groups.set(key, group);
  }
  return [...groups.values()]
    .filter((group) => group.frames.size >= LEAST_STILLS)
    .map(({ head, tail, width, frames }) => {
      const numbers = [...frames.keys()].sort((a, b) => a - b);
      const [first, last] = [numbers[0]!, numbers.at(-1)!];
      const number = (frame: number) => String(frame).padStart(width, '0');
      return {
        is: 'sequence',
        name: `${head}[${number(first)}-${number(last)}]${tail}`,
        files: numbers.map((frame) => frames.get(frame)!),
        first,
        last,
        gaps: gapsOf(numbers),
        missing: last - first + 1 - numbers.length,
      };
    });
}

/** The runs of frames that are not there. @param numbers ascending, no two alike */
export function gapsOf(numbers: readonly number[]): FrameGap[] {
  const gaps: FrameGap[] = [];
  for (let i = 1; i < numbers.length; i++)
    if (numbers[i]! > numbers[i - 1]! + 1) gaps.push({ from: numbers[i - 1]! + 1, to: numbers[i]! - 1 });
  return gaps;
}

/** The pieces of a recording that was cut by size: `_001`, `_002` … after one name, from 1 without a hole. */
function spannedOf<File extends UnitFile>(files: readonly File[]): Extract<Unit<File>, { is: 'spanned' }>[] {
  const groups = new Map<string, { number: number; file: File }[]>();
  for (const file of files) {
    const piece = /^(.+)_(\d{3})\.([A-Za-z0-9]+)$/s.exec(file.name);
    if (!piece || !SPANNED.has(piece[3]!.toLowerCase())) continue;
    // A recording's own name ends in a counter too; pieces are those whose head names a recording by itself.
    if (!/\d/.test(piece[1]!)) continue;
    const key = `${piece[1]}\n${piece[3]}`;
    groups.set(key, [...(groups.get(key) ?? []), { number: Number(piece[2]), file }]);
  }
  return [...groups]
    .map(([key, pieces]) => ({ key, pieces: pieces.sort((a, b) => a.number - b.number) }))
    .filter(
      ({ pieces }) => pieces.length >= 2 && pieces.every((piece, i) => piece.number === i + 1) && cutBySize(pieces),
    )
    .map(({ key, pieces }) => {
      const [head, ending] = key.split('\n') as [string, string];
      const last = String(pieces.length).padStart(3, '0');
      return { is: 'spanned', name: `${head}_[001-${last}].${ending}`, files: pieces.map((piece) => piece.file) };
    });
}

/** All pieces but the last are filled to the same size, within a fiftieth, and the last is no larger. */
function cutBySize(pieces: readonly { file: UnitFile }[]): boolean {
  const sizes = pieces.map((piece) => piece.file.sizeBytes);
  const full = sizes[0]!;
  return (
    full > 0 && sizes.slice(0, -1).every((size) => Math.abs(size - full) <= full / 50) && sizes.at(-1)! <= full * 1.02
  );
}

/** One media file and the small ones named after it. */
function sidecarsOf<File extends UnitFile>(files: readonly File[]): Extract<Unit<File>, { is: 'with sidecars' }>[] {
  const stems = new Map<string, File[]>();
  for (const file of files) {
    const ending = endingOf(file.name);
    const stem = ending === '' ? file.name : file.name.slice(0, -ending.length - 1);
    stems.set(stem, [...(stems.get(stem) ?? []), file]);
    // clip.mov.xml belongs to clip.mov.
    const inner = endingOf(stem);
    if (SIDECARS.has(ending) && MEDIA.has(inner)) {
      stems.get(stem)!.pop();
      const bare = stem.slice(0, -inner.length - 1);
      stems.set(bare, [...(stems.get(bare) ?? []), file]);
    }
  }
  const groups: Extract<Unit<File>, { is: 'with sidecars' }>[] = [];
  for (const own of stems.values()) {
    const main = own.filter((file) => MEDIA.has(endingOf(file.name))).sort((a, b) => b.sizeBytes - a.sizeBytes)[0];
    if (!main) continue;
    const beside = own.filter((file) => file !== main && SIDECARS.has(endingOf(file.name)));
    if (beside.length === 0) continue;
    groups.push({ is: 'with sidecars', name: main.name, files: [main, ...beside] });
  }
  return groups;
}

/** "frames 1043 and 1050 to 1052 are missing", at most `most` runs named. */
export function gapWords(gaps: readonly FrameGap[], most = 4): string {
  if (gaps.length === 0) return 'every frame is there';
  const named = gaps.slice(0, most).map((gap) => (gap.from === gap.to ? `${gap.from}` : `${gap.from} to ${gap.to}`));
  const rest = gaps.length - named.length;
  const one = gaps.length === 1 && gaps[0]!.from === gaps[0]!.to;
  const list = rest > 0 ? `${named.join(', ')} and ${rest} more` : named.join(', ').replace(/, ([^,]*)$/, ' and $1');
  return `${one ? 'frame' : 'frames'} ${list} ${one ? 'is' : 'are'} missing`;
}
