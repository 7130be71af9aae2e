// Single stills: DPX (SMPTE ST 268), OpenEXR 2 file layout, TIFF 6 and BigTIFF, PNG (ISO/IEC 15948), JPEG (ITU-T T.81).
import { rateFromNumber, type Rate } from '../../time/rates.ts';
import { type ByteSource, EssenceTrouble, letters, piece } from '../bytes.ts';
import type { Essence, StartTimecode } from '../model.ts';
import { type EssenceFormat, hex, text } from './format.ts';

interface Still {
  format: Essence['format'];
  codec: string;
  width: number;
  height: number;
  rate?: Rate | null;
  start?: StartTimecode | null;
}

export function readStill(source: ByteSource): Essence {
  const first = piece(source, 0, 8);
  const magic = first.getUint32(0);
  const still =
    magic === 0x53445058 || magic === 0x58504453
      ? dpx(source, magic === 0x53445058)
      : magic === 0x762f3101
        ? exr(source)
        : magic === 0x89504e47
          ? png(source)
          : magic >>> 8 === 0xffd8ff
            ? jpeg(source)
            : tiff(source);
  if (still.width <= 0 || still.height <= 0 || still.width > 1 << 20 || still.height > 1 << 20)
    throw new EssenceTrouble(0, `a picture of ${still.width} by ${still.height}`);
  return {
    format: still.format,
    tracks: [
      {
        is: 'picture',
        codec: still.codec,
        width: still.width,
        height: still.height,
        rate: still.rate ?? null,
        frames: 1,
        bytes: source.size,
      },
    ],
    start: still.start ?? null,
    startSample: null,
    reel: null,
    duration: null,
  };
}

function dpx(source: ByteSource, big: boolean): Still {
  const view = piece(source, 0, Math.min(2048, source.size));
  const [width, height] = [view.getUint32(772, !big), view.getUint32(776, !big)];
  const film = view.byteLength >= 1728 ? view.getFloat32(1724, !big) : NaN;
  const television = view.byteLength >= 1944 ? view.getFloat32(1940, !big) : NaN;
  const rate = rateFromNumber(film) ?? rateFromNumber(television);
  const code = view.byteLength >= 1924 ? view.getUint32(1920, !big) : 0xffffffff;
  return {
    format: 'dpx',
    codec: `dpx ${view.getUint8(803)} bit`,
    width,
    height,
    rate,
    start: rate ? fromBcd(code, rate) : null,
  };
}

/** HH:MM:SS:FF as binary-coded decimals (SMPTE ST 12-1); null where a digit is none. */
function fromBcd(code: number, rate: Rate): StartTimecode | null {
  const digits = [28, 24, 20, 16, 12, 8, 4, 0].map((shift) => (code >>> shift) & 15);
  if (digits.some((digit) => digit > 9)) return null;
  const [hours, minutes, seconds, frames] = [0, 2, 4, 6].map((i) => digits[i]! * 10 + digits[i + 1]!);
  const base = Math.ceil(rate.num / rate.den);
  if (hours! > 23 || minutes! > 59 || seconds! > 59 || frames! >= base) return null;
  return { frame: ((hours! * 60 + minutes!) * 60 + seconds!) * base + frames!, rate, dropFrame: false };
}

const MOST_ATTRIBUTES = 1000;

function exr(source: ByteSource): Still {
  const view = piece(source, 0, Math.min(source.size, 1 << 20));
  let at = 8;
  let size: { width: number; height: number } | null = null;
  let compression = '';
  let rate: Rate | null = null;
  let code: number | null = null;
  const text = () => {
    const begin = at;
    while (at < view.byteLength && view.getUint8(at) !== 0) at++;
    if (at >= view.byteLength || at - begin > 255) throw new EssenceTrouble(begin, 'a name that does not end');
    return letters(view, begin, at++ - begin);
  };
  for (let n = 0; n < MOST_ATTRIBUTES && view.getUint8(at) !== 0; n++) {
    const [name, type] = [text(), text()];
    const length = view.getInt32(at, true);
    at += 4;
    if (length < 0 || at + length > view.byteLength)
      throw new EssenceTrouble(at, 'an attribute longer than the header');
    if (name === 'dataWindow' && type === 'box2i')
      size = {
        width: view.getInt32(at + 8, true) - view.getInt32(at, true) + 1,
        height: view.getInt32(at + 12, true) - view.getInt32(at + 4, true) + 1,
      };
    else if (name === 'compression')
      compression =
        ['none', 'rle', 'zips', 'zip', 'piz', 'pxr24', 'b44', 'b44a', 'dwaa', 'dwab'][view.getUint8(at)] ?? '';
    else if (name === 'framesPerSecond' && type === 'rational') {
      const [num, den] = [view.getInt32(at, true), view.getUint32(at + 4, true)];
      rate = num > 0 && den > 0 ? rateFromNumber(num / den) : null;
    } else if (name === 'timeCode' && type === 'timecode') code = view.getUint32(at, true);
    at += length;
  }
  if (!size) throw new EssenceTrouble(8, 'it has no dataWindow');
  // The same digits as in ST 12-1, with flag bits between them.
  const start = code !== null && rate ? fromBcd(code & 0x3f7f7f3f, rate) : null;
  return { format: 'exr', codec: `exr ${compression}`.trim(), ...size, rate, start };
}

function png(source: ByteSource): Still {
  const view = piece(source, 8, 18);
  if (letters(view, 4, 4) !== 'IHDR') throw new EssenceTrouble(8, 'it has no IHDR');
  return { format: 'png', codec: `png ${view.getUint8(16)} bit`, width: view.getUint32(8), height: view.getUint32(12) };
}

function jpeg(source: ByteSource): Still {
  let at = 2;
  for (let n = 0; n < 2000; n++) {
    const head = piece(source, at, 4);
    if (head.getUint8(0) !== 0xff) throw new EssenceTrouble(at, 'a marker was expected');
    const marker = head.getUint8(1);
    if (marker === 0xff) {
      at++;
      continue;
    }
    const isFrame = marker >= 0xc0 && marker <= 0xcf && ![0xc4, 0xc8, 0xcc].includes(marker);
    if (isFrame) {
      const view = piece(source, at + 4, 6);
      return {
        format: 'jpeg',
        codec: `jpeg ${view.getUint8(0)} bit`,
        width: view.getUint16(3),
        height: view.getUint16(1),
      };
    }
    const length = head.getUint16(2);
    if (length < 2) throw new EssenceTrouble(at, 'a segment without length');
    at += 2 + length;
  }
  throw new EssenceTrouble(at, 'no frame header among its first segments');
}

const TIFF_CODECS: Record<number, string> = {
  1: 'none',
  5: 'lzw',
  7: 'jpeg',
  8: 'deflate',
  32773: 'packbits',
  32946: 'deflate',
};

function tiff(source: ByteSource): Still {
  const head = piece(source, 0, 16);
  const little = head.getUint16(0) === 0x4949;
  const large = head.getUint16(2, little) === 43;
  const at = large ? Number(head.getBigUint64(8, little)) : head.getUint32(4, little);
  const entries = large
    ? Number(piece(source, at, 8).getBigUint64(0, little))
    : piece(source, at, 2).getUint16(0, little);
  if (entries > 4096) throw new EssenceTrouble(at, `a directory of ${entries} entries`);
  const width = large ? 20 : 12;
  const view = piece(source, at + (large ? 8 : 2), entries * width);
  const values = new Map<number, number>();
  for (let i = 0; i < entries; i++) {
    const type = view.getUint16(i * width + 2, little);
    const place = i * width + (large ? 12 : 8);
    values.set(
      view.getUint16(i * width, little),
      type === 3 ? view.getUint16(place, little) : view.getUint32(place, little),
    );
  }
  return {
    format: 'tiff',
    codec: `tiff ${TIFF_CODECS[values.get(259) ?? 1] ?? values.get(259)}`,
    width: values.get(256) ?? 0,
    height: values.get(257) ?? 0,
  };
}

export const stillFormat: EssenceFormat = {
  id: 'still',
  endings: ['dpx', 'exr', 'tif', 'tiff', 'dng', 'png', 'jpg', 'jpeg'],
  sniff: (head) =>
    ['SDPX', 'XPDS'].includes(text(head, 0, 4)) ||
    ['762f3101', '49492a00', '4d4d002a', '49492b00', '4d4d002b'].includes(hex(head, 4)) ||
    hex(head, 8) === '89504e470d0a1a0a' ||
    hex(head, 3) === 'ffd8ff',
  read: readStill,
};
