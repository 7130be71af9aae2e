// WAV, Broadcast Wave and RF64. Source: EBU Tech 3285 (bext), EBU Tech 3306 and ITU-R BS.2088 (ds64, 64-bit sizes).
import { type ByteSource, count64, EssenceTrouble, letters, piece } from '../bytes.ts';
import type { Essence, SoundData } from '../model.ts';
import { type EssenceFormat, text } from './format.ts';

const MOST_CHUNKS = 4096;
const CODECS: Record<number, string> = {
  1: 'pcm',
  2: 'adpcm',
  3: 'pcm float',
  6: 'a-law',
  7: 'mu-law',
  0x11: 'adpcm',
  0x31: 'gsm',
  0x50: 'mpeg layer 2',
  0x55: 'mp3',
};
/** Codings in which every block is one frame of sound. */
const PLAIN = new Set([1, 3, 6, 7]);

interface Format {
  codec: string;
  channels: number;
  sampleRate: number;
  blockAlign: number;
  /** Frames of sound in each block: 1 of plain samples; 0 where nobody knows. */
  inBlock: number;
  bytesPerSecond: number;
}

interface Wav {
  format: Format;
  dataAt: number;
  data: number;
  /** Frames of sound as a fact chunk, or a ds64, says. */
  told: number | null;
  startSample: number | null;
  reel: string | null;
}

function chunksOf(source: ByteSource): Wav {
  let at = 12;
  let format: Format | null = null;
  let data: number | null = null;
  let dataAt = 0;
  let told: number | null = null;
  let large: { data: number; samples: number } | null = null;
  let startSample: number | null = null;
  let reel: string | null = null;
  for (let n = 0; at + 8 <= source.size && n < MOST_CHUNKS; n++) {
    const head = piece(source, at, 8);
    const id = letters(head, 0, 4);
    const length = head.getUint32(4, true);
    const size: number = id === 'data' && length === 0xffffffff && large ? large.data : length;
    const body = at + 8;
    if (id === 'ds64') large = readSizes(source, body, size);
    else if (id === 'fmt ') format = readFormat(source, body, size);
    else if (id === 'fact' && size >= 4) told = piece(source, body, 4).getUint32(0, true);
    else if (id === 'bext') startSample = readBext(source, body, size);
    else if (id === 'iXML') reel = tapeOf(source, body, size);
    else if (id === 'data') {
      // A recording that was cut off says more than it has.
      data = Math.min(size, source.size - body);
      dataAt = body;
      // What follows is found only where the size is true.
      if (size > source.size - body) break;
    }
    at = body + size + (size % 2);
  }
  if (!format) throw new EssenceTrouble(12, 'it has no fmt chunk');
  if (data === null) throw new EssenceTrouble(12, 'it has no data chunk');
  if (told === 0xffffffff) told = large?.samples ?? null;
  return { format, dataAt, data, told, startSample, reel };
}

/** Frames of sound: counted where samples are plain; else as the file says, as its blocks hold, or as its rate tells. */
function framesOf({ format, data, told }: Wav): number {
  const { inBlock, blockAlign, bytesPerSecond, sampleRate } = format;
  if (inBlock === 1) return Math.floor(data / blockAlign);
  const most = inBlock > 1 ? Math.ceil(data / blockAlign) * inBlock : null;
  if (told !== null && told > 0 && (most === null || told <= most)) return told;
  if (most !== null) return most;
  return bytesPerSecond > 0 ? Math.round((data / bytesPerSecond) * sampleRate) : 0;
}

/** Where the samples of plain sound lie. Throws EssenceTrouble where they are not plain. */
export function soundData(source: ByteSource): SoundData {
  const { format, dataAt, data } = chunksOf(source);
  if (format.inBlock !== 1) throw new EssenceTrouble(12, `its sound is ${format.codec}, not plain samples`);
  return { codec: format.codec, sampleRate: format.sampleRate, frameBytes: format.blockAlign, at: dataAt, bytes: data };
}

export function readWav(source: ByteSource): Essence {
  const wav = chunksOf(source);
  const { codec, channels, sampleRate } = wav.format;
  const samples = framesOf(wav);
  const { data, startSample, reel } = wav;
  return {
    format: 'wav',
    tracks: [{ is: 'sound', codec, channels, sampleRate, samples, bytes: data }],
    start: null,
    startSample,
    reel,
    duration: { num: samples, den: sampleRate },
  };
}

function readSizes(source: ByteSource, at: number, size: number): { data: number; samples: number } {
  const view = piece(source, at, Math.min(size, 24));
  const count = (from: number) =>
    count64(new DataView(Uint8Array.from({ length: 8 }, (_, i) => view.getUint8(from + 7 - i)).buffer), 0, at);
  return { data: count(8), samples: view.byteLength >= 24 ? count(16) : 0 };
}

function readFormat(source: ByteSource, at: number, size: number): Format {
  const view = piece(source, at, Math.min(size, 40));
  const tag = view.getUint16(0, true);
  const channels = view.getUint16(2, true);
  const sampleRate = view.getUint32(4, true);
  const blockAlign = view.getUint16(12, true);
  const bits = view.getUint16(14, true);
  if (channels === 0 || sampleRate === 0 || blockAlign === 0)
    throw new EssenceTrouble(at, 'its fmt chunk says no channels, no rate or no sample size');
  // WAVE_FORMAT_EXTENSIBLE has the true one in its GUID.
  const real = tag === 0xfffe && size >= 26 ? view.getUint16(24, true) : tag;
  const name = CODECS[real] ?? `format ${real}`;
  // ADPCM of both makers and GSM say how many they pack into a block, behind the size of what follows.
  const packed = size >= 20 && [2, 0x11, 0x31].includes(real) ? view.getUint16(18, true) : 0;
  const inBlock = PLAIN.has(real) ? 1 : packed;
  const codec = name.startsWith('pcm') ? `${name} ${bits} bit` : name;
  return { codec, channels, sampleRate, blockAlign, inBlock, bytesPerSecond: view.getUint32(8, true) };
}

/** TimeReference: samples from midnight, after description, originator, reference, date and time. */
function readBext(source: ByteSource, at: number, size: number): number | null {
  if (size < 346) return null;
  const view = piece(source, at + 338, 8);
  return view.getUint32(4, true) * 2 ** 32 + view.getUint32(0, true);
}

function tapeOf(source: ByteSource, at: number, size: number): string | null {
  const length = Math.min(size, 1 << 20, source.size - at);
  const bytes = source.read(at, length);
  const text = new TextDecoder('utf-8').decode(bytes);
  return /<TAPE>([^<]{1,120})<\/TAPE>/.exec(text)?.[1]?.trim() || null;
}

export const wavFormat: EssenceFormat = {
  id: 'wav',
  endings: ['wav', 'bwf', 'rf64'],
  sniff: (head) => ['RIFF', 'RF64', 'BW64'].includes(text(head, 0, 4)) && text(head, 8, 4) === 'WAVE',
  read: readWav,
};
