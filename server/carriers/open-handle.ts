// A file that somebody else opened, as what a HoleWriter needs of a file. Closing it is left to whoever opened it, who may do so once
// this is closed: nothing is under way then, and nothing begins any more, as its number may be another file's by then.
import { fdatasync, fsync, ftruncate, write } from 'node:fs';
import { promisify } from 'node:util';
import type { Target } from './disk/hole-writer.ts';

const [writeAt, truncate, sync, datasync] = [
  promisify(write),
  promisify(ftruncate),
  promisify(fsync),
  promisify(fdatasync),
];

export function openHandle(fd: number): Target {
  const going = new Set<Promise<unknown>>();
  let isClosed = false;
  const does = <T>(act: () => Promise<T>): Promise<T> => {
    if (isClosed) return Promise.reject(Object.assign(new Error('The file was closed.'), { code: 'EBADF' }));
    const doing = act();
    going.add(doing);
    const done = () => going.delete(doing);
    doing.then(done, done);
    return doing;
  };
  return {
    fd,
    write: (part, offset, length, at) => does(() => writeAt(fd, part, offset, length, at)),
    truncate: (length) => does(() => truncate(fd, length)),
    sync: () => does(() => sync(fd)),
    datasync: () => does(() => datasync(fd)),
    close: async () => {
      isClosed = true;
      await Promise.allSettled(going);
    },
  };
}
