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
import type { FrameRange, Rate } from '../time/rates.ts';

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
  /** Key of its media; null where it shows nothing that is kept (a generator, a missing reference). */
  media: number | null;
  /** Part of the media's own time that it stands for at speed 1; null for all that the media has. */
  source: Span | null;
  /** What the media has, in its own time; null where nobody knows. */
  available: Span | null;
  /** Frames a second of the media. */
  rate: Rate;
  name: string;
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

/** How long what a group holds would last, untrimmed. */
function contentsOf(group: GroupNode): Fraction {
  let length = lengths.get(group);
  if (length) return length;
  length = ZERO;
  for (const child of group.children) {
    const own = durationOf(child);
    length = group.is === 'track' ? plus(length, own) : greater(length, own);
  }
  lengths.set(group, length);
  return length;
}

/** Everything a timeline's stack of tracks reaches, in the order it is met. */
export function reachOf(top: GroupNode): Reached[] {
  const found: Reached[] = [];
  walk(top, { start: ZERO, end: durationOf(top) }, { enabled: true, sound: false, hasUnknownTimeEffect: false, found });
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

/** `window`: which part of the item is seen, counted from its own start where it lies. */
function walk(node: Node, window: Span, around: Around): void {
  if (node.is === 'gap' || node.is === 'transition') return;
  const hasUnknownTimeEffect = around.hasUnknownTimeEffect || node.hasUnknownTimeEffect;
  if (!hasUnknownTimeEffect && !isUnknown(node) && compare(window.start, window.end) >= 0) return;
  const inside = {
    hasUnknownTimeEffect,
    enabled: around.enabled && node.enabled,
    sound: node.is === 'clip' ? around.sound : (node.sound ?? around.sound),
    found: around.found,
  };
  if (node.is === 'clip') return clip(node, window, inside);
  const duration = durationOf(node);
  const inner = windowInSource(node.source ?? { start: ZERO, end: contentsOf(node) }, node.speed, window, duration);
  if (node.is === 'track') return track(node, inner, inside);
  for (const child of node.children)
    walk(child, { start: greater(inner.start, ZERO), end: lesser(inner.end, durationOf(child)) }, inside);
}

function track(node: GroupNode, inner: Span, around: Around): void {
  let at = ZERO;
  for (const [i, child] of node.children.entries()) {
    if (child.is === 'transition') continue;
    const duration = durationOf(child);
    const [before, after] = [node.children[i - 1], node.children[i + 1]];
    // A transition shows an item beyond its own cut, on either side.
    const from = before?.is === 'transition' ? minus(ZERO, before.before) : ZERO;
    const to = after?.is === 'transition' ? plus(duration, after.after) : duration;
    walk(child, { start: greater(minus(inner.start, at), from), end: lesser(minus(inner.end, at), to) }, around);
    at = plus(at, duration);
  }
}

/**
 * The part of an item's own time that a window shows. Backwards, the same piece is played from its end; frozen, it is
 * the one instant at its start, told as an interval without length.
 */
function windowInSource(source: Span, speed: Fraction, window: Span, duration: Fraction): Span {
  if (sign(speed) === 0) return { start: source.start, end: source.start };
  if (sign(speed) > 0)
    return {
      start: plus(source.start, times(window.start, speed)),
      end: plus(source.start, times(window.end, speed)),
    };
  const back = absolute(speed);
  const last = plus(source.start, times(duration, back));
  return { start: minus(last, times(window.end, back)), end: minus(last, times(window.start, back)) };
}

function clip(node: ClipNode, window: Span, { enabled, sound, hasUnknownTimeEffect, found }: Around): void {
  if (node.media === null) return;
  const { media, rate } = node;
  const source = node.source ?? node.available;
  if (!source || (hasUnknownTimeEffect && !node.available))
    return void found.push({ media, range: WHOLE, rate, enabled, sound });
  const used = hasUnknownTimeEffect ? node.available! : windowInSource(source, node.speed, window, lengthOf(source));
  const range = framesOf(within(used, node.available), rate);
  if (range.duration > 0) found.push({ media, range, rate, enabled, sound });
}

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
