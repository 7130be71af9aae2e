// Finds the stills of sequences. A sequence is a range of numbers: only the stills that are there get a row. Called when
// media is matched.
import type { Connection, RowDataPacket } from 'mysql2/promise';
import { patternOf, type Stills, stillNumber, stillOrd, stillTarget } from '#core/documents/stills.ts';
import { type KnownMount, readTarget } from '#core/documents/targets.ts';
import { foldPath } from '#core/homes/moves.ts';
import type { VolumeId } from '#core/model.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import { type Database, withConnection } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';

interface Sequence {
  mediaId: number;
  stills: Stills;
  from: { volumeId: VolumeId; folder: string };
}

interface Folder {
  files: readonly { id: number; name: string }[];
}

/** Gives the projects for whose media something changed. */
export async function matchStills(db: Database, mounts: readonly KnownMount[]): Promise<number[]> {
  const sequences = await openSequences(db);
  if (sequences.length === 0) return [];
  const look = new Folders(db);
  // Numbers of the stills of each name that is asked for, so that one scan used in many places is listed once.
  const numbers = new Map<string, Map<number, number>>();
  return withConnection(db, async (connection) => {
    const matched: number[] = [];
    for (const { mediaId, stills, from } of sequences) {
      const readings = readTarget(patternOf(stills), from, mounts);
      await connection.query('UPDATE media SET place = ? WHERE id = ?', [readings.at(-1)!.place, mediaId]);
      let there = new Map<number, number>();
      for (const target of readings) {
        if (target.place !== 'inside' || there.size > 0) continue;
        const key = `${target.volumeId}/${target.path}/${stills.padding}`;
        there = numbers.get(key) ?? (await look.numbersOf(target.volumeId, target.path, stills));
        numbers.set(key, there);
      }
      const known = await knownStills(connection, mediaId);
      const rows: [number, number, string, number][] = [];
      for (const [number, fileId] of there) {
        const ord = stillOrd(stills, number);
        if (ord !== null && known.get(ord) !== fileId) rows.push([mediaId, ord, stillTarget(stills, ord), fileId]);
      }
      for (const some of inSlices(rows))
        await connection.query(
          "INSERT INTO media_targets (media_id, ord, target, file_id, found_by) VALUES ? ON DUPLICATE KEY UPDATE file_id = VALUES(file_id), found_by = 'path'",
          [some.map((row) => [...row, 'path'])],
        );
      if (there.size > 0) await connection.query("UPDATE media SET place = 'inside' WHERE id = ?", [mediaId]);
      // Where the document does not say how many there are, there are as many as were ever found.
      if (stills.count === null)
        await connection.query(
          'UPDATE media SET targets = (SELECT COUNT(*) FROM media_targets t WHERE t.media_id = media.id) WHERE id = ?',
          [mediaId],
        );
      matched.push(mediaId);
    }
    return countFound(connection, matched);
  });
}

/** The stills that were found before, which are nearly all of them. */
async function knownStills(connection: Connection, mediaId: number): Promise<Map<number, number>> {
  const [rows] = await connection.query<RowDataPacket[]>(
    'SELECT ord, file_id AS fileId FROM media_targets WHERE media_id = ? AND file_id IS NOT NULL',
    [mediaId],
  );
  return new Map(rows.map((row) => [Number(row.ord), Number(row.fileId)]));
}

/** Sequences that lack stills, and those of which nobody knows how many there are. */
async function openSequences(db: Database): Promise<Sequence[]> {
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    `SELECT m.id AS mediaId, m.stills, f.volume_id AS volumeId, d.path AS folder FROM media m
     JOIN documents o ON o.id = m.document_id JOIN files f ON f.id = o.file_id JOIN folders d ON d.id = f.folder_id
     WHERE m.is_open_sequence = 1 AND m.place <> 'bundled'`,
  );
  return rows.map((row) => ({
    mediaId: Number(row.mediaId),
    stills: (typeof row.stills === 'string' ? JSON.parse(row.stills) : row.stills) as Stills,
    from: { volumeId: Number(row.volumeId) as VolumeId, folder: row.folder as string },
  }));
}

/** Folders as the catalogue has them, each listed once. */
class Folders {
  private readonly exact = new Map<string, Promise<Folder>>();
  private readonly folded = new Map<number, Promise<Map<string, number[]>>>();

  constructor(private readonly db: Database) {}

  /** File numbers by still numbers: under the very names, else under names that differ in case or Unicode form alone. */
  async numbersOf(volumeId: number, pattern: string, stills: Stills): Promise<Map<number, number>> {
    const numbers = new Map<number, number>();
    const gather = (folder: Folder, form: (text: string) => string) => {
      const name = form(nameOf(pattern));
      for (const file of folder.files) {
        const number = stillNumber(stills, name, form(file.name));
        if (number !== null && !numbers.has(number)) numbers.set(number, file.id);
      }
    };
    const plain = (text: string) => text;
    gather(await this.listed(`${volumeId}/${folderOf(pattern)}`, [volumeId, pathHash(folderOf(pattern))]), plain);
    if (numbers.size > 0) return numbers;
    const near = (await this.byFolding(volumeId)).get(foldPath(folderOf(pattern))) ?? [];
    for (const id of near) gather(await this.listed(`#${id}`, id), foldPath);
    return numbers;
  }

  private listed(key: string, which: number | [number, Buffer]): Promise<Folder> {
    let known = this.exact.get(key);
    if (!known) this.exact.set(key, (known = this.list(which)));
    return known;
  }

  private async list(which: number | [number, Buffer]): Promise<Folder> {
    const where = typeof which === 'number' ? 'd.id = ?' : 'd.volume_id = ? AND d.path_hash = ?';
    const [rows] = await this.db.$pool.query<RowDataPacket[]>(
      `SELECT f.id, f.name FROM folders d JOIN files f ON f.folder_id = d.id WHERE ${where} AND f.gone_at IS NULL ORDER BY f.name`,
      typeof which === 'number' ? [which] : which,
    );
    return { files: rows.map((row) => ({ id: Number(row.id), name: row.name as string })) };
  }

  private byFolding(volumeId: number): Promise<Map<string, number[]>> {
    let known = this.folded.get(volumeId);
    if (!known) this.folded.set(volumeId, (known = this.fold(volumeId)));
    return known;
  }

  private async fold(volumeId: number): Promise<Map<string, number[]>> {
    const [rows] = await this.db.$pool.query<RowDataPacket[]>(
      'SELECT id, path FROM folders WHERE volume_id = ? AND gone_at IS NULL',
      [volumeId],
    );
    const all = new Map<string, number[]>();
    for (const row of rows) {
      const path = foldPath(row.path as string);
      all.set(path, [...(all.get(path) ?? []), Number(row.id)]);
    }
    return all;
  }
}

/** How many files of each of these are there; gives the projects for which that changed. */
export async function countFound(connection: Connection, mediaIds: readonly number[]): Promise<number[]> {
  const changed = new Set<number>();
  for (const some of inSlices(mediaIds)) {
    const [rows] = await connection.query<RowDataPacket[]>(
      `SELECT m.id, m.project_id AS projectId, c.n FROM media m JOIN (SELECT t.media_id, COUNT(f.id) AS n FROM media_targets t LEFT JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL
         WHERE t.media_id IN (?) GROUP BY t.media_id) c ON c.media_id = m.id WHERE m.found <> c.n`,
      [some],
    );
    const byCount = new Map<number, number[]>();
    for (const row of rows) {
      byCount.set(Number(row.n), [...(byCount.get(Number(row.n)) ?? []), Number(row.id)]);
      changed.add(Number(row.projectId));
    }
    for (const [n, ids] of byCount) await connection.query('UPDATE media SET found = ? WHERE id IN (?)', [n, ids]);
  }
  return [...changed];
}
