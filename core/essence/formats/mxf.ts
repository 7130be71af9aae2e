// MXF. Source: SMPTE ST 377-1 (partitions, primer, header metadata, index tables), ST 379-1. Header metadata is taken
// from the header partition, or from the footer where the header was left open; of the essence only the keys and lengths
// of its first pieces are read.
import { isSameRate, type Rate } from '../../time/rates.ts';
import { type ByteSource, EssenceTrouble, piece } from '../bytes.ts';
import type { Essence, PictureTrack, SoundTrack, StartTimecode } from '../model.ts';
import {
  hex,
  INDEX,
  klv,
  localTags,
  type Partition,
  PARTITION,
  partition,
  rational,
  type SetOf,
  SETS,
  setsIn,
  whole,
} from '../mxf/klv.ts';
import { type EssenceFormat, hex as hexOf } from './format.ts';

const LONGEST_HEADER = 64 << 20;
const MOST_TRACKS = 1000;

export function readMxf(source: ByteSource): Essence {
  const header = partition(source, 0);
  let metadata = readMetadata(source, header);
  if ((!header.closed || metadata.sets.length === 0) && header.footer > 0 && header.footer < source.size) {
    // Written while the length was not known yet: the footer knows.
    const footer = partition(source, header.footer);
    if (footer.headerBytes > 0) metadata = readMetadata(source, footer);
  }
  if (metadata.sets.length === 0) throw new EssenceTrouble(0, 'it has no header metadata');
  const index = indexTable(source, header, metadata);
  return essenceOf(metadata, index, sizesOf(source, header, index));
}

interface Metadata {
  sets: SetOf[];
}

function readMetadata(source: ByteSource, { begin, headerBytes }: Partition): Metadata {
  if (headerBytes > LONGEST_HEADER) throw new EssenceTrouble(begin, `header metadata of ${headerBytes} bytes`);
  return { sets: setsIn(piece(source, begin, Math.min(headerBytes, source.size - begin)), begin) };
}

const PICTURE = new Set([0x27, 0x28, 0x29, 0x51, 0x5f]);
const SOUND = new Set([0x42, 0x47, 0x48]);

function essenceOf({ sets }: Metadata, indexed: IndexTable | null, sizes: ReadonlyMap<string, number>): Essence {
  const tracks: (PictureTrack | SoundTrack)[] = [];
  const editRate =
    sets
      .filter((set) => set.kind === SETS.track)
      .map((set) => rational(set.values.get(0x4b01)))
      .find(Boolean) ?? null;
  // The longest picture, in edit units: sound that counts no more than that counts in them too.
  const mostUnits = Math.max(
    indexed && editRate && isSameRate(indexed.rate, editRate) ? indexed.frames : 0,
    ...sets.filter(({ kind }) => PICTURE.has(kind)).map(({ values }) => whole(values.get(0x3002))),
  );
  const elements = elementsOf(sets);
  const bytesOf = (values: SetOf['values']) => sizes.get(elements.get(whole(values.get(0x3006))) ?? '') ?? null;
  const described = sets.filter(({ kind }) => PICTURE.has(kind) || SOUND.has(kind)).length;
  if (described > MOST_TRACKS) throw new EssenceTrouble(0, `it describes ${described} tracks`);
  for (const { kind, values } of sets) {
    const around = { editRate, mostUnits, frames: indexed?.frames ?? 0, bytes: bytesOf(values) };
    if (PICTURE.has(kind)) tracks.push(pictureOf(values, around));
    else if (SOUND.has(kind)) tracks.push(soundOf(values, around));
  }
  if (tracks.length === 0) throw new EssenceTrouble(0, 'its metadata describes no picture and no sound');
  const picture = tracks.find((track) => track.is === 'picture');
  const sound = tracks.find((track) => track.is === 'sound');
  return {
    format: 'mxf',
    tracks,
    start: startOf(sets, picture?.is === 'picture' ? picture.rate : editRate),
    startSample: null,
    reel: null,
    duration:
      picture?.is === 'picture' && picture.rate
        ? { num: picture.frames * picture.rate.den, den: picture.rate.num }
        : sound?.is === 'sound' && sound.sampleRate > 0
          ? { num: sound.samples, den: sound.sampleRate }
          : null,
  };
}

interface AroundTrack {
  editRate: Rate | null;
  mostUnits: number;
  /** Of the index table. */
  frames: number;
  bytes: number | null;
}

function pictureOf(values: SetOf['values'], { editRate, frames, bytes }: AroundTrack): PictureTrack {
  const long = whole(values.get(0x3002));
  return {
    is: 'picture',
    codec: codecOf(values.get(0x3201)),
    width: whole(values.get(0x3209)) || whole(values.get(0x3203)),
    // What is shown, where it is told; what is stored is padded to whole blocks.
    height: (whole(values.get(0x3208)) || whole(values.get(0x3202))) * (values.get(0x320c)?.getUint8(0) === 1 ? 2 : 1),
    rate: rational(values.get(0x3001)) ?? editRate,
    frames: long > 0 ? long : frames,
    bytes,
  };
}

function soundOf(values: SetOf['values'], { editRate, mostUnits, frames, bytes }: AroundTrack): SoundTrack {
  const rate = rational(values.get(0x3001)) ?? editRate;
  const long = whole(values.get(0x3002));
  const sampling = rational(values.get(0x3d03));
  const sampleRate = sampling ? Math.round(sampling.num / sampling.den) : 0;
  // Counted in samples where its own rate is the sampling rate and the count is one, else in edit units (ST 377-1
  // B.1, and files that say a sampling rate and still count edit units).
  const length = long > 0 ? long : frames;
  const inUnits = rate !== null && editRate !== null && isSampling(rate) && length <= mostUnits;
  const unit = inUnits ? editRate : rate;
  const samples = unit && sampleRate > 0 ? Math.round((length * unit.den * sampleRate) / unit.num) : 0;
  const codec = `pcm ${whole(values.get(0x3d01))} bit`;
  return { is: 'sound', codec, channels: whole(values.get(0x3d07)), sampleRate, samples, bytes };
}

const isSampling = (rate: Rate) => rate.num / rate.den > 1000;

/** The first timecode component: of the material package where there are several. */
function startOf(sets: readonly SetOf[], rate: Rate | null): StartTimecode | null {
  const set = sets.find(({ kind }) => kind === SETS.timecode);
  if (!set || !rate) return null;
  return {
    frame: Math.max(0, whole(set.values.get(0x1501))),
    rate,
    dropFrame: set.values.get(0x1503)?.getUint8(0) === 1,
  };
}

/** The MPEG family, by the first digit of its members. */
const MPEG: Record<string, string> = { '0': 'mpeg-2', '1': 'mpeg-1', '2': 'mpeg-4', '3': 'h.264', '4': 'h.265' };

/** Names of picture codings by their label (ST 400 family); the label itself where it has no name here. */
function codecOf(view: DataView | undefined): string {
  if (!view || view.byteLength < 16) return 'picture';
  const label = hex(view, 0, 16);
  if (label.startsWith('060e2b34040101') && label.slice(16, 24) === '04010202') {
    const [family, member] = [label.slice(24, 26), label.slice(26, 28)];
    if (family === '01') return MPEG[member[0]!] ?? `label ${label.slice(16)}`;
    if (family === '02') return 'dv';
    if (family === '03') return member === '06' ? 'rdd 36' : 'jpeg 2000';
    if (family === '71') return 'vc-3';
  }
  return `label ${label.slice(16)}`;
}

/** What the segments of an index table say together (ST 377-1, 11.2). */
interface IndexTable {
  frames: number;
  rate: Rate;
  /** Bytes of every edit unit where they are all alike, else 0. */
  unitBytes: number;
}

/** Of the footer, or of the header where that has one. */
function indexTable(source: ByteSource, header: Partition, metadata: Metadata): IndexTable | null {
  const { footer } = header;
  const inFooter =
    footer > 0 && footer < source.size ? segments(source, partition(source, footer).begin, 4 << 20) : null;
  const index = inFooter ?? segments(source, header.begin + header.headerBytes, Math.min(header.indexBytes, 4 << 20));
  // Where all units are alike, the table may leave their number open.
  return index && { ...index, frames: index.frames || longest(metadata, index.rate) };
}

/** Edit units of the longest sequence on a track of this rate, as the packages have it. */
function longest({ sets }: Metadata, rate: Rate): number {
  const sequences = new Map<string, number>();
  for (const { kind, values } of sets) {
    const id = values.get(0x3c0a);
    if (kind === SETS.sequence && id) sequences.set(hex(id, 0, id.byteLength), whole(values.get(0x0202)));
  }
  let most = 0;
  for (const { kind, values } of sets) {
    const [own, holds] = [rational(values.get(0x4b01)), values.get(0x4803)];
    if (kind === SETS.track && own && isSameRate(own, rate) && holds)
      most = Math.max(most, sequences.get(hex(holds, 0, holds.byteLength)) ?? 0);
  }
  return most;
}

function segments(source: ByteSource, begin: number, most: number): IndexTable | null {
  if (begin >= source.size || most <= 0) return null;
  const view = piece(source, begin, Math.min(source.size - begin, most));
  let frames = 0;
  let rate: Rate | null = null;
  const units = new Set<number>();
  for (let at = 0; at + 17 < view.byteLength;) {
    const item = klv(view, at, begin);
    if (item.end > view.byteLength) break;
    if (item.key === INDEX) {
      const values = localTags(view, item, begin);
      rate = rational(values.get(0x3f0b)) ?? rate;
      frames = Math.max(frames, whole(values.get(0x3f0c)) + whole(values.get(0x3f0d)));
      units.add(whole(values.get(0x3f05)));
    }
    at = item.end;
  }
  const [unitBytes] = units;
  return rate && { frames, rate, unitBytes: units.size === 1 ? unitBytes! : 0 };
}

/** The key of the essence elements of each track, which descriptors name: its number (ST 379-1, 7). */
function elementsOf(sets: readonly SetOf[]): Map<number, string> {
  const keys = new Map<number, string>();
  for (const { kind, values } of sets) {
    const number = values.get(0x4804);
    if (kind !== SETS.track || !number || number.byteLength < 4 || whole(number) === 0) continue;
    const id = whole(values.get(0x4801));
    if (!keys.has(id)) keys.set(id, hex(number, 0, 4));
  }
  return keys;
}

const ELEMENT = '060e2b3401020101';
/** Pieces of the body that are looked at, a short reading each. */
const MOST_PIECES = 256;

/** A body that cannot be walked leaves sizes open: a recording that is still written has an end like that. */
function sizesOf(source: ByteSource, header: Partition, index: IndexTable | null): Map<string, number> {
  try {
    return elementBytes(source, header, index);
  } catch (error) {
    if (error instanceof EssenceTrouble || error instanceof RangeError) return new Map();
    throw error;
  }
}

/**
 * Bytes of all samples, by element, as far as the structure tells: where the body has few pieces (one for a whole track,
 * as clip-wrapped essence has it), or where the index table says that every edit unit is as large as the first.
 */
function elementBytes(source: ByteSource, header: Partition, index: IndexTable | null): Map<string, number> {
  const sums = new Map<string, number>();
  const end = header.footer;
  // Without its footer a file is not whole.
  if (end <= 0 || end >= source.size) return sums;
  let at = header.begin + header.headerBytes + header.indexBytes;
  let units = 1;
  let first: { key: string; at: number; n: number } | undefined;
  for (let n = 0; at + 17 <= end; n++) {
    if (n === MOST_PIECES) return new Map();
    const { key, begin, end: after } = klv(piece(source, at, Math.min(32, source.size - at)), 0, at);
    if (key.startsWith(PARTITION)) {
      const inside = partition(source, at);
      at = inside.begin + inside.headerBytes + inside.indexBytes;
      continue;
    }
    const isEssence = key.slice(16, 24) === '0d010301' && !key.startsWith('060e2b3402530101');
    if (isEssence && first?.key === key && index && units++ === 1) {
      // A second edit unit begins: where all are alike, the first tells of them all.
      if (index.unitBytes === at - first.at)
        return new Map([...sums].map(([element, bytes]) => [element, bytes * index.frames]));
      if (index.frames * (n - first.n) > MOST_PIECES) return new Map();
    }
    if (isEssence) first ??= { key, at, n };
    if (key.startsWith(ELEMENT) && key.slice(16, 24) === '0d010301') {
      const element = key.slice(24);
      sums.set(element, (sums.get(element) ?? 0) + after - begin);
    }
    at += after;
  }
  return at === end ? sums : new Map();
}

export const mxfFormat: EssenceFormat = {
  id: 'mxf',
  endings: ['mxf'],
  sniff: (head) => hexOf(head, 11).startsWith('060e2b34020501010d0102'),
  read: readMxf,
};
