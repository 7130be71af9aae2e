// Cuts a media file to a range of its frames without encoding it anew, and looks at what that makes before anybody writes
// it: as many frames as asked for, from the timecode they had. Called by the step that archives, once to know the size and
// once to write.
import { type ByteSource, EssenceTrouble, letters, piece } from '../bytes.ts';
import { readEssence } from '../essence.ts';
import { mxfFormat } from '../formats/mxf.ts';
import type { Essence } from '../model.ts';
import { readSamples } from '../samples.ts';
import { cutMovie } from './movie.ts';
import { cutMxf } from './mxf.ts';
import { CannotCut, type Frames, made, type Recipe } from './recipe.ts';
import { cutAiff, cutWav } from './sound.ts';

export { CannotCut, type Frames, type Recipe, type RecipePiece } from './recipe.ts';

export interface Wanted extends Frames {
  /** Tracks that are neither picture, sound, timecode nor text stay behind. */
  withoutData?: boolean;
}

/** Of 120 frames a second, a label of a timecode stands for so many. */
const MOST_PER_LABEL = 5;

/**
 * Where a label of the timecode stands for several frames, what is kept begins with the first of them, and MXF is cut where its
 * frames do not depend on what is cut off: `frames` says what is kept.
 * Throws CannotCut with the reason where a file must stay whole; never EssenceTrouble.
 */
export function cutFile(source: ByteSource, wanted: Wanted): Recipe & { frames: Frames } {
  try {
    const before = readEssence(source);
    if (!before.ok) throw new CannotCut(before.trouble.detail);
    for (let more = 0; more < MOST_PER_LABEL && more <= wanted.from; more++) {
      const asked = { from: wanted.from - more, to: wanted.to };
      const { frames = asked, ...cut } = make(source, { ...asked, withoutData: wanted.withoutData });
      for (const one of cut.pieces)
        if ('at' in one && (one.at < 0 || one.at + one.length > source.size))
          throw new CannotCut('its tables lead to bytes that are not there');
      if (isTrue(made(source, cut), { essence: before.essence, frames })) return { ...cut, frames };
    }
    throw new CannotCut('its timecode cannot be moved along');
  } catch (error) {
    if (error instanceof EssenceTrouble) throw new CannotCut(error.message);
    if (error instanceof RangeError) throw new CannotCut('a structure in it is shorter than it must be');
    throw error;
  }
}

function make(source: ByteSource, range: Wanted): Recipe & { frames?: Frames } {
  const head = letters(piece(source, 0, 12), 0, 4);
  if (['RIFF', 'RF64', 'BW64'].includes(head)) return cutWav(source, range);
  if (head === 'FORM') return cutAiff(source, range);
  if (mxfFormat.sniff(source.read(0, 64))) return cutMxf(source, range);
  return cutMovie(source, range);
}

/** False where its timecode is another. */
function isTrue(source: ByteSource, { essence, frames: { from, to } }: { essence: Essence; frames: Frames }): boolean {
  const after = readEssence(source);
  if (!after.ok) throw new CannotCut(`what would be left of it cannot be read (${after.trouble.detail})`);
  const frames = framesOf(after.essence);
  if (frames !== to - from) throw new CannotCut(`what would be left of it has ${frames} frames, not ${to - from}`);
  // What is left must be readable to its end; of MXF its edit units were gone through.
  for (const track of after.essence.format === 'mxf' ? [] : readSamples(source))
    if (track.count > 0) track.sample(track.count - 1);
  const { start, startSample } = after.essence;
  const isAt = (was: number | null, now: number | null) => now === (was === null ? null : was + from);
  return isAt(essence.startSample, startSample) && isAt(essence.start?.frame ?? null, start?.frame ?? null);
}

/** As a range of it is counted: shown frames of its first picture; else frames of sound. */
export function framesOf({ tracks }: Essence): number {
  const picture = tracks.find((track) => track.is === 'picture');
  const [first] = tracks;
  return picture ? picture.frames : first?.is === 'sound' ? first.samples : 0;
}
