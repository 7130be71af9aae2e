// One entry out of a zip, without unpacking the rest: bundles of documents hold gigabytes of media. Used by the thread
// that reads documents.
import yauzl from 'yauzl';

/** What is wrong with the zip itself, in words. */
export class ZipTrouble extends Error {}

export interface Zip {
  has(name: string): boolean;
  /** Throws ZipTrouble where there is no such entry, or it is longer than `most`. */
  read(name: string, most: number): Promise<Uint8Array>;
}

const MOST_ENTRIES = 500_000;
/** Texts that were packed are a tenth or a twentieth; what is a hundredth is nothing but blanks. */
const MOST_TIMES = 100;
const PLAIN_BYTES = 32 << 20;

/** Lists the zip that is open as `fd`, which stays open. */
export async function openZip(fd: number): Promise<Zip> {
  const file = await new Promise<yauzl.ZipFile>((resolve, reject) =>
    yauzl.fromFd(fd, { lazyEntries: true, autoClose: false }, (error, zip) =>
      error ? reject(new ZipTrouble(sentence(error))) : resolve(zip),
    ),
  );
  const entries = new Map<string, yauzl.Entry>();
  await new Promise<void>((resolve, reject) => {
    file.on('entry', (entry: yauzl.Entry) => {
      if (entries.size >= MOST_ENTRIES) return reject(new ZipTrouble(`more than ${MOST_ENTRIES} entries`));
      entries.set(entry.fileName, entry);
      file.readEntry();
    });
    file.on('end', () => resolve());
    file.on('error', (error: Error) => reject(new ZipTrouble(sentence(error))));
    file.readEntry();
  });
  return {
    has: (name) => entries.has(name),
    read: (name, most) => readEntry(file, entries.get(name), { name, most }),
  };
}

const sentence = (error: Error) => error.message.replace(/\.$/, '').toLowerCase();

function readEntry(
  file: yauzl.ZipFile,
  entry: yauzl.Entry | undefined,
  { name, most }: { name: string; most: number },
): Promise<Uint8Array> {
  return new Promise((resolve, reject) => {
    if (!entry) return reject(new ZipTrouble(`there is no ${name} in it`));
    if (entry.uncompressedSize > Math.max(PLAIN_BYTES, entry.compressedSize * MOST_TIMES))
      return reject(new ZipTrouble(`${name} in it unpacks to more than ${MOST_TIMES} times its size`));
    if (entry.uncompressedSize > most) return reject(new ZipTrouble(`${name} in it is larger than ${most} bytes`));
    file.openReadStream(entry, (error, stream) => {
      if (error) return reject(new ZipTrouble(sentence(error)));
      const parts: Buffer[] = [];
      stream.on('data', (part: Buffer) => parts.push(part));
      stream.on('end', () => resolve(Buffer.concat(parts)));
      stream.on('error', (broken: Error) => reject(new ZipTrouble(sentence(broken))));
    });
  });
}
