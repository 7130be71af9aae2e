// Names in one block of bytes, searched for parts of them: a whole site's names fit in memory, and finding a few bytes in
// a hundred megabytes takes a few hundredths of a second. Pure; a thread of the web process keeps one for each table.

/** A list of names with their numbers; names are only ever added. */
export class Names {
  private blocks: Block[] = [];
  private open: Open = emptyOpen();
  count = 0;

  add(id: number, name: string): void {
    this.open.ids.push(id);
    // A line break inside a name would end it early.
    const text = fold(name).replaceAll('\n', ' ');
    this.open.starts.push(this.open.length);
    this.open.texts.push(text);
    this.open.length += Buffer.byteLength(text) + 1;
    this.count++;
    if (this.open.length >= BLOCK_BYTES) this.close();
  }

  private close(): void {
    if (this.open.ids.length === 0) return;
    this.blocks.push({
      text: Buffer.from(`${this.open.texts.join('\n')}\n`),
      ids: Float64Array.from(this.open.ids),
      starts: Uint32Array.from(this.open.starts),
    });
    this.open = emptyOpen();
  }

  /**
   * Numbers of names that hold every one of `words`, the newest names first.
   * @param words lower case, NFC, none empty
   */
  find(words: readonly string[], most: number): number[] {
    if (words.length === 0) return [];
    this.close();
    // The longest word is in the fewest names.
    const [first, ...others] = [...words].sort((a, b) => b.length - a.length).map((word) => Buffer.from(word));
    const found: number[] = [];
    for (let i = this.blocks.length - 1; i >= 0 && found.length < most; i--)
      findIn(this.blocks[i]!, { first: first!, others, most }, found);
    return found;
  }
}

const BLOCK_BYTES = 1 << 20;

interface Block {
  text: Buffer;
  ids: Float64Array;
  starts: Uint32Array;
}
interface Open {
  ids: number[];
  starts: number[];
  texts: string[];
  length: number;
}
const emptyOpen = (): Open => ({ ids: [], starts: [], texts: [], length: 0 });

/** The form in which names are compared. */
export const fold = (name: string): string => name.normalize('NFC').toLowerCase();

function findIn(
  { text, ids, starts }: Block,
  { first, others, most }: { first: Buffer; others: Buffer[]; most: number },
  found: number[],
): void {
  for (let at = text.indexOf(first); at >= 0 && found.length < most;) {
    const place = lineAt(starts, at);
    const end = place + 1 < starts.length ? starts[place + 1]! : text.length;
    const line = others.length > 0 ? text.subarray(starts[place], end) : null;
    if (others.every((word) => line!.includes(word))) found.push(ids[place]!);
    at = text.indexOf(first, end);
  }
}

/** The line that holds a byte: the last one that starts at or before it. */
function lineAt(starts: Uint32Array, at: number): number {
  let [low, high] = [0, starts.length - 1];
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if (starts[middle]! <= at) low = middle;
    else high = middle - 1;
  }
  return low;
}
