// The names in memory, as the web process asks for them; see names-thread.ts.
import path from 'node:path';
import { ThreadPool } from '#disk/threads/pool.ts';
import type { NamedTable, NamesRequest, NamesResponse } from './names-thread.ts';

export type { NamedTable };

export interface NameIndex {
  find(table: NamedTable, words: readonly string[], most: number): Promise<NamesResponse>;
  end(): Promise<void>;
}

/**
 * One thread, so that every table is held once. It begins to read with the first question. The thread's modules are named
 * from the project's folder, in which every process is started: the web process itself is bundled and lies elsewhere.
 */
export function nameIndex(url: string): NameIndex {
  const pool = new ThreadPool<NamesRequest, NamesResponse>(path.resolve('server/search/names-thread.ts'), 1, {
    boot: path.resolve('disk/threads/boot.mjs'),
  });
  return {
    find: (table, words, most) => pool.ask({ url, table, words: [...words], most }),
    end: () => pool.end(),
  };
}
