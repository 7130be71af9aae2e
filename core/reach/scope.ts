// Reach within a scope: what chosen timelines use of media, joined from single uses in the media's own rate.
import { coverInRate, type FrameRange, type Rate, union } from '../time/rates.ts';

export interface ScopedUse {
  mediaId: number;
  timelineId: number;
  range: FrameRange;
  rate: Rate;
  /** See core/documents/model.ts. */
  reference?: number;
}

export interface Reach {
  /** Null: the whole of it. */
  ranges: FrameRange[] | null;
  /** The same, joined where one reference of a document uses what lies on both sides. */
  spans: FrameRange[] | null;
  timelineIds: number[];
}

/** @param rateOf the media's own rate, in which its ranges are told; null where nobody knows it */
export function reachByMedia(uses: readonly ScopedUse[], rateOf: (mediaId: number) => Rate | null): Map<number, Reach> {
  const gathered = new Map<number, Gathered>();
  for (const { mediaId, timelineId, range, rate, reference } of uses) {
    const known: Gathered = gathered.get(mediaId) ?? {
      ranges: [],
      around: new Map(),
      whole: false,
      timelines: new Set<number>(),
    };
    gathered.set(mediaId, known);
    known.timelines.add(timelineId);
    if (range.duration === 0) {
      known.whole = true;
      continue;
    }
    const own = coverInRate(range, rate, rateOf(mediaId) ?? rate);
    known.ranges.push(own);
    if (reference !== undefined) known.around.set(reference, hull(known.around.get(reference), own));
  }
  return new Map(
    [...gathered].map(([mediaId, { ranges, around: byReference, whole, timelines }]) => [
      mediaId,
      {
        ranges: whole ? null : union(ranges),
        spans: whole ? null : union([...ranges, ...byReference.values()]),
        timelineIds: [...timelines].sort((a, b) => a - b),
      },
    ]),
  );
}

interface Gathered {
  ranges: FrameRange[];
  around: Map<number, FrameRange>;
  whole: boolean;
  timelines: Set<number>;
}

/** The range from the beginning of the first to the end of the last. */
export function hull(known: FrameRange | undefined, more: FrameRange): FrameRange {
  if (!known) return { ...more };
  const start = Math.min(known.start, more.start);
  return { start, duration: Math.max(known.start + known.duration, more.start + more.duration) - start };
}

/** How much of the whole parts are, from 0 to 1. */
export const shareOf = (parts: readonly { from: number; to: number }[]): number =>
  parts.reduce((sum, part) => sum + part.to - part.from, 0);

/** The same in words: what is used at all is never told as nothing. */
export const shareText = (parts: readonly { from: number; to: number }[]): string =>
  parts.length === 0 ? 'not' : `${Math.max(1, Math.round(shareOf(parts) * 100))} %`;

/** The parts of the whole, from 0 to 1, that ranges are; the whole where nobody knows how long it is. */
export function partsOf(
  ranges: readonly FrameRange[] | null,
  whole: { startFrame: number | null; durationFrames: number | null },
): { from: number; to: number }[] {
  const { startFrame, durationFrames } = whole;
  if (ranges === null || startFrame === null || !durationFrames) return [{ from: 0, to: 1 }];
  const clamp = (value: number) => Math.min(1, Math.max(0, value));
  return ranges.map(({ start, duration }) => ({
    from: clamp((start - startFrame) / durationFrames),
    to: clamp((start + duration - startFrame) / durationFrames),
  }));
}
