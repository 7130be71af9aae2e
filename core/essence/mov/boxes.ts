// Boxes of MOV and MP4. Source: ISO/IEC 14496-12, 4.2.
import { type ByteSource, count64, EssenceTrouble, letters, piece } from '../bytes.ts';

const MOST_BOXES = 20_000;

export interface Box {
  type: string;
  /** Where its contents begin and end, in the file or in the view it was read from. */
  begin: number;
  end: number;
}

/** The box that begins at a place of the file; cut off at the file's end. */
export function topBox(source: ByteSource, at: number): Box {
  const head = piece(source, at, Math.min(16, source.size - at));
  const type = letters(head, 4, 4);
  const size = head.getUint32(0);
  if (size === 0) return { type, begin: at + 8, end: source.size };
  if (size !== 1) {
    if (size < 8) throw new EssenceTrouble(at, 'a box smaller than its own head');
    // What lies beyond the end is a recording that was cut off; its moov, if it has one, came before.
    return { type, begin: at + 8, end: Math.min(at + size, Math.max(source.size, at + 8)) };
  }
  const large = count64(head, 8, at);
  if (large < 16) throw new EssenceTrouble(at, 'a box smaller than its own head');
  return { type, begin: at + 16, end: Math.min(at + large, source.size) };
}

export const view = (source: ByteSource, box: Box): DataView => piece(source, box.begin, box.end - box.begin);

/** The boxes in a piece, in their order. */
export function* boxes(data: DataView, begin = 0, end = data.byteLength): Generator<Box> {
  let at = begin;
  for (let n = 0; at + 8 <= end; n++) {
    if (n > MOST_BOXES) throw new EssenceTrouble(at, `more than ${MOST_BOXES} boxes in one`);
    const size = data.getUint32(at);
    const type = letters(data, at + 4, 4);
    const large = size === 1;
    const length = size === 0 ? end - at : large ? count64(data, at + 8, at) : size;
    // Old files end a list of boxes with four zero bytes.
    if (size === 0 && type === '') return;
    if (length < (large ? 16 : 8) || at + length > end)
      throw new EssenceTrouble(at, `the box "${type}" is longer than what it lies in`);
    yield { type, begin: at + (large ? 16 : 8), end: at + length };
    at += length;
  }
}

/** How many entries a table can have at most in the bytes it lies in: a count beyond that is a lie. */
export function entries(data: DataView, box: Box, at: number, width: number): number {
  const told = data.getUint32(at);
  const room = Math.floor((box.end - at - 4) / width);
  if (told > room) throw new EssenceTrouble(at, `a table of ${told} entries in the room of ${room}`);
  return told;
}
