// The beginning of a true QuickTime file: one picture track of equal-sized JPEG frames, one timecode track, 64-bit
// offsets. The pictures themselves are added by the caller; the rest of the media data may be a hole.
// Source: QuickTime File Format Specification; ISO/IEC 14496-12.

export interface MovShape {
  frames: number;
  frameBytes: number;
  fps: number;
  width: number;
  height: number;
  /** First frame, counted in frames from midnight. */
  startFrame: number;
  reel: string;
}

const u8 = (...values: number[]) => Buffer.from(values);
const u16 = (value: number) => Buffer.from([(value >> 8) & 255, value & 255]);
const u32 = (value: number) => {
  const buffer = Buffer.alloc(4);
  buffer.writeUInt32BE(value >>> 0);
  return buffer;
};
const u64 = (value: number) => {
  const buffer = Buffer.alloc(8);
  buffer.writeBigUInt64BE(BigInt(value));
  return buffer;
};
const atom = (type: string, ...parts: Buffer[]): Buffer => {
  const body = Buffer.concat(parts);
  return Buffer.concat([u32(body.length + 8), Buffer.from(type, 'latin1'), body]);
};
const full = (type: string, ...parts: Buffer[]) => atom(type, u32(0), ...parts);
const MATRIX = Buffer.concat([0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000].map(u32));
const FRAMES_A_CHUNK = 25;

/** Where the media data begin and how long the file is, with its first bytes. */
export function movHead(shape: MovShape): { head: Buffer; firstFrameAt: number; fileBytes: number } {
  // The length of the header does not depend on the offsets in it, so it is written twice.
  const length = header(shape, 4).length;
  const head = header(shape, length);
  const firstFrameAt = head.length;
  return { head, firstFrameAt, fileBytes: firstFrameAt + shape.frames * shape.frameBytes };
}

function header(shape: MovShape, dataAt: number): Buffer {
  const ftyp = atom('ftyp', Buffer.from('qt  '), u32(0x20110700), Buffer.from('qt  '));
  const moov = atom('moov', mvhd(shape), pictureTrack(shape, dataAt), timecodeTrack(shape, dataAt - 4));
  // A 64-bit mdat: 16 bytes of head, 4 of timecode, then the frames.
  const mdat = Buffer.concat([
    u32(1),
    Buffer.from('mdat'),
    u64(16 + 4 + shape.frames * shape.frameBytes),
    u32(shape.startFrame),
  ]);
  return Buffer.concat([ftyp, moov, mdat]);
}

function mvhd({ fps, frames }: MovShape): Buffer {
  return full(
    'mvhd',
    u32(0),
    u32(0),
    u32(fps),
    u32(frames),
    u32(0x10000),
    u16(0x100),
    Buffer.alloc(10),
    MATRIX,
    Buffer.alloc(24),
    u32(3),
  );
}

function tkhd(shape: MovShape, id: number, picture: boolean): Buffer {
  return atom(
    'tkhd',
    u32(7),
    u32(0),
    u32(0),
    u32(id),
    u32(0),
    u32(shape.frames),
    Buffer.alloc(16),
    MATRIX,
    u32(picture ? shape.width << 16 : 0),
    u32(picture ? shape.height << 16 : 0),
  );
}

const hdlr = (kind: string, type: string, name: string) =>
  full('hdlr', Buffer.from(kind), Buffer.from(type), Buffer.alloc(12), u8(name.length), Buffer.from(name));
const dinf = () => atom('dinf', full('dref', u32(1), atom('url ', u32(1))));
const mdhd = ({ fps, frames }: MovShape) => full('mdhd', u32(0), u32(0), u32(fps), u32(frames), u16(0), u16(0));

function pictureTrack(shape: MovShape, dataAt: number): Buffer {
  const { frames, frameBytes, width, height } = shape;
  const entry = atom(
    'jpeg',
    Buffer.alloc(6),
    u16(1),
    u16(0),
    u16(0),
    Buffer.from('KRMN'),
    u32(0),
    u32(512),
    u16(width),
    u16(height),
    u32(0x480000),
    u32(0x480000),
    u32(0),
    u16(1),
    u8(4),
    Buffer.from('JPEG'),
    Buffer.alloc(27),
    u16(24),
    u16(0xffff),
  );
  const chunks = Math.ceil(frames / FRAMES_A_CHUNK);
  const offsets = Buffer.concat(
    Array.from({ length: chunks }, (_, i) => u64(dataAt + i * FRAMES_A_CHUNK * frameBytes)),
  );
  const last = frames - (chunks - 1) * FRAMES_A_CHUNK;
  const stsc =
    chunks > 1 && last !== FRAMES_A_CHUNK
      ? [u32(2), u32(1), u32(FRAMES_A_CHUNK), u32(1), u32(chunks), u32(last), u32(1)]
      : [u32(1), u32(1), u32(Math.min(frames, FRAMES_A_CHUNK)), u32(1)];
  const stbl = atom(
    'stbl',
    full('stsd', u32(1), entry),
    full('stts', u32(1), u32(frames), u32(1)),
    full('stsc', ...stsc),
    full('stsz', u32(frameBytes), u32(frames)),
    full('co64', u32(chunks), offsets),
  );
  const minf = atom('minf', atom('vmhd', u32(1), Buffer.alloc(8)), dinf(), stbl);
  return atom(
    'trak',
    tkhd(shape, 1, true),
    atom('tref', atom('tmcd', u32(2))),
    atom('mdia', mdhd(shape), hdlr('mhlr', 'vide', 'picture'), minf),
  );
}

function timecodeTrack(shape: MovShape, sampleAt: number): Buffer {
  const reel = Buffer.from(shape.reel);
  const name = atom('name', u16(reel.length), u16(0), reel);
  const entry = atom('tmcd', Buffer.alloc(6), u16(1), u32(0), u32(2), u32(shape.fps), u32(1), u8(shape.fps, 0), name);
  const stbl = atom(
    'stbl',
    full('stsd', u32(1), entry),
    full('stts', u32(1), u32(1), u32(shape.frames)),
    full('stsc', u32(1), u32(1), u32(1), u32(1)),
    full('stsz', u32(4), u32(1)),
    full('co64', u32(1), u64(sampleAt)),
  );
  const tcmi = full('tcmi', u16(0), u16(0), u16(12), u16(0), Buffer.alloc(12), u8(0));
  const gmhd = atom(
    'gmhd',
    full('gmin', u16(0x40), u16(0x8000), u16(0x8000), u16(0x8000), u16(0), u16(0)),
    atom('tmcd', tcmi),
  );
  return atom(
    'trak',
    tkhd(shape, 2, false),
    atom('mdia', mdhd(shape), hdlr('mhlr', 'tmcd', 'timecode'), atom('minf', gmhd, dinf(), stbl)),
  );
}
