// WAV, Broadcast Wave and RF64. Source: EBU Tech 3285 (bext), EBU Tech 3306 and ITU-R BS.2088 (ds64, 64-bit sizes).
import { type ByteSource, count64, EssenceTrouble, letters, piece } from '../bytes.ts';
import type { Essence } from '../model.ts';
import { type EssenceFormat, text } from './format.ts';

const MOST_CHUNKS = 4096;
const CODECS: Record<number, string> = { 1: 'pcm', 2: 'adpcm', 3: 'pcm float', 6: 'a-law', 7: 'mu-law', 0x55: 'mp3' };

interface Format {
  codec: string;
  channels: number;
  sampleRate: number;
  blockAlign: number;
}

export function readWav(source: ByteSource): Essence {
  let at = 12;
  let format: Format | null = null;
  let data: number | null = null;
  let large: { data: number } | null = null;
  let startSample: number | null = null;
  let reel: string | null = null;
  for (let n = 0; at + 8 <= source.size && n < MOST_CHUNKS; n++) {
    const head = piece(source, at, 8);
    const id = letters(head, 0, 4);
    const told = head.getUint32(4, true);
    const size: number = id === 'data' && told === 0xffffffff && large ? large.data : told;
    const body = at + 8;
    if (id === 'ds64') large = readSizes(source, body, size);
    else if (id === 'fmt ') format = readFormat(source, body, size);
    else if (id === 'bext') startSample = readBext(source, body, size);
    else if (id === 'iXML') reel = tapeOf(source, body, size);
    else if (id === 'data') {
      // A recording that was cut off says more than it has.
      data = Math.min(size, source.size - body);
      // What follows is found only where the size is true.
      if (size > source.size - body) break;
    }
    at = body + size + (size % 2);
  }
  if (!format) throw new EssenceTrouble(12, 'it has no fmt chunk');
  if (data === null) throw new EssenceTrouble(12, 'it has no data chunk');
  const { codec, channels, sampleRate, blockAlign } = format;
  const samples = Math.floor(data / blockAlign);
  return {
    format: 'wav',
    tracks: [{ is: 'sound', codec, channels, sampleRate, samples, bytes: data }],
    start: null,
    startSample,
    reel,
    duration: { num: samples, den: sampleRate },
  };
}

function readSizes(source: ByteSource, at: number, size: number): { data: number } {
  const view = piece(source, at, Math.min(size, 24));
  const swapped = new DataView(Uint8Array.from({ length: 8 }, (_, i) => view.getUint8(15 - i)).buffer);
  return { data: count64(swapped, 0, at) };
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
  return { codec: name.startsWith('pcm') ? `${name} ${bits} bit` : name, channels, sampleRate, blockAlign };
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
