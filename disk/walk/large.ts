// A folder of very many files, which one thread would look at while the others wait: they share it, and what they found is
// put together as if one had. Called by the walk.
import { xxh3 } from '@node-rs/xxhash';
import type {
  FileColumns,
  FolderAsked,
  FolderFound,
  Holding,
  LargeFolder,
  NewFiles,
  Part,
  PartFound,
  WalkResponse,
} from './protocol.ts';

export type AskOne = (asked: FolderAsked) => Promise<Exclude<WalkResponse['folders'][number], number> | undefined>;

/**
 * The files of a large folder, looked at in parts by all threads; of one that was known first only whether anything changed.
 * Null where it was stopped.
 */
export async function readLarge(
  ask: AskOne,
  asked: FolderAsked,
  { parts, ...folder }: LargeFolder,
  ruleMark: string,
): Promise<FolderFound | null> {
  const partsWith = async (content: Part['content']) => {
    const found = await Promise.all(parts.map((names) => ask({ ...asked, part: { names, content } })));
    const whole = found.filter((one) => one?.state === 'part');
    return whole.length === parts.length ? whole : null;
  };
  const markOf = (found: readonly PartFound[]): string => {
    const text = [ruleMark, ...folder.subFolders.map((sub) => sub.name), '', ...found.map((part) => part.mark)];
    return xxh3.xxh128(text.join('/')).toString(16).padStart(32, '0');
  };
  const first = await partsWith(asked.known === null ? 'rows' : 'none');
  if (!first) return null;
  const base = { ...folder, entries: sumOf(first, (part) => part.entries) };
  const notices = (found: readonly PartFound[]) => [...folder.notices, ...found.flatMap((part) => part.notices)];
  const fingerprint = markOf(first);
  if (asked.known === null) {
    const made = joined(first.map((part) => part.made!));
    return { ...base, notices: notices(first), state: 'new', fingerprint, ...made };
  }
  if (fingerprint === asked.known) return { ...base, notices: notices(first), state: 'same' };
  const second = await partsWith('columns');
  if (!second) return null;
  const columns = joinedColumns(second.map((part) => part.columns!));
  return { ...base, notices: notices(second), state: 'changed', fingerprint: markOf(second), columns };
}

const sumOf = <T>(all: readonly T[], of: (one: T) => number): number => all.reduce((sum, one) => sum + of(one), 0);

function joined(all: readonly NewFiles[]): NewFiles {
  const holdings = new Map<string, Holding>();
  for (const own of all.flatMap((one) => one.holdings)) {
    const key = `${own.kind} ${own.day}`;
    const sum = holdings.get(key);
    holdings.set(
      key,
      sum
        ? {
            ...own,
            files: sum.files + own.files,
            bytes: sum.bytes + own.bytes,
            newestUs: Math.max(sum.newestUs, own.newestUs),
            oldestUs: Math.min(sum.oldestUs, own.oldestUs),
            largestBytes: Math.max(sum.largestBytes, own.largestBytes),
          }
        : own,
    );
  }
  return {
    files: sumOf(all, (one) => one.files),
    bytes: sumOf(all, (one) => one.bytes),
    rows: all.flatMap((one) => one.rows),
    holdings: [...holdings.values()],
  };
}

/** Only folders whose names are all text are parted: there are no raw names. */
function joinedColumns(all: readonly FileColumns[]): FileColumns {
  const numbers = (of: (columns: FileColumns) => Float64Array) => {
    const out = new Float64Array(sumOf(all, (one) => one.names.length));
    let at = 0;
    for (const one of all) {
      out.set(of(one), at);
      at += one.names.length;
    }
    return out;
  };
  return {
    names: all.flatMap((one) => one.names),
    raws: {},
    sizes: numbers((one) => one.sizes),
    modifiedUs: numbers((one) => one.modifiedUs),
    inodes: numbers((one) => one.inodes),
    changedUs: numbers((one) => one.changedUs),
    kinds: Uint8Array.from(all.flatMap((one) => [...one.kinds])),
  };
}
