// Cuts WAV, Broadcast Wave, RF64 and AIFF of plain samples: the samples as they are, the start of the recording moved along
// with them. Source: EBU Tech 3285 (bext: TimeReference, loudness 0x7FFF where it is not told), EBU Tech 3306 and ITU-R
// BS.2088 (ds64), iXML 2.10 (SPEED), Audio Interchange File Format 1.3.
import { type ByteSource, letters, piece } from '../bytes.ts';
import { soundData as aiffData } from '../formats/aiff.ts';
import { soundData as wavData } from '../formats/wav.ts';
import type { SoundData } from '../model.ts';
import { Bytes, CannotCut, recipe, type Recipe, type RecipePiece } from './recipe.ts';

/** Frames of sound, `to` not included. */
export interface SoundRange {
  from: number;
  to: number;
}

const MOST_CHUNKS = 4096;
/** A chunk beside the sound that is copied as it is: pictures and descriptions, never gigabytes. */
const LARGEST_CHUNK = 16 << 20;
/** Padding; and what tells the whole and would not be true of a part: peaks, envelopes, loops, play lists, sums. */
const DROPPED = new Set([
  'JUNK',
  'junk',
  'FLLR',
  'PAD ',
  'PEAK',
  'levl',
  'smpl',
  'plst',
  'MD5 ',
  'ds64',
  'fact',
  'INST',
  'COMT',
]);
const MOST_32 = 0xffffffff;

interface Chunk {
  id: string;
  at: number;
  size: number;
}

/** The chunks around the sound, and where the sound is among them. */
function chunksOf(
  source: ByteSource,
  { sound, little, data }: { sound: string; little: boolean; data: SoundData },
): Chunk[] {
  const found: Chunk[] = [];
  for (let at = 12, n = 0; at + 8 <= source.size && n < MOST_CHUNKS; n++) {
    const head = piece(source, at, 8);
    const id = String.fromCharCode(...[0, 1, 2, 3].map((i) => head.getUint8(i)));
    const told = head.getUint32(4, little);
    const isSound = id === sound;
    // 64-bit sizes are told elsewhere; the sound itself is where it was found.
    const size = isSound && told === MOST_32 && little ? data.bytes : told;
    found.push({ id, at: at + 8, size });
    if (isSound && at + 8 + size > source.size) break;
    at += 8 + size + (size % 2);
  }
  return found;
}

function body(source: ByteSource, { at, size }: Chunk): Uint8Array {
  if (size > LARGEST_CHUNK) throw new CannotCut('a description in it is larger than 16 MB');
  const view = piece(source, at, Math.min(size, source.size - at));
  return new Uint8Array(view.buffer, view.byteOffset, view.byteLength).slice();
}

const even = (bytes: Uint8Array): Uint8Array => (bytes.length % 2 === 0 ? bytes : Uint8Array.of(...bytes, 0));

/** Throws CannotCut where it stays whole, EssenceTrouble where it is damaged. */
export function cutWav(source: ByteSource, range: SoundRange): Recipe {
  const data = wavData(source);
  const form = letters(piece(source, 0, 12), 0, 4);
  const isLarge = form !== 'RIFF';
  const sound = { at: data.at + range.from * data.frameBytes, length: (range.to - range.from) * data.frameBytes };
  const chunks = chunksOf(source, { sound: 'data', little: true, data });
  const pieces: RecipePiece[] = [];
  let size = 4;
  const put = (id: string, bytes: Uint8Array) => {
    const head = new Bytes(true).letters(id).u32(bytes.length);
    size += 8 + even(bytes).length;
    pieces.push({ bytes: head.add(even(bytes)).bytes() });
  };
  for (const chunk of chunks) {
    if (chunk.id === 'data') {
      size += 8 + sound.length + (sound.length % 2);
      const told = isLarge ? MOST_32 : sound.length;
      pieces.push({ bytes: new Bytes(true).letters('data').u32(told).bytes() }, sound);
      if (sound.length % 2 === 1) pieces.push({ bytes: Uint8Array.of(0) });
    } else if (chunk.id === 'bext') put('bext', movedBext(body(source, chunk), range.from));
    else if (chunk.id === 'iXML') put('iXML', movedIxml(body(source, chunk), range.from));
    else if (chunk.id === 'cue ') put('cue ', movedCues(body(source, chunk), range));
    else if (chunk.id === 'fact') put('fact', new Bytes(true).u32(Math.min(MOST_32, range.to - range.from)).bytes());
    else if (!DROPPED.has(chunk.id)) put(chunk.id, body(source, chunk));
  }
  if (!isLarge) {
    if (size > MOST_32) throw new CannotCut('more than 4 GB of it are used, which its form cannot tell');
    return recipe([{ bytes: new Bytes(true).letters('RIFF').u32(size).letters('WAVE').bytes() }, ...pieces]);
  }
  size += 8 + 28;
  const sizes = new Bytes(true)
    .letters('ds64')
    .u32(28)
    .u64(size)
    .u64(sound.length)
    .u64(range.to - range.from)
    .u32(0);
  const head = new Bytes(true).letters(form).u32(MOST_32).letters('WAVE');
  return recipe([{ bytes: head.add(sizes.bytes()).bytes() }, ...pieces]);
}

/** Its start goes along; what was measured over the whole is no longer told. */
function movedBext(bytes: Uint8Array, from: number): Uint8Array {
  if (bytes.length < 346) return bytes;
  const view = new DataView(bytes.buffer);
  view.setBigUint64(338, view.getBigUint64(338, true) + BigInt(from), true);
  if (bytes.length >= 422 && view.getUint16(346, true) >= 2)
    for (let at = 412; at < 422; at += 2) view.setUint16(at, 0x7fff, true);
  return bytes;
}

function movedIxml(bytes: Uint8Array, from: number): Uint8Array {
  const text = new TextDecoder('utf-8').decode(bytes);
  const number = (name: string) => new RegExp(`(<${name}>\\s*)(\\d{1,20})(\\s*</${name}>)`);
  const [high, low] = ['HI', 'LO'].map((end) => number(`TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_${end}`)) as [RegExp, RegExp];
  const [told, rest] = [high.exec(text), low.exec(text)];
  if (!told || !rest) return bytes;
  const moved = (BigInt(told[2]!) << 32n) + BigInt(rest[2]!) + BigInt(from);
  const out = text.replace(high, `$1${moved >> 32n}$3`).replace(low, `$1${moved & 0xffffffffn}$3`);
  return new TextEncoder().encode(out);
}

/** Marks inside stay where they are in the sound; others go. */
function movedCues(bytes: Uint8Array, { from, to }: SoundRange): Uint8Array {
  const view = new DataView(bytes.buffer);
  const count = bytes.length < 4 ? 0 : Math.min(view.getUint32(0, true), Math.floor((bytes.length - 4) / 24));
  const kept: Uint8Array[] = [];
  for (let i = 0; i < count; i++) {
    const entry = bytes.slice(4 + i * 24, 28 + i * 24);
    const own = new DataView(entry.buffer);
    const at = own.getUint32(20, true);
    if (at < from || at >= to) continue;
    own.setUint32(4, Math.max(0, own.getUint32(4, true) - from), true);
    own.setUint32(20, at - from, true);
    kept.push(entry);
  }
  const out = new Bytes(true).u32(kept.length);
  for (const entry of kept) out.add(entry);
  return out.bytes();
}

/** Throws CannotCut where it stays whole, EssenceTrouble where it is damaged. */
export function cutAiff(source: ByteSource, range: SoundRange): Recipe {
  const data = aiffData(source);
  const sound = { at: data.at + range.from * data.frameBytes, length: (range.to - range.from) * data.frameBytes };
  const pieces: RecipePiece[] = [];
  let size = 4;
  const put = (id: string, bytes: Uint8Array) => {
    size += 8 + even(bytes).length;
    pieces.push({ bytes: new Bytes().letters(id).u32(bytes.length).add(even(bytes)).bytes() });
  };
  for (const chunk of chunksOf(source, { sound: 'SSND', little: false, data })) {
    if (chunk.id === 'SSND') {
      size += 16 + sound.length + (sound.length % 2);
      pieces.push(
        {
          bytes: new Bytes()
            .letters('SSND')
            .u32(8 + sound.length)
            .u32(0)
            .u32(0)
            .bytes(),
        },
        sound,
      );
      if (sound.length % 2 === 1) pieces.push({ bytes: Uint8Array.of(0) });
    } else if (chunk.id === 'COMM') {
      const bytes = body(source, chunk);
      new DataView(bytes.buffer).setUint32(2, range.to - range.from);
      put('COMM', bytes);
    } else if (chunk.id !== 'MARK' && !DROPPED.has(chunk.id)) put(chunk.id, body(source, chunk));
  }
  if (size > MOST_32) throw new CannotCut('more than 4 GB of it are used, which its form cannot tell');
  const head = piece(source, 8, 4);
  return recipe([
    {
      bytes: new Bytes()
        .letters('FORM')
        .u32(size)
        .letters(letters(head, 0, 4))
        .bytes(),
    },
    ...pieces,
  ]);
}
