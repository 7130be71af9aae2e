// A file that somebody else opened, as the little of a FileHandle that a HoleWriter needs. Closing it is left to whoever
// opened it.
import { fsync, ftruncate, write } from 'node:fs';
import type { FileHandle } from 'node:fs/promises';
import { promisify } from 'node:util';

const [writeAt, truncate, sync] = [promisify(write), promisify(ftruncate), promisify(fsync)];

export function openHandle(fd: number): FileHandle {
  return {
    write: async (buffer: Buffer, offset: number, length: number, position: number) => {
      const { bytesWritten } = await writeAt(fd, buffer, offset, length, position);
      return { bytesWritten, buffer };
    },
    truncate: (length: number) => truncate(fd, length),
    sync: () => sync(fd),
    close: () => Promise.resolve(),
  } as unknown as FileHandle;
}
