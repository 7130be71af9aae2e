// Media that an archive holds encoded anew: the exception, chosen by kind. Lossless as FFV1 (RFC 9043) with FLAC (RFC 9639) or PCM in
// Matroska (RFC 9559), proved frame by frame; or as a small viewing copy, which stands for nothing. Pure: who is asked for what, under which
// name, and about how large it will be before a worker has tried it.
import type { Rate } from '../time/rates.ts';

export const ENCODINGS = ['lossless', 'viewing'] as const;
export type Encoding = (typeof ENCODINGS)[number];

/** What may be encoded: media that timelines use, and parts that hold films or sound. */
export const ENCODED = ['used', 'delivery', 'render', 'proxy', 'unused', 'lent'] as const;
export type Encoded = (typeof ENCODED)[number];
export type Encodings = Partial<Record<Encoded, Encoding>>;

export const isEncoded = (part: string): part is Encoded => (ENCODED as readonly string[]).includes(part);

/** How a file is asked for; null as it is. */
export function encodingOf(encodings: Encodings, { used, asked }: { used: boolean; asked?: string }): Encoding | null {
  const as = used ? 'used' : asked;
  return as !== undefined && isEncoded(as) ? (encodings[as] ?? null) : null;
}

/** "used:lossless,render:viewing"; what makes no sense is left out. */
export function encodingsFrom(text: string): Encodings {
  const found: Encodings = {};
  for (const one of text.split(',')) {
    const [part, encoding] = one.split(':');
    const [known, as] = [ENCODED.find((own) => own === part), ENCODINGS.find((own) => own === encoding)];
    if (known && as) found[known] = as;
  }
  return found;
}
/** The same the other way. */
export const encodingsText = (encodings: Encodings): string =>
  ENCODED.flatMap((part) => (encodings[part] ? [`${part}:${encodings[part]}`] : [])).join(',');

const ENDINGS: Record<Encoding, { film: string; sound: string }> = {
  lossless: { film: 'mkv', sound: 'mka' },
  viewing: { film: 'mp4', sound: 'm4a' },
};

/** The name keeps its own ending, so that two files which differ in it alone stay two: "a.mov" becomes "a.mov.mkv". */
export const encodedName = (name: string, encoding: Encoding, isSound: boolean): string =>
  `${name}.${ENDINGS[encoding][isSound ? 'sound' : 'film']}`;

/** What is known of a file that may be encoded. */
export interface EncodedFacts {
  format: string;
  frames: number | null;
  rate: Rate | null;
  isSound: boolean;
  width: number | null;
  height: number | null;
  channels: number | null;
  sampleRate: number | null;
}

/** Formats of films and sound that are read here; a still is its own file. */
const FORMATS = new Set(['mov', 'mxf', 'wav', 'aiff']);
/** Of what no document names nothing is known but its name. */
const FILM = /\.(mov|mp4|m4v|mxf|mkv|avi|mpg|mpeg|ts|m2ts|webm|dv)$/i;
const SOUND = /\.(wav|bwf|aif|aiff|flac|mp3|m4a|mka|caf)$/i;

export const isSoundBy = (facts: EncodedFacts | null, name: string): boolean => facts?.isSound ?? SOUND.test(name);

/** Why it stays as it is, as the end of a sentence; null where it can be tried. */
export function whyAsItIs(
  facts: EncodedFacts | null,
  { name, isStill, isSpanned, relinks }: { name: string; isStill: boolean; isSpanned: boolean; relinks: boolean },
): string | null {
  if (isStill) return 'it is a still';
  if (facts ? !FORMATS.has(facts.format) || !facts.frames || !facts.rate : !FILM.test(name) && !SOUND.test(name))
    return 'it is no film or sound that is read here';
  if (isSpanned) return 'it is one of several pieces of a recording';
  return relinks ? null : 'a document names it that cannot be written anew';
}

/** A pixel takes about so many bits in FFV1, a sample of sound about so many bytes in FLAC. */
const LOSSLESS_BITS = 9;
const FLAC_BYTES = 1.8;
export const VIEWING_LINES = 540;
const VIEWING_BITS = 1_000_000;
const VIEWING_SOUND_BITS = 128_000;

const VIEWING_SHARE = 0.1;

/** What encoding takes time by: pixels of a picture, samples of sound, bytes of what nothing is known of. */
export function encodingWork(facts: EncodedFacts | null, sizeBytes: number): number {
  if (!facts) return sizeBytes;
  const frames = facts.frames ?? 0;
  return facts.isSound ? frames * (facts.channels ?? 1) : frames * (facts.width ?? 0) * (facts.height ?? 0);
}

/** Of that a second, until something was encoded here: one core, decoded again and compared where it is lossless. */
export const GUESSED_PACE: Record<Encoding, number> = { lossless: 20e6, viewing: 60e6 };

/** About what it will weigh, until a worker has tried a few seconds of it. */
export function guessedBytes(facts: EncodedFacts | null, sizeBytes: number, encoding: Encoding): number {
  if (!facts) return encoding === 'lossless' ? sizeBytes : Math.round(sizeBytes * VIEWING_SHARE);
  const { frames, rate, isSound, width, height, channels, sampleRate } = facts;
  const seconds = ((frames ?? 0) * (rate?.den ?? 1)) / (rate?.num ?? 1);
  const picture = isSound ? 0 : (width ?? 0) * (height ?? 0) * (frames ?? 0);
  if (encoding === 'lossless')
    return Math.round((picture * LOSSLESS_BITS) / 8 + seconds * (channels ?? 0) * (sampleRate ?? 0) * FLAC_BYTES);
  return Math.round((seconds * ((isSound ? 0 : VIEWING_BITS) + (channels ? VIEWING_SOUND_BITS : 0))) / 8);
}
