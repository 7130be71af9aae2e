// A stream to a file that leaves blocks of zeros as holes, which read back as zeros all the same, and flushes the file
// before it says that it has finished. What is large goes around the system's memory (O_DIRECT, open(2)) where the file system
// can: that takes it a seventh of the work, and what others had read stays in memory.
import { constants } from 'node:fs';
import { type FileHandle, open } from 'node:fs/promises';
import { Writable } from 'node:stream';
import { BLOCK } from '#disk/content/page-memory.ts';
import { codeOf } from '#disk/facts.ts';
import type { Mending } from '../kind.ts';

const HOLE = 64 << 10;
const ZEROS = Buffer.alloc(HOLE);
/** So much waits while it writes: whoever makes the bytes goes on meanwhile. */
const WAITING = 4 << 20;
/** As many bytes are left to the system's memory before the disk is told to take them: the last flush is short, and the disk writes all the time. */
const UNFLUSHED = 64 << 20;
/** What is shorter is not worth a wait for the disk. */
const DIRECT = 512 << 10;

/** An open file, as far as it is written to; a FileHandle is one. */
export interface Target {
  readonly fd: number;
  write(part: Uint8Array, offset: number, length: number, at: number): Promise<{ bytesWritten: number }>;
  truncate(length: number): Promise<void>;
  sync(): Promise<void>;
  datasync(): Promise<void>;
  close(): Promise<void>;
}

export class HoleWriter extends Writable {
  private unflushed = 0;
  private flushing = Promise.resolve();
  /** The same file, around the system's memory; null once that cannot be: what lay in memory of it would have to be thrown out each time. */
  private direct: Promise<FileHandle> | null | undefined;

  /**
   * @param place called once all is written and flushed: gives the file its name
   * @param at where it begins; `mend` is asked at the end for what is written over
   */
  constructor(
    private readonly handle: Target,
    private readonly place: () => Promise<void>,
    private at = 0,
    private readonly mend: () => Mending | null = () => null,
  ) {
    super({ highWaterMark: WAITING });
    // Of a file that grows entry by entry the rest lies in memory.
    if (at > 0) this.direct = null;
  }

  override _write(chunk: Buffer, _encoding: BufferEncoding, done: (error?: Error | null) => void): void {
    this.writeChunk(chunk).then(() => done(), done);
  }

  override _final(done: (error?: Error | null) => void): void {
    this.finish().then(() => done(), done);
  }

  override _destroy(error: Error | null, done: (error?: Error | null) => void): void {
    Promise.all([closed(this.direct), this.handle.close()]).then(
      () => done(error),
      () => done(error),
    );
  }

  private async writeChunk(chunk: Buffer): Promise<void> {
    let start = 0;
    for (let i = 0; i < chunk.length; i += HOLE) {
      const length = Math.min(HOLE, chunk.length - i);
      if (chunk.compare(ZEROS, 0, length, i, i + length) !== 0) continue;
      await this.writeAll(chunk.subarray(start, i), this.at + start);
      start = i + length;
    }
    await this.writeAll(chunk.subarray(start), this.at + start);
    this.at += chunk.length;
    if (this.unflushed >= UNFLUSHED) await this.flush();
  }

  /** Waits for the last flush, and has the next begin; what one says is heard at the next, or at the end. */
  private async flush(): Promise<void> {
    this.unflushed = 0;
    await this.flushing;
    this.flushing = this.handle.datasync();
    this.flushing.catch(() => undefined);
  }

  private async writeAll(part: Uint8Array, at: number): Promise<void> {
    for (let done = await this.writeDirect(part, at); done < part.length;) {
      const { bytesWritten } = await this.handle.write(part, done, part.length - done, at + done);
      done += bytesWritten;
      this.unflushed += bytesWritten;
    }
  }

  /** Whole blocks of it, where the file system, the place and the memory allow that; gives how much was written. */
  private async writeDirect(part: Uint8Array, at: number): Promise<number> {
    const whole = part.length - (part.length % BLOCK);
    if (part.length === 0 || this.direct === null) return 0;
    if (at % BLOCK !== 0 || whole < DIRECT) return this.leaveDirect();
    try {
      this.direct ??= open(`/proc/self/fd/${this.handle.fd}`, constants.O_WRONLY | constants.O_DIRECT);
      return (await (await this.direct).write(part, 0, whole, at)).bytesWritten;
    } catch (error) {
      // There it cannot be; what the disk says of anything else is heard.
      if (!['EINVAL', 'EOPNOTSUPP', 'ENOENT', 'ENOTDIR', 'EACCES'].includes(codeOf(error))) throw error;
      return this.leaveDirect();
    }
  }

  private async leaveDirect(): Promise<0> {
    const { direct } = this;
    this.direct = null;
    await closed(direct);
    return 0;
  }

  private async finish(): Promise<void> {
    await this.flushing;
    await this.handle.truncate(this.at);
    const mending = this.mend();
    if (mending) await this.writeAll(mending.bytes, mending.at);
    await this.handle.sync();
    await this.place();
  }
}

/** One that never opened has nothing to close. */
const closed = async (direct: Promise<FileHandle> | null | undefined): Promise<void> =>
  (await direct?.catch(() => null))?.close();
