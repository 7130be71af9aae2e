// What a media file's own structure says of it, whatever its format: the types that readers fill.
import type { Rate } from '../time/rates.ts';

export interface PictureTrack {
  is: 'picture';
  codec: string;
  width: number;
  height: number;
  /** Null for one still. */
  rate: Rate | null;
  frames: number;
  /** Exact, of all samples; null where the structure does not tell. */
  bytes: number | null;
}

export interface SoundTrack {
  is: 'sound';
  codec: string;
  channels: number;
  sampleRate: number;
  samples: number;
  bytes: number | null;
}

export interface StartTimecode {
  /** Frames from midnight, counted at `rate` rounded up to whole frames. */
  frame: number;
  rate: Rate;
  dropFrame: boolean;
}

export interface Essence {
  /** As its file says: mov, wav, dpx, …; 'other' where a program was asked. */
  format: string;
  tracks: (PictureTrack | SoundTrack)[];
  start: StartTimecode | null;
  /** Samples from midnight, of sound that has no timecode (EBU Tech 3285, TimeReference). */
  startSample: number | null;
  reel: string | null;
  /** Length of what is played, edit lists counted, in seconds as a fraction. */
  duration: { num: number; den: number } | null;
}

/** Sound of samples that are all alike. */
export interface SoundData {
  codec: string;
  sampleRate: number;
  /** Bytes of a frame of sound: of one sample of every channel. */
  frameBytes: number;
  at: number;
  bytes: number;
}
