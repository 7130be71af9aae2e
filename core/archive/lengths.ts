// How much of each file an archive keeps: whole, or the ranges that its timelines use, with handles. Pure: what documents say
// of a piece of media and what its file says of itself come in, ranges of the file come out. Where the two leave any doubt
// about which frames are meant, the file stays whole, and the reason is said.
import {
  ceil,
  compare,
  floor,
  type Fraction,
  fraction,
  fractionOf,
  lesser,
  greater,
  minus,
  plus,
  times,
  toNumber,
  ZERO,
} from '../time/fraction.ts';
import type { Encoding } from './encoding.ts';
import { type FrameRange, isSameRate, type Rate, union } from '../time/rates.ts';

/** Ranges with so much on either side; those with less than the gap between them become one. */
export interface Handles extends Around {
  gapSeconds: number;
  /** Tracks of data and metadata stay behind in what is cut; else they go along. */
  withoutData?: boolean;
  /** Files that are kept otherwise than the others. */
  own?: OwnLength[];
}

interface Around {
  value: number;
  unit: 'frames' | 'seconds';
}

export interface OwnLength {
  fileId: number;
  /** Null: the whole. */
  around: Around | null;
}

/** What counts for one file; null for the whole of it. */
export function handlesFor(handles: Handles | null, fileId: number): Handles | null {
  const own = handles?.own?.find((one) => one.fileId === fileId);
  if (!handles || own?.around === null) return null;
  return own?.around ? { ...handles, ...own.around } : handles;
}

/** "12:1s,15:whole": what is kept of some files otherwise. What makes no sense is left out. */
export function ownLengthsFrom(text: string): OwnLength[] {
  const found = new Map<number, OwnLength>();
  for (const one of text.split(',').slice(0, MOST_OWN)) {
    const [, id, length] = /^(\d{1,15}):(.+)$/.exec(one) ?? [];
    const handles = length === undefined ? undefined : handlesFrom(length, '0');
    const fileId = Number(id);
    if (handles === undefined || !(fileId > 0)) continue;
    found.set(fileId, { fileId, around: handles && { value: handles.value, unit: handles.unit } });
  }
  return [...found.values()];
}
/** The same the other way. */
export const ownLengthsText = (own: readonly OwnLength[]): string =>
  own.map(({ fileId, around }) => `${fileId}:${around ? lengthText(around) : 'whole'}`).join(',');
export const MOST_OWN = 500;

export const USUAL_HANDLES: Handles = { value: 1, unit: 'seconds', gapSeconds: 2 };
const LONGEST_HANDLE = 100_000;
const LONGEST_GAP = 86_400;

/** "1s" or "25f", and the gap in seconds; null for whole files ("" or "whole"), undefined where it makes no sense. */
export function handlesFrom(text: string, gap: string): Handles | null | undefined {
  if (text === '' || text === 'whole') return null;
  const [, number, letter] = /^(\d+(?:\.\d+)?)\s*([sf])$/.exec(text.trim()) ?? [];
  const value = Number(number);
  const gapSeconds = gap === '' ? USUAL_HANDLES.gapSeconds : Number(gap);
  if (letter === undefined || value > LONGEST_HANDLE || !(gapSeconds >= 0 && gapSeconds <= LONGEST_GAP))
    return undefined;
  if (letter === 'f' && !Number.isInteger(value)) return undefined;
  return { value, unit: letter === 's' ? 'seconds' : 'frames', gapSeconds };
}
/** The same the other way. */
export const handlesText = (handles: Handles | null): string => (handles === null ? '' : lengthText(handles));
const lengthText = ({ value, unit }: Around): string => `${value}${unit === 'seconds' ? 's' : 'f'}`;

/** One piece of media of one document, as far as it is this file. */
export interface FileUse {
  /** What its timelines use, in frames of `rate`; null for all of it. */
  spans: readonly FrameRange[] | null;
  rate: Rate | null;
  /** What the document says there is of it. */
  start: number | null;
  duration: number | null;
  /** The document can be written anew, with another place and length for it. */
  relinks: boolean;
}

/** What the file says of itself: counted in frames of its picture, or in frames of sound where it has none. */
export interface FileFacts {
  format: string;
  frames: number | null;
  /** Its timecode or time reference, counted from midnight. */
  start: number | null;
  /** Frames a second. */
  rate: Rate | null;
  isSound: boolean;
}

/** A range of the file, `to` not included. */
export interface Part {
  from: number;
  to: number;
  /** What it weighs, where that was worked out before: about, or to the byte. */
  bytes?: number;
  isExact?: boolean;
}

export type WhyWhole =
  'format' | 'unread' | 'not relinked' | 'used whole' | 'rate' | 'start' | 'outside' | 'nearly whole';

/** Why: one of the words here, or a sentence's end of whoever tried to cut it. */
export type Kept =
  | { is: 'whole'; why: string | null }
  | { is: 'nothing' }
  | { is: 'parts'; parts: Part[] }
  /** All of it, encoded anew; about so large, until it was made; `work`: see encodingWork. */
  | { is: 'encoded'; as: Encoding; isSound: boolean; bytes: number; work: number };

/** As the end of a sentence: "it stays whole: …". */
export const WHY_WHOLE: Record<WhyWhole, string> = {
  format: 'its format is not cut here',
  unread: 'nothing is known of what is in it',
  'not relinked': 'a document names it that cannot be written anew',
  'used whole': 'a timeline uses all of it',
  rate: 'its document counts it at another rate than it says itself',
  start: 'its document and the file leave it open where its first frame is',
  outside: 'its document uses frames that are not in it',
  'nearly whole': 'nearly all of it is used',
};

/** Formats that can be cut without encoding anew; see core/essence/cut. */
const CUT = new Set(['mov', 'mxf', 'wav', 'aiff']);
/** Less than a twentieth to leave out is not worth a second name for a file. */
const NEARLY = 0.95;

export function keptOf(file: FileFacts, uses: readonly FileUse[], handles: Handles | null): Kept {
  const whole = (why: WhyWhole | null): Kept => ({ is: 'whole', why: why && WHY_WHOLE[why] });
  if (handles === null) return whole(null);
  if (!CUT.has(file.format)) return whole('format');
  if (!file.frames || !file.rate) return whole('unread');
  const parts: Part[] = [];
  for (const use of uses) {
    if (!use.relinks) return whole('not relinked');
    if (use.spans === null) return whole('used whole');
    if (use.spans.length === 0) continue;
    const at = placedIn(file, use, handles);
    if (typeof at === 'string') return whole(at);
    parts.push(...at);
  }
  if (parts.length === 0) return whole('used whole');
  const kept = joined(parts, { file, handles });
  return isNearlyAll(kept, file) ? whole('nearly whole') : { is: 'parts', parts: kept };
}

const isNearlyAll = (parts: readonly Part[], { frames }: FileFacts): boolean =>
  parts.reduce((sum, part) => sum + part.to - part.from, 0) >= frames! * NEARLY;

/**
 * Ranges of a file that were placed before, with handles counted in frames of `rate`, that of the timelines that use them; null
 * where the file is better whole.
 */
export function withHandles(
  file: FileFacts,
  ranges: readonly Part[],
  { handles, rate }: { handles: Handles; rate: Rate },
): Part[] | null {
  if (!CUT.has(file.format) || !file.frames || !file.rate || ranges.length === 0) return null;
  const more = times(fraction(framesIn(handles, rate)), perFrame(file, rate));
  const wide = ranges.map(({ from, to }) => ({
    from: Math.max(0, floor(minus(fraction(from), more))),
    to: Math.min(file.frames!, ceil(plus(fraction(to), more))),
  }));
  const kept = joined(wide, { file, handles });
  return isNearlyAll(kept, file) ? null : kept;
}

/** The used ranges of a document's media, with handles where there are any, as ranges of the file. */
export function placedIn(file: FileFacts, use: FileUse, handles?: Handles): Part[] | WhyWhole {
  const { spans, rate } = use;
  if (!spans || !rate || !file.rate || !file.frames) return 'unread';
  if (!file.isSound && !isSameRate(rate, file.rate)) return 'rate';
  const begins = beginsOf(file, use);
  if (begins.length === 0) return 'start';
  const ranges = begins.flatMap((zero) => spans.map((span) => inFile(span, { file, rate, zero })));
  if (ranges.some(({ from, to }) => to <= 0 || from >= file.frames!)) return 'outside';
  const more = handles ? framesIn(handles, rate) : 0;
  // Sound begins with a frame of its document, not within one.
  const wide = spans.map((span) => ({ start: span.start - more, duration: span.duration + 2 * more }));
  return begins
    .flatMap((zero) => wide.map((span) => inFile(span, { file, rate, zero })))
    .map(({ from, to }) => ({ from: Math.max(0, from), to: Math.min(file.frames!, to) }));
}

/**
 * One range of a document's media as ranges of the file, which begins where all that is used of it says: one range alone may leave
 * that open. Null where it stays open, or the two count otherwise.
 */
export function placedSpan(file: FileFacts, use: FileUse, span: FrameRange): Part[] | null {
  const { rate, spans } = use;
  if (!rate || !spans || !file.rate || !file.frames || (!file.isSound && !isSameRate(rate, file.rate))) return null;
  const placed = beginsOf(file, use).map((zero) => inFile(span, { file, rate, zero }));
  return placed.length === 0
    ? null
    : placed.map(({ from, to }) => ({ from: Math.max(0, from), to: Math.min(file.frames!, to) }));
}

interface Placing {
  file: FileFacts;
  rate: Rate;
  /** Of the document's time, what is the file's beginning, counted as the file counts. */
  zero: Fraction;
}

const perFrame = (file: FileFacts, rate: Rate): Fraction =>
  fraction(file.rate!.num * rate.den, file.rate!.den * rate.num);

function inFile({ start, duration }: FrameRange, { file, rate, zero }: Placing): Part {
  const each = perFrame(file, rate);
  return {
    from: floor(minus(times(fraction(start), each), zero)),
    to: ceil(minus(times(fraction(start + duration), each), zero)),
  };
}

/**
 * Where the file begins in the document's time: as the document says where that is as long as the file is, or begins where
 * the file's timecode does; else whichever of document, timecode and zero alone can hold what is used. Several only where they
 * are less than a frame apart; none where it stays open.
 */
function beginsOf(file: FileFacts, { spans, rate, start, duration }: FileUse): Fraction[] {
  const each = perFrame(file, rate!);
  const own = file.start === null ? null : fraction(file.start);
  const told = start === null ? null : times(fraction(start), each);
  const isNear = (a: Fraction, b: Fraction) => {
    const apart = minus(greater(a, b), lesser(a, b));
    return file.isSound ? compare(apart, each) < 0 : compare(apart, ZERO) === 0;
  };
  if (told && own && isNear(told, own)) return compare(told, own) === 0 ? [told] : [told, own];
  if (told && duration !== null && isNear(times(fraction(duration), each), fraction(file.frames!))) return [told];
  const fits = (zero: Fraction) =>
    spans!.every((span) => {
      const { from, to } = inFile(span, { file, rate: rate!, zero });
      return from >= -1 && to <= file.frames! + Math.max(1, ceil(each));
    });
  const candidates: Fraction[] = [];
  for (const zero of [told, own, ZERO])
    if (zero && fits(zero) && !candidates.some((known) => compare(known, zero) === 0)) candidates.push(zero);
  return candidates.length === 1 ? candidates : [];
}

/** One use of a still of a sequence. */
export interface StillUse extends FileUse {
  /** Which of the sequence it is, counted from 0. */
  ord: number;
  stills: { step: number; count: number | null };
}

/** A still is kept where a frame that is used, or lies in its handles, shows it; and wherever there is a doubt. */
export function keptStill(uses: readonly StillUse[], handles: Handles | null): Kept {
  const isKept = (use: StillUse): boolean => {
    const { spans, rate, start, duration, relinks, ord, stills } = use;
    if (!relinks || spans === null || !rate || start === null || duration === null) return true;
    if (stills.count !== null && stills.count !== Math.ceil(duration / stills.step)) return true;
    const more = framesIn(handles!, rate);
    const gap = ceil(times(fractionOf(handles!.gapSeconds), fraction(rate.num, rate.den)));
    const wide = spans.map((span) => ({
      from: span.start - start - more,
      to: span.start - start + span.duration + more,
    }));
    return closed(wide, gap).some(
      ({ from, to }) => ord >= Math.floor(from / stills.step) && ord < Math.ceil(to / stills.step),
    );
  };
  return handles === null || uses.some(isKept) ? { is: 'whole', why: null } : { is: 'nothing' };
}

/** Handles in whole frames of a rate. */
const framesIn = ({ value, unit }: Handles, rate: Rate): number =>
  unit === 'frames' ? value : ceil(times(fractionOf(value), fraction(rate.num, rate.den)));

function joined(parts: readonly Part[], { file, handles }: { file: FileFacts; handles: Handles }): Part[] {
  return closed(parts, ceil(times(fractionOf(handles.gapSeconds), fraction(file.rate!.num, file.rate!.den))));
}

/** Joined where they touch, overlap, or have less than the gap between them. */
function closed(parts: readonly Part[], gap: number): Part[] {
  const kept: Part[] = [];
  for (const { start, duration } of union(parts.map(({ from, to }) => ({ start: from, duration: to - from })))) {
    const last = kept.at(-1);
    if (last && start - last.to < gap) last.to = start + duration;
    else kept.push({ from: start, to: start + duration });
  }
  return kept;
}

/** What the document says there is of a part, counted as the document does. */
export function availableOf(
  file: FileFacts,
  use: FileUse,
  part: Part,
): { start: number; duration: number; rate: Rate } | null {
  const [zero] = use.rate ? beginsOf(file, use) : [];
  if (!zero || !use.rate) return null;
  const each = perFrame(file, use.rate);
  const frames = (value: Fraction) => {
    const exact = toNumber(times(value, fraction(Number(each.d), Number(each.n))));
    const whole = Math.round(exact);
    // A sample more or less is no part of a frame.
    return Math.abs(exact - whole) * toNumber(each) < 1 ? whole : exact;
  };
  return {
    start: frames(plus(zero, fraction(part.from))),
    duration: frames(fraction(part.to - part.from)),
    rate: use.rate,
  };
}

/** About what a part weighs, before its tables are read. */
export const partBytes = (sizeBytes: number, frames: number, { from, to, bytes }: Part): number =>
  bytes ?? Math.round((sizeBytes * (to - from)) / frames);

/** The name of a part carries its first frame, so that it can be found again in the original. */
export function partName(name: string, from: number): string {
  const dot = name.lastIndexOf('.');
  const [stem, ending] = dot > 0 ? [name.slice(0, dot), name.slice(dot)] : [name, ''];
  return `${stem}_f${String(from).padStart(6, '0')}${ending}`;
}
