// Lines of a text file that somebody else may have touched, and the checksum of all of it: known when the last line was read.
import { createHash } from 'node:crypto';
import { createReadStream, readFileSync } from 'node:fs';
import path from 'node:path';
import { StringDecoder } from 'node:string_decoder';

/** A line is longer than anything that was ever written. */
export class LineTooLong extends Error {
  override readonly name = 'LineTooLong';
}

const LONGEST = 1 << 24;

/** Line by line, without what ends them; `onSum` is given the SHA-256 of the file after the last one. */
export async function* checkedLines(
  folder: string,
  name: string,
  onSum: (sha256: string) => void,
): AsyncGenerator<string> {
  const sum = createHash('sha256');
  const text = new StringDecoder('utf8');
  let rest = '';
  for await (const chunk of createReadStream(path.join(folder, name)) as AsyncIterable<Buffer>) {
    sum.update(chunk);
    const lines = (rest + text.write(chunk)).split('\n');
    rest = lines.pop()!;
    if (rest.length > LONGEST) throw new LineTooLong(`${name} has a line that is longer than ${LONGEST} letters.`);
    yield* lines;
  }
  rest += text.end();
  if (rest !== '') yield rest;
  onSum(sum.digest('hex'));
}

/** The whole of a small text file. Throws what the disk says. */
export const textOf = (folder: string, name: string): string => readFileSync(path.join(folder, name), 'utf8');
