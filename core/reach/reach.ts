// Which frames of which media a timeline shows or sounds: exactly those, through nested timelines, trims, mixed rates,
// changed and reversed time, frozen frames, and transitions that reach beyond their cut. Readers of documents build the
// tree; the answer is kept with the document and joined for any scope later.
//
// What is used is an interval of media time; the frames it touches are told in the media's own rate. Widening to whole
// frames is the only rounding there is.
import {
  absolute,
  ceil,
  compare,
  floor,
  type Fraction,
  fraction,
  greater,
  lesser,
  minus,
  ONE,
  over,
  plus,
  sign,
  times,
  ZERO,
} from '../time/fraction.ts';
import { type FrameRange, type Rate, union } from '../time/rates.ts';

/** A piece of time in seconds; `end` is not part of it. */
export interface Span {
  start: Fraction;
  end: Fraction;
}

interface Common {
  enabled: boolean;
  /** How fast its own time passes: 1 as recorded, 2 twice as fast, negative backwards, 0 frozen. */
  speed: Fraction;
  /** Its time is changed in a way that nobody here understands: everything in it counts as used, whole. */
  hasUnknownTimeEffect: boolean;
}

export interface ClipNode extends Common {
  is: 'clip';
  /** Key of its media; null where it shows nothing that is kept (a generator). */
  media: number | null;
  /** Other references to the same recording, a proxy for example: used alike, since a person may switch to them. */
  others?: readonly { media: number; available: Span | null; rate: Rate; reference?: number }[];
  /** Part of the media's own time that it stands for at speed 1; null for all that the media has. */
  source: Span | null;
  /** What the media has, in its own time; null where nobody knows. */
  available: Span | null;
  /** Frames a second of the media. */
  rate: Rate;
  name: string;
  /** Which of the document's references to media it is by, where the document can be pointed somewhere else. */
  reference?: number;
}

export interface GroupNode extends Common {
  is: 'track' | 'stack';
  children: Node[];
  source: Span | null;
  /** Holds sound, or picture; null where it is as what it lies in. */
  sound: boolean | null;
}

export type Node =
  | ClipNode
  | GroupNode
  | { is: 'gap'; duration: Fraction }
  /** Between two items of a track: the one before is shown `after` the cut, the one after `before` it, in seconds. */
  | { is: 'transition'; before: Fraction; after: Fraction };

export interface Reached {
  media: number;
  /** In frames of the media's rate; WHOLE where the whole of it is used and nobody knows how long that is. */
  range: FrameRange;
  rate: Rate;
  /** False where the clip, or something it lies in, is switched off. */
  enabled: boolean;
  sound: boolean;
  /** As its clip has it. */
  reference?: number;
}

/** The whole of a piece of media of which nobody knows how long it is. */
export const WHOLE: FrameRange = { start: 0, duration: 0 };

const lengthOf = (span: Span): Fraction => minus(span.end, span.start);

/** How long an item lasts where it lies. Speed does not change that: it changes how much of the media goes by. */
export function durationOf(node: Node): Fraction {
  switch (node.is) {
    case 'gap':
      return node.duration;
    case 'transition':
      return ZERO;
    case 'clip': {
      const span = node.source ?? node.available;
      return span ? lengthOf(span) : ZERO;
    }
    case 'track':
    case 'stack':
      return node.source ? lengthOf(node.source) : contentsOf(node);
  }
}

/** A group of thousands is asked for its length again and again, and never changes. */
const lengths = new WeakMap<GroupNode, Fraction>();

/**
 * How long what a group holds would last, untrimmed. A transition at either end of a track lengthens it by what it shows
 * beyond (OpenTimelineIO, Track.available_range).
 */
function contentsOf(group: GroupNode): Fraction {
  let length = lengths.get(group);
  if (length) return length;
  length = group.is === 'track' ? plus(leadOf(group), tailOf(group)) : ZERO;
  for (const child of group.children) {
    const own = durationOf(child);
    length = group.is === 'track' ? plus(length, own) : greater(length, own);
  }
  lengths.set(group, length);
  return length;
}

const leadOf = ({ children: [first] }: GroupNode): Fraction => (first?.is === 'transition' ? first.before : ZERO);
function tailOf({ children }: GroupNode): Fraction {
  const last = children.at(-1);
  return last?.is === 'transition' ? last.after : ZERO;
}

/** Everything a timeline's stack of tracks reaches, in the order it is met. */
export function reachOf(top: GroupNode): Reached[] {
  const found: Reached[] = [];
  const window = { start: ZERO, end: durationOf(top), isInstant: false };
  walk(top, window, { enabled: true, sound: false, hasUnknownTimeEffect: false, found });
  return found;
}

const unknowns = new WeakMap<GroupNode, boolean>();

/** Nobody knows how long it is, or something in it, so that cannot be said to be out of sight. */
function isUnknown(node: Node): boolean {
  if (node.is === 'clip') return !node.source && !node.available;
  if (node.is === 'gap' || node.is === 'transition') return false;
  let known = unknowns.get(node);
  if (known === undefined) unknowns.set(node, (known = node.children.some(isUnknown)));
  return known;
}

interface Around {
  enabled: boolean;
  sound: boolean;
  hasUnknownTimeEffect: boolean;
  found: Reached[];
}

/** What is seen of an item; an instant, where time stands still, has no length and is seen all the same. */
interface Window extends Span {
  isInstant: boolean;
}

const isSeen = ({ start, end, isInstant }: Window): boolean => isInstant || compare(start, end) < 0;

/** The part of a window between two times; an instant at the end is no longer in it. */
function cut(window: Window, from: Fraction, to: Fraction): Window {
  if (!window.isInstant) return { start: greater(window.start, from), end: lesser(window.end, to), isInstant: false };
  const isIn = compare(window.start, from) >= 0 && compare(window.start, to) < 0;
  return isIn ? window : { start: ONE, end: ZERO, isInstant: false };
}

/** `window`: which part of the item is seen, counted from its own start where it lies. */
function walk(node: Node, window: Window, around: Around): void {
  if (node.is === 'gap' || node.is === 'transition') return;
  const hasUnknownTimeEffect = around.hasUnknownTimeEffect || node.hasUnknownTimeEffect;
  if (!hasUnknownTimeEffect && !isUnknown(node) && !isSeen(window)) return;
  const inside = {
    hasUnknownTimeEffect,
    enabled: around.enabled && node.enabled,
    sound: node.is === 'clip' ? around.sound : (node.sound ?? around.sound),
    found: around.found,
  };
  if (node.is === 'clip') return clip(node, window, inside);
  const own = node.source ?? { start: ZERO, end: contentsOf(node) };
  for (const inner of windowsInSource(own, node.speed, window, durationOf(node))) {
    if (node.is === 'track') track(node, inner, inside);
    else for (const child of node.children) walk(child, cut(inner, ZERO, durationOf(child)), inside);
  }
}

function track(node: GroupNode, window: Window, around: Around): void {
  // Before a first transition some begin the track's time, others let it begin after: both are seen.
  const lead = node.source || window.isInstant ? ZERO : leadOf(node);
  const inner = { ...window, start: minus(window.start, lead) };
  let at = ZERO;
  for (const [i, child] of node.children.entries()) {
    if (child.is === 'transition') continue;
    const duration = durationOf(child);
    const [before, after] = [node.children[i - 1], node.children[i + 1]];
    // A transition shows an item beyond its own cut, on either side.
    const from = before?.is === 'transition' ? minus(ZERO, before.before) : ZERO;
    const to = after?.is === 'transition' ? plus(duration, after.after) : duration;
    const moved = { ...inner, start: minus(inner.start, at), end: minus(inner.end, at) };
    walk(child, cut(moved, from, to), around);
    at = plus(at, duration);
  }
}

/** Less than any frame lasts. */
const LITTLE = fraction(1, 1_000_000);

/**
 * The parts of an item's own time that a window shows; frozen, it is the one instant at its start. Backwards, programs
 * begin at its end, at what its speed makes its end, or at its start: all of these are covered.
 */
function windowsInSource(source: Span, speed: Fraction, window: Window, duration: Fraction): Window[] {
  if (sign(speed) === 0) return [{ start: source.start, end: source.start, isInstant: true }];
  if (sign(speed) > 0)
    return [
      {
        start: plus(source.start, times(window.start, speed)),
        end: plus(source.start, times(window.end, speed)),
        isInstant: window.isInstant,
      },
    ];
  const back = absolute(speed);
  const more = window.isInstant ? LITTLE : ZERO;
  const spans = [plus(source.start, times(duration, back)), source.end, source.start]
    .map((begin) => ({
      start: minus(minus(begin, times(window.end, back)), more),
      // Played back from an instant, what lies there is shown first.
      end: plus(minus(begin, times(window.start, back)), LITTLE),
      isInstant: false,
    }))
    .sort((a, b) => compare(a.start, b.start));
  const joined: Window[] = [];
  for (const span of spans) {
    const last = joined.at(-1);
    if (last && compare(span.start, last.end) <= 0) last.end = greater(last.end, span.end);
    else joined.push(span);
  }
  return joined;
}

function clip(node: ClipNode, window: Window, around: Around): void {
  if (node.media === null) return;
  for (const { media, available, rate, reference } of [{ ...node, media: node.media }, ...(node.others ?? [])])
    for (const range of framesUsed(node, window, { available, rate, around }))
      around.found.push({ media, range, rate, enabled: around.enabled, sound: around.sound, reference });
}

function framesUsed(
  node: ClipNode,
  window: Window,
  { available, rate, around }: { available: Span | null; rate: Rate; around: Around },
): FrameRange[] {
  const source = node.source ?? node.available ?? available;
  if (!source || (around.hasUnknownTimeEffect && !available)) return [WHOLE];
  if (around.hasUnknownTimeEffect) return [framesOf(available!, rate)];
  const all = windowsInSource(source, node.speed, window, lengthOf(source));
  const there = available ? all.filter((used) => meets(used, available)) : all;
  const ranges = (there.length > 0 ? there : all.slice(0, 1)).map((used) => framesOf(within(used, available), rate));
  return union(ranges);
}

const meets = (used: Span, available: Span): boolean =>
  compare(greater(used.start, available.start), lesser(used.end, available.end)) <= 0;

/** What the media does not have is not used; where the two do not meet at all, what is asked for is told as it is. */
function within(used: Span, available: Span | null): Span {
  if (!available) return used;
  const start = greater(used.start, available.start);
  const end = lesser(used.end, available.end);
  const still = compare(used.start, used.end) === 0;
  return compare(start, end) < 0 || (still && compare(start, end) === 0 && compare(end, available.end) < 0)
    ? { start, end }
    : used;
}

/** The frames that an interval of media time touches. An instant touches the one frame it lies in. */
export function framesOf(span: Span, rate: Rate): FrameRange {
  const perSecond = fraction(rate.num, rate.den);
  const start = floor(times(span.start, perSecond));
  const end = compare(span.start, span.end) === 0 ? start + 1 : ceil(times(span.end, perSecond));
  return { start, duration: end - start };
}

/** A range of frames as a piece of time. */
export function spanOf(range: FrameRange, rate: Rate): Span {
  const second = over(ONE, fraction(rate.num, rate.den));
  return {
    start: times(fraction(range.start), second),
    end: times(fraction(range.start + range.duration), second),
  };
}
