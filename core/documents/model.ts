// What a project document says, whatever format it was written in. Readers fill it, services store it.
import type { FrameRange, Rate } from '../time/rates.ts';
import type { Needs } from './needs.ts';
import type { Stills } from './stills.ts';

/** A place for clips and timelines; parent null for the top. Keys are unique in one document. */
export interface Bin {
  key: number;
  parent: number | null;
  name: string;
}

export interface PictureSize {
  width: number;
  height: number;
}

/** One piece of media as the document names it. */
export interface MediaRef {
  key: number;
  name: string;
  /** As written: a file URL, a path, or a path relative to the document; null for a missing reference. Of stills the first. */
  target: string | null;
  /** It is a sequence of stills. */
  stills: Stills | null;
  available: { range: FrameRange; rate: Rate } | null;
  reel: string | null;
  /** Its picture in pixels, where the document tells it. */
  picture?: PictureSize;
  /** It lies inside the document's own file: it is there as long as the document is. */
  bundled?: boolean;
}

export interface Clip {
  bin: number | null;
  name: string;
  media: number | null;
}

/** One use of media by a timeline, in frames of `rate`; a duration of 0 is the whole of it. */
export interface Use {
  media: number;
  range: FrameRange;
  rate: Rate;
  /** False where it, or what it lies in, is switched off. */
  enabled: boolean;
  sound: boolean;
  /** Uses of one media by one reference of the document go together: it can lead to one file alone. */
  reference?: number;
}

export interface Timeline {
  bin: number | null;
  name: string;
  durationFrames: number;
  rate: Rate;
  uses: Use[];
}

export interface DocumentModel {
  name: string;
  bins: Bin[];
  media: MediaRef[];
  clips: Clip[];
  timelines: Timeline[];
  /** Details that could not be read, and what was made of them; at most MOST_NOTES. */
  notes: DocumentNote[];
  /** Fonts and plug-ins that it names; left out where there are none. */
  needs?: Needs;
}

export interface DocumentNote {
  where: string;
  detail: string;
}

export const MOST_NOTES = 50;

/** Where and why a document cannot be read: `where` is 'line 12, column 4' or a JSON path. */
export interface DocumentTrouble {
  /** For example not_json, bad_value, too_deep, too_large, or not_ and the name of the format. */
  code: string;
  where: string;
  detail: string;
}

export type DocumentReading<Model = DocumentModel> =
  { ok: true; document: Model } | { ok: false; trouble: DocumentTrouble };

/** Longest name of media that is kept. */
export const MEDIA_NAME_LETTERS = 1020;

/** As much of a text as is kept of it. */
export const fit = (text: string, length: number): string =>
  text.length > length ? `${text.slice(0, length - 1)}…` : text;
