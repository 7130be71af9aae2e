// AIFF and AIFF-C. Source: Audio Interchange File Format 1.3 and AIFF-C draft of 1991.
import { type ByteSource, EssenceTrouble, letters, piece } from '../bytes.ts';
import type { Essence } from '../model.ts';
import { type EssenceFormat, text } from './format.ts';

const MOST_CHUNKS = 4096;

export function readAiff(source: ByteSource): Essence {
  const compressed = letters(piece(source, 8, 4), 0, 4) === 'AIFC';
  let at = 12;
  let common: { channels: number; samples: number; sampleRate: number; codec: string } | null = null;
  let bytes: number | null = null;
  for (let n = 0; at + 8 <= source.size && n < MOST_CHUNKS; n++) {
    const head = piece(source, at, 8);
    const id = letters(head, 0, 4);
    const size = head.getUint32(4);
    if (id === 'COMM') {
      const view = piece(source, at + 8, compressed ? 22 : 18);
      const bits = view.getInt16(6);
      const kind = compressed ? letters(view, 18, 4) : 'NONE';
      common = {
        channels: view.getInt16(0),
        samples: view.getUint32(2),
        sampleRate: extended(view, 8),
        codec: kind === 'NONE' || kind === 'sowt' || kind === 'twos' ? `pcm ${bits} bit` : kind,
      };
    } else if (id === 'SSND') bytes = Math.max(0, Math.min(size, source.size - at - 8) - 8);
    at += 8 + size + (size % 2);
  }
  if (!common || common.channels < 1 || !Number.isInteger(common.sampleRate) || common.sampleRate <= 0)
    throw new EssenceTrouble(12, 'it has no sound COMM chunk');
  return {
    format: 'aiff',
    tracks: [{ is: 'sound', ...common, bytes }],
    start: null,
    startSample: null,
    reel: null,
    duration: { num: common.samples, den: common.sampleRate },
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
