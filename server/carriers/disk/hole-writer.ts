// A stream to a file that leaves blocks of zeros as holes, which read back as zeros all the same, and flushes the file
// before it says that it has finished.
import { Writable } from 'node:stream';
import type { Mending } from '../kind.ts';

const HOLE = 64 << 10;
const ZEROS = Buffer.alloc(HOLE);
/** So much waits while it writes: whoever makes the bytes goes on meanwhile. */
const WAITING = 4 << 20;
/** As many bytes are left to the system's memory before the disk is told to take them: the last flush is short, and the disk writes all the time. */
const UNFLUSHED = 64 << 20;

/** An open file, as far as it is written to; a FileHandle is one. */
export interface Target {
  write(part: Uint8Array, offset: number, length: number, at: number): Promise<{ bytesWritten: number }>;
  truncate(length: number): Promise<void>;
  sync(): Promise<void>;
  datasync(): Promise<void>;
  close(): Promise<void>;
}

export class HoleWriter extends Writable {
  private unflushed = 0;
  private flushing = Promise.resolve();

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
  }

  override _write(chunk: Buffer, _encoding: BufferEncoding, done: (error?: Error | null) => void): void {
    this.writeChunk(chunk).then(() => done(), done);
  }

  override _final(done: (error?: Error | null) => void): void {
    this.finish().then(() => done(), done);
  }

  override _destroy(error: Error | null, done: (error?: Error | null) => void): void {
    this.handle.close().then(
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
    this.unflushed += chunk.length;
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
    for (let done = 0; done < part.length;) {
      const { bytesWritten } = await this.handle.write(part, done, part.length - done, at + done);
      done += bytesWritten;
    }
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
