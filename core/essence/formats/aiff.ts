// AIFF and AIFF-C. Source: Audio Interchange File Format 1.3 and AIFF-C draft of 1991.
import { type ByteSource, EssenceTrouble, letters, piece } from '../bytes.ts';
import type { Essence, SoundData } from '../model.ts';
import { type EssenceFormat, text } from './format.ts';

const MOST_CHUNKS = 4096;

interface Aiff {
  channels: number;
  samples: number;
  sampleRate: number;
  codec: string;
  /** Bytes of a frame of plain sound; 0 where it is packed. */
  frameBytes: number;
  at: number;
  bytes: number | null;
}

/** Bytes of one value of plain sound, where its coding tells; frames of sound in a packet of packed sound. */
const BYTES: Record<string, number> = {
  alaw: 1,
  ulaw: 1,
  ALAW: 1,
  ULAW: 1,
  in24: 3,
  in32: 4,
  fl32: 4,
  FL32: 4,
  fl64: 8,
  FL64: 8,
  '23ni': 4,
  '42ni': 3,
};
const PLAIN = new Set(['NONE', 'sowt', 'twos', 'raw', ...Object.keys(BYTES)]);
const IN_PACKET: Record<string, number> = { ima4: 64, GSM: 160, agsm: 160, QDMC: 1, Qclp: 160 };

function chunksOf(source: ByteSource): Aiff {
  const compressed = letters(piece(source, 8, 4), 0, 4) === 'AIFC';
  let at = 12;
  let common: Omit<Aiff, 'bytes' | 'at'> | null = null;
  let soundAt = 0;
  let bytes: number | null = null;
  for (let n = 0; at + 8 <= source.size && n < MOST_CHUNKS; n++) {
    const head = piece(source, at, 8);
    const id = letters(head, 0, 4);
    const size = head.getUint32(4);
    if (id === 'COMM') {
      const view = piece(source, at + 8, compressed ? 22 : 18);
      const bits = view.getInt16(6);
      const kind = compressed ? letters(view, 18, 4).trim() : 'NONE';
      const channels = view.getInt16(0);
      common = {
        channels,
        // Of packed sound packets are counted.
        samples: view.getUint32(2) * (IN_PACKET[kind] ?? 1),
        frameBytes: PLAIN.has(kind) ? channels * (BYTES[kind] ?? Math.ceil(bits / 8)) : 0,
        sampleRate: extended(view, 8),
        codec: kind === 'NONE' || kind === 'sowt' || kind === 'twos' ? `pcm ${bits} bit` : kind,
      };
    } else if (id === 'SSND') {
      soundAt = at + 16;
      bytes = Math.max(0, Math.min(size, source.size - at - 8) - 8);
    }
    at += 8 + size + (size % 2);
  }
  if (!common || common.channels < 1 || !Number.isInteger(common.sampleRate) || common.sampleRate <= 0)
    throw new EssenceTrouble(12, 'it has no sound COMM chunk');
  return { ...common, at: soundAt, bytes };
}

/** Where the samples of plain sound lie. Throws EssenceTrouble where they are not plain, or not there. */
export function soundData(source: ByteSource): SoundData {
  const { codec, sampleRate, frameBytes, at, bytes, samples } = chunksOf(source);
  if (frameBytes === 0 || bytes === null) throw new EssenceTrouble(12, `its sound is ${codec}, not plain samples`);
  return { codec, sampleRate, frameBytes, at, bytes: Math.min(bytes, samples * frameBytes) };
}

export function readAiff(source: ByteSource): Essence {
  const { channels, samples, sampleRate, codec, bytes } = chunksOf(source);
  return {
    format: 'aiff',
    tracks: [{ is: 'sound', channels, samples, sampleRate, codec, bytes }],
    start: null,
    startSample: null,
    reel: null,
    duration: { num: samples, den: sampleRate },
  };
}

/** An 80-bit IEEE 754 extended number, rounded to a whole. */
function extended(view: DataView, at: number): number {
  const exponent = (view.getUint16(at) & 0x7fff) - 16_383;
  const high = view.getUint32(at + 2);
  const low = view.getUint32(at + 6);
  return Math.round(high * 2 ** (exponent - 31) + low * 2 ** (exponent - 63));
}

export const aiffFormat: EssenceFormat = {
  id: 'aiff',
  endings: ['aif', 'aiff', 'aifc'],
  sniff: (head) => text(head, 0, 4) === 'FORM' && ['AIFF', 'AIFC'].includes(text(head, 8, 4)),
  read: readAiff,
};
