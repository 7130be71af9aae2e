// A new document beside others in a person's folder: read whole, written whole, never over anything and never through a
// link. Until it is whole it lies in our own folder. Called where documents get new versions.
import { closeSync, constants, fstatSync, openSync, readdirSync, readFileSync } from 'node:fs';
import { codeOf } from './facts.ts';
import type { Root } from './root.ts';
import { writeNew } from './write.ts';

const LARGEST_BYTES = 400_000_000;

/** A document's text. Throws the system's code, or 'not a file'. */
export function readSmall(root: Root, at: string): string {
  const fd = openSync(root.placeText(at), constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK);
  try {
    const stats = fstatSync(fd);
    if (!stats.isFile() || stats.size > LARGEST_BYTES)
      throw Object.assign(new Error(`${at} is no document that can be read.`), { code: 'not a file' });
    return readFileSync(fd, 'utf8');
  } finally {
    closeSync(fd);
  }
}

/** Names in a folder of a volume. */
export const listBeside = (root: Root, folder: string): string[] =>
  readdirSync(folder === '' ? root.top : root.placeText(folder)).map(String);

/** Writes a new document; false where the name is taken. `temporary` is a private name on the same volume. */
export function writeBeside(
  root: Root,
  { at, temporary }: { at: string; temporary: string },
  text: string | Uint8Array,
): boolean {
  try {
    writeNew(root.placeText(at), text, root.placeText(temporary));
    return true;
  } catch (error) {
    if (codeOf(error) === 'EEXIST') return false;
    throw error;
  }
}
