// Keeps every name of files, folders and clips, and of what lies in archives, with its clips and bins, in memory inside a thread of the web process, read from the database and
// brought up to date before a search. Answers with numbers; the search service asks the database for the rest.
import mysql, { type Connection, type RowDataPacket } from 'mysql2/promise';
import { Names } from '#core/search/names.ts';
import { serve } from '#disk/threads/serve.ts';

export type NamedTable = 'files' | 'folders' | 'clips' | 'archive_files' | 'archive_clips' | 'archive_bins';

export interface NamesRequest {
  url: string;
  table: NamedTable;
  words: string[];
  most: number;
}

export interface NamesResponse {
  /** False while the names are being read for the first time. */
  ready: boolean;
  ids: number[];
  known: number;
}

const LAST = (path: string) => `SUBSTRING_INDEX(${path}, '/', -1)`;
/** What a row is called; what lies in an archive also by the name that it had before. */
const NAME: Record<NamedTable, string> = {
  files: 'name',
  folders: 'name',
  clips: 'name',
  archive_clips: 'name',
  archive_bins: 'name',
  archive_files: `CONCAT_WS(' ', ${LAST('payload_path')}, NULLIF(${LAST('path')}, ${LAST('payload_path')}))`,
};

/** Numbers are given before rows are committed, so a lower one may appear after a higher: these are read again. */
const UNSETTLED_ROWS = 100_000;
/** Few, so that a question that comes while names are read waits for milliseconds. */
const ROWS_AT_ONCE = 5_000;
const LOOK_AGAIN_MS = 2_000;
/** No transaction that gives numbers is open for longer. */
const SETTLED_AFTER_MS = 120_000;

class Table {
  private names = new Names();
  private readonly seen = new Set<number>();
  private last = 0;
  ready = false;
  private reading = false;
  private readAt = 0;
  private grewAt = 0;

  constructor(
    private readonly table: NamedTable,
    private readonly url: string,
  ) {}

  find(words: string[], most: number): NamesResponse {
    void this.catchUp();
    return { ready: this.ready, ids: this.names.find(words, most), known: this.names.count };
  }

  /** Reads what was added since; answers do not wait for it. */
  async catchUp(): Promise<void> {
    if (this.reading || Date.now() - this.readAt < LOOK_AGAIN_MS) return;
    this.reading = true;
    let connection: Connection | null = null;
    try {
      connection = await mysql.createConnection({ uri: this.url, charset: 'utf8mb4', timezone: 'Z' });
      const [[newest]] = await connection.query<RowDataPacket[]>(`SELECT MAX(id) AS id FROM ${this.table}`);
      if (Number(newest?.id ?? 0) !== this.last) this.grewAt = Date.now();
      else if (this.ready && Date.now() - this.grewAt > SETTLED_AFTER_MS) return;
      for (let from = Math.max(0, this.last - UNSETTLED_ROWS); ;) {
        const [rows] = await connection.query<RowDataPacket[]>({
          sql: `SELECT id, ${NAME[this.table]} FROM ${this.table} WHERE id > ? ORDER BY id LIMIT ${ROWS_AT_ONCE}`,
          values: [from],
          rowsAsArray: true,
        });
        for (const [id, name] of rows as unknown as [number, string][]) this.take(Number(id), name);
        if (rows.length < ROWS_AT_ONCE) break;
        from = Number((rows.at(-1) as unknown as [number])[0]);
      }
      this.ready = true;
    } catch {
      // The database does not answer: what is known stays, and the next search tries again.
    } finally {
      this.readAt = Date.now();
      this.reading = false;
      await connection?.end().catch(() => undefined);
    }
  }

  private take(id: number, name: string): void {
    if (this.seen.has(id)) return;
    this.names.add(id, name);
    this.seen.add(id);
    this.last = Math.max(this.last, id);
    // Only the unsettled ones are met again.
    if (this.seen.size > 3 * UNSETTLED_ROWS)
      for (const old of this.seen) if (old < this.last - UNSETTLED_ROWS) this.seen.delete(old);
  }
}

const tables = new Map<NamedTable, Table>();

serve<NamesRequest, NamesResponse>(({ request }) => {
  let table = tables.get(request.table);
  if (!table) tables.set(request.table, (table = new Table(request.table, request.url)));
  return table.find(request.words, request.most);
});
