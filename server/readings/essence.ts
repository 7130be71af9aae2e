// Reads what media files say of themselves, of those that documents name and of those that may be what a document misses:
// a few reads of a file's head, in a thread. Read again only where a file changed. Called after documents were read.
import { eq } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { isSameRate } from '#core/time/rates.ts';
import type { Essence, PictureTrack, SoundTrack } from '#core/essence/essence.ts';
import { framesIn } from '#core/essence/essence.ts';
import { essenceWords } from '#core/wording/essence.ts';
import { type DocumentPool, readEssenceOf } from '#disk/documents/documents.ts';
import { codeOf } from '#disk/facts.ts';
import { locate, type CataloguedNames, placeOfFile } from '#disk/paths.ts';
import { type Database, sqlCode } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { essence } from '../db/schema/catalogue.ts';
import type { ReadingChanges } from './match-media.ts';

type Row = typeof essence.$inferInsert;

const AT_ONCE = 8;
const KEPT_AT_ONCE = 500;

/**
 * Of files that documents name: where files came or changed, and anywhere by documents read since a moment, or, where all
 * is settled anew, by any document of the volume. Of a sequence of stills its first alone.
 */
export async function readNamedEssence(
  db: Database,
  pool: DocumentPool,
  { volumeId, since, touched }: ReadingChanges,
): Promise<number> {
  const stale =
    'LEFT JOIN essence e ON e.file_id = f.id AND e.read_size_bytes = f.size_bytes AND e.read_modified_us = f.modified_us';
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    `SELECT f.id FROM files f JOIN media_targets t ON t.file_id = f.id AND t.ord = 0 ${stale}
     WHERE ${touched === 'all' ? 'f.volume_id = ?' : 'f.folder_id IN (?)'} AND f.gone_at IS NULL AND e.file_id IS NULL
     UNION SELECT f.id FROM documents o JOIN files g ON g.id = o.file_id JOIN media m ON m.document_id = o.id JOIN media_targets t ON t.media_id = m.id AND t.ord = 0
     JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL ${stale}
     WHERE (o.read_at >= ? OR (? AND g.volume_id = ?)) AND e.file_id IS NULL`,
    [touched === 'all' ? volumeId : touched.length > 0 ? touched : [0], since, touched === 'all', volumeId],
  );
  return readEssenceOfFiles(
    db,
    pool,
    rows.map((row) => Number(row.id)),
  );
}

/** Reads these files, where they are new or changed since; those that cannot be reached are passed over. */
export async function readEssenceOfFiles(
  db: Database,
  pool: DocumentPool,
  fileIds: readonly number[],
): Promise<number> {
  let read = 0;
  for (const ids of inSlices(fileIds, KEPT_AT_ONCE)) {
    const [rows] = await db.$pool.query<RowDataPacket[]>(
      `SELECT f.id, f.name, f.raw_name AS rawName, f.size_bytes AS sizeBytes, f.modified_us AS modifiedUs, d.path AS folder, d.raw_path AS rawFolder, v.path AS root
       FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id AND v.state = 'reachable'
       LEFT JOIN essence e ON e.file_id = f.id AND e.read_size_bytes = f.size_bytes AND e.read_modified_us = f.modified_us
       WHERE f.id IN (?) AND f.gone_at IS NULL AND e.file_id IS NULL`,
      [ids],
    );
    const kept: Row[] = [];
    for (const some of inSlices(rows, AT_ONCE))
      kept.push(...(await Promise.all(some.map((row) => readOne(pool, row)))).flat());
    if (kept.length > 0) {
      const columns = Object.keys(kept[0]!);
      const names: Record<string, string> = Object.fromEntries(
        Object.entries(essence).flatMap(([key, column]) =>
          columns.includes(key) ? [[key, (column as { name: string }).name]] : [],
        ),
      );
      const into = `REPLACE INTO essence (${columns.map((key) => names[key]).join(', ')}) VALUES ?`;
      await keepAll(
        (rows) => db.$pool.query(into, [rows.map((row) => columns.map((key) => row[key as keyof Row] ?? null))]),
        kept,
      );
    }
    read += kept.length;
  }
  return read;
}

/** One file's row that the database refuses does not keep the others out: it is kept as one that cannot be read. */
async function keepAll(keep: (rows: readonly Row[]) => Promise<unknown>, rows: readonly Row[]): Promise<void> {
  try {
    await keep(rows);
  } catch (error) {
    if (rows.length > 1) {
      const middle = rows.length >> 1;
      await keepAll(keep, rows.slice(0, middle));
      await keepAll(keep, rows.slice(middle));
      return;
    }
    if (!/^ER_(WARN_DATA|DATA|TRUNCATED|BAD)/.test(sqlCode(error) ?? '')) throw error;
    const { fileId, readSizeBytes, readModifiedUs, fingerprint } = rows[0]!;
    const trouble = 'what it says of itself is nothing that can be kept';
    await keep([{ ...NOTHING, fileId, readSizeBytes, readModifiedUs, fingerprint, trouble }]);
  }
}

async function readOne(pool: DocumentPool, row: RowDataPacket): Promise<Row[]> {
  const { path, raw } = placeOfFile(row as RowDataPacket & CataloguedNames);
  try {
    const { sizeBytes, modifiedUs, fingerprint, reading } = await readEssenceOf(
      pool,
      locate(row.root as string, { path, raw }),
      { sizeBytes: Number(row.sizeBytes), modifiedUs: Number(row.modifiedUs) },
    );
    const facts = { fileId: Number(row.id), readSizeBytes: sizeBytes, readModifiedUs: modifiedUs, fingerprint };
    return [
      reading.ok
        ? { ...facts, ...columnsOf(reading.essence), ...saidOf(reading.said) }
        : { ...facts, ...NOTHING, ...troubleOf(reading) },
    ];
  } catch (error) {
    // It vanished, or cannot be opened now: the next reading meets it again.
    if (codeOf(error) === 'error') throw error;
    return [];
  }
}

const NOTHING = {
  format: '',
  codec: null,
  width: null,
  height: null,
  channels: null,
  sampleRate: null,
  rateNum: null,
  rateDen: null,
  durationFrames: null,
  startFrame: null,
  dropFrame: null,
  reel: null,
  trouble: null,
  note: null,
} satisfies Partial<Row>;

/** What nothing can take of what it says is a sentence, and counts as not told. */
const saidOf = (said: readonly string[]): Partial<Row> =>
  said.length > 0 ? { note: said.join('; ').slice(0, 500) } : {};

function troubleOf(reading: { trouble: { code: 'not_known' | 'damaged'; at: number; detail: string } }) {
  const { code, at, detail } = reading.trouble;
  return { trouble: code === 'not_known' ? null : `${detail}, at byte ${at}`.slice(0, 500) };
}

/** Frames of the picture's rate; of sound alone samples of its own. */
function columnsOf(found: Essence): Omit<Row, 'fileId' | 'readSizeBytes' | 'readModifiedUs' | 'fingerprint'> {
  const picture = found.tracks.find((track): track is PictureTrack => track.is === 'picture');
  const sounds = found.tracks.filter((track): track is SoundTrack => track.is === 'sound');
  const [sound] = sounds;
  const rate =
    picture?.rate ?? (picture || !sound ? null : sound.sampleRate > 0 ? { num: sound.sampleRate, den: 1 } : null);
  const sameRate = found.start && rate && isSameRate(found.start.rate, rate);
  return {
    ...NOTHING,
    format: found.format,
    codec: (picture?.codec ?? sound?.codec ?? null)?.slice(0, 80) ?? null,
    width: picture?.width ?? null,
    height: picture?.height ?? null,
    channels:
      sounds.length > 0
        ? Math.min(
            2 ** 31 - 1,
            sounds.reduce((sum, track) => sum + track.channels, 0),
          )
        : null,
    sampleRate: sound?.sampleRate ?? null,
    rateNum: rate?.num ?? null,
    rateDen: rate?.den ?? null,
    durationFrames: picture ? (picture.rate ? framesIn(found, picture.rate) : 1) : (sound?.samples ?? null),
    startFrame: sameRate ? found.start!.frame : picture ? null : found.startSample,
    dropFrame: sameRate ? found.start!.dropFrame : null,
    reel: found.reel?.slice(0, 120) ?? null,
  };
}

export interface EssenceFacts {
  /** "jpeg, 1920 by 1080, 25 a second" and the like, each a line of facts. */
  words: { name: string; says: string }[];
  trouble: string | null;
  note: string | null;
  /** There is something to look at. */
  hasPicture: boolean;
}

/** What is known of a file's structure, in words; null where it was not read, or is not media. */
export async function essenceFacts(db: Database, fileId: number): Promise<EssenceFacts | null> {
  const [row] = await db.select().from(essence).where(eq(essence.fileId, fileId));
  if (!row || (row.format === '' && row.trouble === null)) return null;
  return { words: essenceWords(row), trouble: row.trouble, note: row.note, hasPicture: row.width !== null };
}
