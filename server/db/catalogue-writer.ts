// Writes what a reading found into the catalogue: new folders as they came, changed ones by comparison, rollups in the
// same transaction. Called by the reading job.
import { xxh3 } from '@node-rs/xxhash';
import type { Connection, RowDataPacket } from 'mysql2/promise';
import { rowOf } from '#core/load-rows.ts';
import { KINDS } from '#core/model.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import type { FileColumns, FolderFound, Notice } from '#disk/walk/protocol.ts';
import { type Database, loadRows, withConnection } from './connect.ts';
import {
  addToVolumes,
  carriedUp,
  type Delta,
  inSlices,
  lockFolders,
  refreshHoldings,
  writeTotals,
} from './holdings.ts';

type NewFolder = Extract<FolderFound, { state: 'new' }>;
type ChangedFolder = Extract<FolderFound, { state: 'changed' }>;

export interface Batch {
  folders: { id: number; path: string; raw: string | null; parentId: number | null; projectId: number | null }[];
  fresh: NewFolder[];
  changed: ChangedFolder[];
  notices: Notice[];
  rows: number;
}

export const emptyBatch = (): Batch => ({ folders: [], fresh: [], changed: [], notices: [], rows: 0 });

export interface Changes {
  added: number;
  changed: number;
  gone: number;
}

/** One file that is new, changed or gone in a folder that was known before. */
export interface FileChange {
  folderId: number;
  name: string;
  what: 'new' | 'changed' | 'gone';
}

export class CatalogueWriter {
  constructor(
    private readonly db: Database,
    private readonly volumeId: number,
    private readonly readingId: number,
    private readonly read: {
      now: () => Date;
      nodeOf: (folderId: number) => { parentId: number | null; projectId: number | null } | undefined;
      /** Told of every single change in a folder that was known, where somebody wants to know. */
      onChange?: (change: FileChange) => void;
    },
  ) {}

  /** Writes one batch in one transaction and tells what it changed. */
  write(batch: Batch): Promise<Changes> {
    return withConnection(this.db, async (connection) => {
      const totals = this.totalsOf(batch.fresh);
      await this.writeFolders(connection, batch, totals);
      if (batch.fresh.length > 0) await this.writeFresh(connection, batch.fresh);
      await writeTotals(connection, totals);
      const changes =
        batch.changed.length > 0
          ? await this.writeChanged(connection, batch.changed)
          : { added: 0, changed: 0, gone: 0 };
      changes.added += batch.fresh.reduce((n, f) => n + f.files, 0);
      for (const some of inSlices(batch.notices))
        await connection.query('INSERT INTO reading_notices (reading_id, path, code, detail) VALUES ?', [
          some.map((n) => [this.readingId, n.path.slice(0, 4096), n.code, n.detail.slice(0, 1000)]),
        ]);
      return changes;
    });
  }

  /** What new contents add to their folders and to all above. */
  private totalsOf(fresh: readonly NewFolder[]): Map<number, Delta> {
    const own = new Map<number, Delta>();
    for (const { folderId, files, bytes } of fresh) if (files > 0) own.set(folderId, { files, bytes });
    return carriedUp(own, (id) => this.read.nodeOf(id)?.parentId ?? null);
  }

  /** New folders come with their totals, which are then no longer among `totals`. */
  private async writeFolders(connection: Connection, batch: Batch, totals: Map<number, Delta>): Promise<void> {
    const fingerprints = new Map(batch.fresh.map((f) => [f.folderId, f.fingerprint]));
    const rows = batch.folders.map((f) => {
      const { files, bytes } = totals.get(f.id) ?? { files: 0, bytes: 0 };
      totals.delete(f.id);
      const hash = pathHash(f.path).toString('hex');
      const place = [f.id, this.volumeId, f.parentId, nameOf(f.path), f.path, hash, f.raw];
      return rowOf([...place, f.projectId, fingerprints.get(f.id) ?? null, files, bytes]);
    });
    await loadRows(
      connection,
      `folders (id, volume_id, parent_id, name, path, @hash, @raw, project_id, fingerprint, total_files, total_bytes)
       SET path_hash = UNHEX(@hash), raw_path = UNHEX(@raw), seen_at = ?`,
      rows,
      [this.read.now()],
    );
    // Folders whose row was written with an earlier batch than their contents.
    const here = new Set(batch.folders.map((f) => f.id));
    await this.setFingerprints(
      connection,
      batch.fresh.filter((f) => !here.has(f.folderId)),
    );
  }

  private async setFingerprints(
    connection: Connection,
    folders: readonly { folderId: number; fingerprint: string }[],
  ): Promise<void> {
    for (const some of inSlices(folders, 500)) {
      const values = some
        .map((f) => `SELECT ${Number(f.folderId)} AS id, '${f.fingerprint.replace(/[^0-9a-f]/g, '')}' AS f`)
        .join(' UNION ALL ');
      await connection.query(
        `UPDATE folders JOIN (${values}) AS d ON d.id = folders.id SET folders.fingerprint = d.f, folders.seen_at = ?, folders.gone_at = NULL`,
        [this.read.now()],
      );
    }
  }

  /** Folders met for the first time: rows and rollups go in as they came, nothing has to be compared. */
  private async writeFresh(connection: Connection, fresh: readonly NewFolder[]): Promise<void> {
    await loadRows(
      connection,
      'files (volume_id, folder_id, name, @raw, size_bytes, modified_us, inode, changed_us, kind, project_id) SET raw_name = UNHEX(@raw)',
      fresh.flatMap((f) => f.rows),
    );
    const rows: string[] = [];
    const sums = new Map<string, [projectId: number, kind: number, day: number, files: number, bytes: number]>();
    for (const folder of fresh) {
      const projectId = this.read.nodeOf(folder.folderId)?.projectId ?? 0;
      for (const h of folder.holdings) {
        const place = [folder.folderId, KINDS[h.kind]!, projectId, h.day, this.volumeId];
        rows.push(rowOf([...place, h.files, h.bytes, h.newestUs, h.oldestUs, h.largestBytes]));
        const key = `${projectId} ${h.kind} ${h.day}`;
        const sum = sums.get(key);
        if (sum) {
          sum[3] += h.files;
          sum[4] += h.bytes;
        } else sums.set(key, [projectId, h.kind, h.day, h.files, h.bytes]);
      }
    }
    await loadRows(
      connection,
      'folder_holdings (folder_id, kind, project_id, day, volume_id, files, bytes, newest_us, oldest_us, largest_bytes)',
      rows,
    );
    await addToVolumes(
      connection,
      [...sums.values()].map(([projectId, kind, day, files, bytes]) => ({
        volumeId: this.volumeId,
        projectId,
        kind: KINDS[kind]!,
        day,
        files,
        bytes,
      })),
    );
  }

  private async writeChanged(connection: Connection, changed: readonly ChangedFolder[]): Promise<Changes> {
    const sum = { added: 0, changed: 0, gone: 0 };
    await lockFolders(
      connection,
      changed.map((folder) => folder.folderId),
    );
    for (const folder of changed) {
      const part = await this.writeChangedFolder(connection, folder.folderId, folder.columns);
      sum.added += part.added;
      sum.changed += part.changed;
      sum.gone += part.gone;
    }
    await this.setFingerprints(connection, changed);
    await refreshHoldings(
      connection,
      changed.map((f) => f.folderId),
    );
    return sum;
  }

  private async writeChangedFolder(connection: Connection, folderId: number, columns: FileColumns): Promise<Changes> {
    const counts = { added: 0, changed: 0, gone: 0 };
    const now = this.read.now();
    const projectId = this.read.nodeOf(folderId)?.projectId ?? null;
    const found = new Map(columns.names.map((name, i) => [name, i]));
    const tell = (name: string, what: FileChange['what']) => this.read.onChange?.({ folderId, name, what });
    const compare = async (rows: readonly RowDataPacket[]) => {
      const updates: unknown[][] = [];
      const gone: number[] = [];
      for (const row of rows) {
        const i = found.get(row.name as string);
        if (i === undefined) {
          if (row.gone) continue;
          gone.push(Number(row.id));
          tell(row.name as string, 'gone');
          continue;
        }
        found.delete(row.name as string);
        const [size, us, kind] = [columns.sizes[i]!, columns.modifiedUs[i]!, KINDS[columns.kinds[i]!]!];
        const [inode, changedUs] = [columns.inodes[i]!, columns.changedUs[i]!];
        const same = !row.gone && Number(row.size) === size && Number(row.us) === us && row.kind === kind;
        // Another file under the name, or one whose content was written anew with its old size and time, is a change too.
        const replaced = row.inode !== null && (Number(row.inode) !== inode || Number(row.changedUs) !== changedUs);
        if (same && !replaced && row.inode !== null) continue;
        updates.push([row.id, size, us, inode, changedUs, kind]);
        if (same && !replaced) continue;
        counts.changed++;
        tell(row.name as string, row.gone ? 'new' : 'changed');
      }
      await updateFiles(connection, updates);
      counts.gone += gone.length;
      for (const some of inSlices(gone))
        await connection.query('UPDATE files SET gone_at = ? WHERE id IN (?)', [now, some]);
    };
    // What is there first: a name that is gone and there once more is the one that is there.
    for await (const rows of knownFiles(connection, folderId, false)) await compare(rows);
    if (found.size > 0) for await (const rows of knownFiles(connection, folderId, true)) await compare(rows);
    counts.added += found.size;
    for (const some of inSlices([...found])) {
      const rows = some.map(([name, i]) => {
        tell(name, 'new');
        const raw = columns.raws[i] === undefined ? null : Buffer.from(columns.raws[i], 'hex');
        const facts = [columns.sizes[i]!, columns.modifiedUs[i]!, columns.inodes[i]!, columns.changedUs[i]!];
        return [this.volumeId, folderId, name, raw, ...facts, KINDS[columns.kinds[i]!]!, projectId];
      });
      await connection.query(
        'INSERT INTO files (volume_id, folder_id, name, raw_name, size_bytes, modified_us, inode, changed_us, kind, project_id) VALUES ?',
        [rows],
      );
    }
    return counts;
  }
}

const KNOWN_AT_ONCE = 10_000;

/** The files of a folder that are there, or that are gone, some at a time: a folder of very many is never in memory whole. */
async function* knownFiles(connection: Connection, folderId: number, gone: boolean): AsyncGenerator<RowDataPacket[]> {
  for (let after = 0, more = true; more;) {
    const [rows] = await connection.query<RowDataPacket[]>(
      `SELECT id, name, size_bytes AS size, modified_us AS us, inode, changed_us AS changedUs, kind, gone_at IS NOT NULL AS gone
       FROM files WHERE folder_id = ? AND id > ? AND gone_at IS ${gone ? 'NOT NULL' : 'NULL'} ORDER BY id LIMIT ${KNOWN_AT_ONCE}`,
      [folderId, after],
    );
    more = rows.length === KNOWN_AT_ONCE;
    if (more) after = Number(rows.at(-1)!.id);
    if (rows.length > 0) yield rows;
  }
}

/** New facts of files that were known; what was gone is back. Rows: id, size, modified, inode, changed, kind. */
async function updateFiles(connection: Connection, updates: readonly unknown[][]): Promise<void> {
  for (const some of inSlices(updates, 500)) {
    const values = some
      .map(() => 'SELECT ? AS id, ? AS size, ? AS us, ? AS inode, ? AS changed, ? AS kind')
      .join(' UNION ALL ');
    await connection.query(
      `UPDATE files f JOIN (${values}) AS d ON d.id = f.id SET f.size_bytes = d.size, f.modified_us = d.us, f.inode = d.inode, f.changed_us = d.changed, f.kind = d.kind, f.gone_at = NULL`,
      some.flat(),
    );
  }
}

/** The number of a folder inside a volume; it and the folders above it are made known where they are not. */
export async function ensureFolder(connection: Connection, volumeId: number, path: string, now: Date): Promise<number> {
  const [rows] = await connection.query<RowDataPacket[]>(
    'SELECT id, gone_at AS goneAt FROM folders WHERE volume_id = ? AND path_hash = ? FOR UPDATE',
    [volumeId, pathHash(path)],
  );
  const known = rows[0];
  if (known) {
    if (known.goneAt !== null) {
      if (path !== '') await ensureFolder(connection, volumeId, folderOf(path), now);
      await connection.query('UPDATE folders SET gone_at = NULL, fingerprint = NULL WHERE id = ?', [known.id]);
    }
    return Number(known.id);
  }
  const parentId = path === '' ? null : await ensureFolder(connection, volumeId, folderOf(path), now);
  const [[next]] = await connection.query<RowDataPacket[]>('SELECT NEXT VALUE FOR folder_ids AS id');
  const [[above]] =
    parentId === null
      ? [[undefined]]
      : await connection.query<RowDataPacket[]>('SELECT project_id AS projectId FROM folders WHERE id = ?', [parentId]);
  await connection.query(
    'INSERT INTO folders (id, volume_id, parent_id, name, path, path_hash, project_id, seen_at) VALUES (?)',
    [[Number(next!.id), volumeId, parentId, nameOf(path), path, pathHash(path), above?.projectId ?? null, now]],
  );
  return Number(next!.id);
}

/** The key under which a path is found: XXH3-128, 16 bytes. */
export function pathHash(path: string): Buffer {
  return Buffer.from(xxh3.xxh128(path).toString(16).padStart(32, '0'), 'hex');
}
