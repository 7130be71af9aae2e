// Channels of packed sound as its own configuration has them; the box around it often says two. Source: ISO/IEC 14496-3, 1.6.2.1
// (AudioSpecificConfig), 4.4.1.1 (program_config_element); ISO/IEC 14496-1, 7.2.6 (descriptors).
import { boxes } from './boxes.ts';

const CHANNELS: Record<number, number> = { 1: 1, 2: 2, 3: 3, 4: 4, 5: 5, 6: 6, 7: 8, 11: 7, 12: 8, 14: 8 };

/** Null where the configuration says nothing. */
export function channelsOfAac(data: DataView, begin: number, end: number): number | null {
  for (const box of boxes(data, begin, end)) {
    // QuickTime keeps it inside a box of its own.
    if (box.type === 'wave') {
      const inner = channelsOfAac(data, box.begin, box.end);
      if (inner !== null) return inner;
    }
    if (box.type === 'esds') return inDescriptors(data, box.begin + 4, box.end);
  }
  return null;
}

/** Descriptors in descriptors: the one with tag 5 holds the configuration. */
function inDescriptors(data: DataView, begin: number, end: number): number | null {
  for (let at = begin; at + 2 < end;) {
    const tag = data.getUint8(at++);
    let length = 0;
    for (let i = 0; i < 4 && at < end; i++) {
      const byte = data.getUint8(at++);
      length = length * 128 + (byte & 0x7f);
      if (byte < 0x80) break;
    }
    if (tag === 5) return at + length <= end ? inConfiguration(bitsOf(data, at, length)) : null;
    at += tag === 3 ? 3 : tag === 4 ? 13 : length;
  }
  return null;
}

/** Reads so many bits after those read before; 0 beyond the end. */
function bitsOf(data: DataView, begin: number, length: number): (count: number) => number {
  let at = 0;
  return (count) => {
    let value = 0;
    for (let i = 0; i < count; i++, at++)
      value = value * 2 + (at < length * 8 ? (data.getUint8(begin + (at >> 3)) >> (7 - (at & 7))) & 1 : 0);
    return value;
  };
}

function inConfiguration(bits: (count: number) => number): number | null {
  const kind = () => {
    const told = bits(5);
    return told === 31 ? 32 + bits(6) : told;
  };
  const rate = () => {
    if (bits(4) === 15) bits(24);
  };
  let own = kind();
  rate();
  const configuration = bits(4);
  if (own === 5 || own === 29) {
    rate();
    own = kind();
  }
  if (configuration > 0) return CHANNELS[configuration] ?? null;
  bits(1);
  if (bits(1) === 1) bits(14);
  bits(1);
  return inProgram(bits);
}

function inProgram(bits: (count: number) => number): number | null {
  bits(4 + 2 + 4);
  const [front, side, back, low] = [bits(4), bits(4), bits(4), bits(2)];
  bits(3 + 4);
  if (bits(1) === 1) bits(4);
  if (bits(1) === 1) bits(4);
  if (bits(1) === 1) bits(3);
  let channels = low;
  for (let i = 0; i < front + side + back; i++) {
    // A pair, or one.
    channels += 1 + bits(1);
    bits(4);
  }
  return channels > 0 ? channels : null;
}

/** Full channels by the audio coding mode (ETSI TS 102 366, table 4.3). */
const BY_MODE = [2, 1, 2, 3, 3, 4, 4, 5];

/**
 * Channels of AC-3 and enhanced AC-3 as their own boxes have them, those of a dependent substream not counted; the description
 * around them says two. Source: ETSI TS 102 366, annex F (dac3, dec3). Null where neither is there.
 */
export function channelsOfAc3(data: DataView, begin: number, end: number): number | null {
  for (const box of boxes(data, begin, end)) {
    if (box.type === 'wave') {
      const inner = channelsOfAc3(data, box.begin, box.end);
      if (inner !== null) return inner;
    }
    if (box.type !== 'dac3' && box.type !== 'dec3') continue;
    const bits = bitsOf(data, box.begin, box.end - box.begin);
    const isEnhanced = box.type === 'dec3';
    bits(isEnhanced ? 16 : 0);
    bits(2 + 5 + (isEnhanced ? 2 : 0) + 3);
    return BY_MODE[bits(3)]! + bits(1);
  }
  return null;
}
