// Media that documents name and nobody finds: what may be it, with evidence, and what is certain. Called by the missing
// page and the command line, and after every reading for documents that write no paths.
import type { RowDataPacket } from 'mysql2/promise';
import type { PictureSize } from '#core/documents/model.ts';
import { patternOf, type Stills, stillNumber, stillOrd, stillTarget } from '#core/documents/stills.ts';
import { pathOfUrl } from '#core/documents/targets.ts';
import { foldPath } from '#core/homes/moves.ts';
import { type Candidate, judge, judgeStills, type Suspect, type Wanted } from '#core/missing/judge.ts';
import type { Kind, ProjectId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { isOnlySidecar } from '#core/units/units.ts';
import type { DocumentPool } from '#disk/documents/documents.ts';
import { type Database, withConnection } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import type { NameIndex } from '../search/names.ts';
import { readEssenceOfFiles } from './essence.ts';
import type { ReadingChanges } from './match-media.ts';

export interface MissingMedia {
  mediaId: number;
  documentId: number;
  document: string;
  format: 'otio' | 'edl' | 'dawproject';
  projectId: ProjectId;
  project: string;
  /** As the document writes it; null where it says itself that the media is missing. */
  target: string | null;
  /** Stills of a sequence; 1 for a file, 0 where the document names none. */
  targets: number;
  stills: Stills | null;
  found: number;
  /** The file it is now, or was when it was there. */
  fileId: number | null;
  used: boolean;
  timelines: number;
  wanted: Wanted;
}

export interface CandidateRow extends Candidate {
  name: string;
  folderId: number;
  where: string;
  kind: Kind;
  bytes: number;
  modifiedUs: number;
  /** Its structure was read: what it says can speak for or against it. */
  known: boolean;
}

/** Files that are looked at for one clip. */
const MOST_SUSPECTS = 40;
const ROWS_AT_ONCE = 50_000;

const plainName = (target: string) => pathOfUrl(target).split(/[\\/]/).at(-1)!;
/** The folder as the document writes it. */
export const oldFolder = (target: string): string => {
  const path = pathOfUrl(target);
  return path.slice(0, Math.max(0, path.length - plainName(target).length - 1));
};
const isSequence = (item: MissingMedia): boolean => item.stills !== null || item.targets > 1;
const stemOf = (name: string) => foldPath(name.replace(/\.[^.]+$/, ''));

const pictureOf = (width: unknown, height: unknown) =>
  width === null || height === null ? null : { width: Number(width), height: Number(height) };

/** Missing media of the documents that count: of one project, of named media (found or not), or of all. */
export async function missingMedia(
  db: Database,
  of: { projectId?: ProjectId; mediaIds?: readonly number[] } = {},
): Promise<MissingMedia[]> {
  const where =
    of.mediaIds !== undefined
      ? 'm.id IN (?)'
      : `m.incomplete = 1 ${of.projectId !== undefined ? 'AND m.project_id = ?' : ''}`;
  if (of.mediaIds?.length === 0) return [];
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    `SELECT m.*, o.name AS document, o.format, p.name AS project,
       t.target, t.file_id AS fileId, x.gone_at IS NOT NULL AS gone, x.size_bytes AS wasBytes, e.fingerprint AS wasFingerprint
     FROM media m JOIN documents o ON o.id = m.document_id AND o.superseded_by IS NULL
     JOIN files f ON f.id = o.file_id AND f.gone_at IS NULL JOIN projects p ON p.id = m.project_id
     LEFT JOIN media_targets t ON t.media_id = m.id AND t.ord = 0 LEFT JOIN files x ON x.id = t.file_id
     LEFT JOIN essence e ON e.file_id = x.id AND e.read_size_bytes = x.size_bytes AND e.read_modified_us = x.modified_us
     WHERE ${where} ORDER BY m.used DESC, m.name, m.id`,
    of.mediaIds !== undefined ? [of.mediaIds] : of.projectId !== undefined ? [of.projectId] : [],
  );
  return rows.map((row) => {
    const json = <T>(value: unknown): T => (typeof value === 'string' ? JSON.parse(value) : value) as T;
    const ranges = json<[number, number][] | null>(row.ranges);
    const rate = row.rate_num ? { num: Number(row.rate_num), den: Number(row.rate_den) } : null;
    const target = row.target as string | null;
    return {
      mediaId: Number(row.id),
      documentId: Number(row.document_id),
      document: row.document as string,
      format: row.format as MissingMedia['format'],
      projectId: Number(row.project_id) as ProjectId,
      project: row.project as string,
      target,
      targets: Number(row.targets),
      stills: json<Stills | null>(row.stills),
      found: Number(row.found),
      fileId: row.fileId === null ? null : Number(row.fileId),
      used: Boolean(row.used),
      timelines: json<number[] | null>(row.timeline_ids)?.length ?? 0,
      wanted: {
        name: target === null ? (row.name as string) : plainName(target),
        isNominal: row.format === 'edl' && rate?.den === 1,
        reel: row.reel as string | null,
        picture: pictureOf(row.picture_width, row.picture_height),
        rate,
        startFrame: row.start_frame === null ? null : Number(row.start_frame),
        durationFrames: row.duration_frames === null ? null : Number(row.duration_frames),
        used: ranges?.map(([start, duration]) => ({ start, duration })) ?? null,
        // Of a sequence that lacks stills its first tells of the others, also where it is there.
        was:
          row.gone || (row.wasBytes !== null && row.targets > 1 && row.found < row.targets)
            ? { sizeBytes: Number(row.wasBytes), fingerprint: row.wasFingerprint as string | null }
            : null,
      },
    };
  });
}

/**
 * What may be each of these, the best first. Of a sequence of stills it is folders, each told by its first still.
 * `look`: parts of other names to be looked at as well.
 */
export async function candidatesFor(
  db: Database,
  missing: readonly MissingMedia[],
  { names, look = '' }: { names?: NameIndex; look?: string } = {},
): Promise<Map<number, CandidateRow[]>> {
  const single = missing.filter((item) => !isSequence(item));
  const suspects = await suspectsOf(db, single, names);
  if (look !== '' && names)
    for (const { mediaId } of single) {
      const { ids } = await names.find('files', look.toLowerCase().split(/\s+/), MOST_SUSPECTS);
      suspects.set(mediaId, [...new Set([...(suspects.get(mediaId) ?? []), ...ids])]);
    }
  const files = await factsOf(db, [...new Set([...suspects.values()].flat())]);
  const beside = neighboursOf(single, suspects, files);
  const all = await sequencesFor(db, missing.filter(isSequence), names);
  const least = await leastPictures(db, single);
  for (const item of single) {
    // What it is already is no other file it may be.
    const own = (suspects.get(item.mediaId) ?? []).flatMap((id) => (id === item.fileId ? [] : (files.get(id) ?? [])));
    const judged = judge(
      { ...item.wanted, leastPicture: item.wanted.was ? null : (least.get(item.documentId) ?? null) },
      own.map((file) => ({ ...file.suspect, neighbours: beside(item, file.folderId) })),
    );
    all.set(
      item.mediaId,
      judged.map((candidate) => {
        const { suspect, ...facts } = files.get(candidate.fileId)!;
        return { ...candidate, ...facts, name: suspect.name };
      }),
    );
  }
  return all;
}

/** Of each of their documents the smallest picture among the media that are found; of those alone that write no size down. */
async function leastPictures(db: Database, missing: readonly MissingMedia[]): Promise<Map<number, PictureSize>> {
  const silent = missing.filter(({ wanted }) => !wanted.picture && !wanted.was);
  if (silent.length === 0) return new Map();
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    `SELECT m.document_id AS id, e.width, e.height FROM media m JOIN media_targets t ON t.media_id = m.id AND t.ord = 0
     JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL AND f.kind <> 'proxy'
     JOIN essence e ON e.file_id = f.id AND e.duration_frames > 1 AND e.width > 0
     WHERE m.document_id IN (?) GROUP BY m.document_id, e.width, e.height`,
    [[...new Set(silent.map((item) => item.documentId))]],
  );
  const least = new Map<number, PictureSize>();
  for (const { id, width, height } of rows) {
    const known = least.get(Number(id));
    const one = { width: Number(width), height: Number(height) };
    if (!known || one.width * one.height < known.width * known.height) least.set(Number(id), one);
  }
  return least;
}

async function suspectsOf(
  db: Database,
  missing: readonly MissingMedia[],
  names?: NameIndex,
): Promise<Map<number, number[]>> {
  const byStem = new Map<string, number[]>();
  for (const { mediaId, wanted } of missing)
    byStem.set(stemOf(wanted.name), [...(byStem.get(stemOf(wanted.name)) ?? []), mediaId]);
  const found = new Map<number, number[]>();
  const add = (mediaId: number, fileId: number) => {
    const own = found.get(mediaId) ?? [];
    if (own.length < MOST_SUSPECTS && !own.includes(fileId)) found.set(mediaId, [...own, fileId]);
  };
  byStem.delete('');
  if (byStem.size === 0) return found;
  for (const row of await namedFiles(db, new Set(byStem.keys()), names))
    if (!isOnlySidecar(row.name)) for (const mediaId of byStem.get(stemOf(row.name)) ?? []) add(mediaId, row.id);
  // Renamed ones: the same reel, start and length.
  const [same] = await db.$pool.query<RowDataPacket[]>(
    `SELECT m.id AS mediaId, e.file_id AS fileId FROM media m JOIN essence e ON e.reel = m.reel AND e.start_frame = m.start_frame AND e.duration_frames = m.duration_frames
     JOIN files f ON f.id = e.file_id AND f.gone_at IS NULL WHERE m.id IN (?) AND m.duration_frames > 1 LIMIT 2000`,
    [missing.map((item) => item.mediaId)],
  );
  for (const row of same) add(Number(row.mediaId), Number(row.fileId));
  return found;
}

/** Files with these stems, anywhere but in caches. */
async function namedFiles(
  db: Database,
  stems: ReadonlySet<string>,
  names?: NameIndex,
): Promise<{ id: number; name: string }[]> {
  const found: { id: number; name: string }[] = [];
  const keep = (rows: RowDataPacket[]) => {
    for (const row of rows)
      if (stems.has(stemOf(row.name as string))) found.push({ id: Number(row.id), name: row.name as string });
  };
  if (names) {
    const asked = await Promise.all([...stems].map((stem) => names.find('files', [stem], 500)));
    if (asked.every((answer) => answer.ready)) {
      for (const ids of inSlices(asked.flatMap((answer) => answer.ids)))
        keep(
          (
            await db.$pool.query<RowDataPacket[]>(
              "SELECT id, name FROM files WHERE id IN (?) AND gone_at IS NULL AND kind <> 'cache'",
              [ids],
            )
          )[0],
        );
      return found;
    }
  }
  for (let from = 0; ;) {
    const [rows] = await db.$pool.query<RowDataPacket[]>(
      `SELECT id, name FROM files WHERE id > ? AND gone_at IS NULL AND kind <> 'cache' ORDER BY id LIMIT ${ROWS_AT_ONCE}`,
      [from],
    );
    keep(rows);
    if (rows.length < ROWS_AT_ONCE) return found;
    from = Number(rows.at(-1)!.id);
  }
}

type FileFacts = Omit<CandidateRow, keyof Candidate | 'name'> & { suspect: Suspect };

async function factsOf(db: Database, ids: readonly number[]): Promise<Map<number, FileFacts>> {
  const all = new Map<number, FileFacts>();
  for (const some of inSlices(ids, 1000)) {
    const [rows] = await db.$pool.query<RowDataPacket[]>(
      `SELECT f.id, f.name, f.folder_id AS folderId, f.kind, f.size_bytes AS bytes, f.modified_us AS modifiedUs, d.path AS folder, v.name AS volume,
         e.file_id AS known, e.rate_num AS rateNum, e.rate_den AS rateDen, e.start_frame AS startFrame, e.drop_frame AS dropFrame, e.duration_frames AS durationFrames, e.reel, e.trouble, e.width, e.height, e.sample_rate AS sampleRate, e.fingerprint
       FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id AND v.retired_at IS NULL
       LEFT JOIN essence e ON e.file_id = f.id AND e.read_size_bytes = f.size_bytes AND e.read_modified_us = f.modified_us
       WHERE f.id IN (?) AND f.gone_at IS NULL`,
      [some],
    );
    for (const row of rows)
      all.set(Number(row.id), {
        folderId: Number(row.folderId),
        where: joinPath(row.volume as string, row.folder as string),
        kind: row.kind as Kind,
        bytes: Number(row.bytes),
        modifiedUs: Number(row.modifiedUs),
        known: row.known !== null,
        suspect: {
          fileId: Number(row.id),
          name: row.name as string,
          rate: row.rateNum === null ? null : { num: Number(row.rateNum), den: Number(row.rateDen) },
          startFrame: row.startFrame === null ? null : Number(row.startFrame),
          dropFrame: Boolean(row.dropFrame),
          durationFrames: row.durationFrames === null ? null : Number(row.durationFrames),
          reel: row.reel as string | null,
          picture: pictureOf(row.width, row.height),
          neighbours: 0,
          isProxy: row.kind === 'proxy',
          sampled: row.width === null && row.sampleRate !== null,
          damaged: row.trouble as string | null,
          sizeBytes: Number(row.bytes),
          fingerprint: row.fingerprint as string | null,
        },
      });
  }
  return all;
}

/** Of so many these are looked for, so that a folder that lost some is found as well: the first, the last, one between. */
const someOf = (count: number): number[] => (count === 0 ? [] : [0, Math.floor(count / 2), count - 1]);

/** The nearest place to one for which something holds. */
function nearest(from: number, count: number, holds: (i: number) => boolean): number | null {
  for (let far = 0; far < count; far++) {
    if (from + far < count && holds(from + far)) return from + far;
    if (from - far >= 0 && holds(from - far)) return from - far;
  }
  return null;
}

interface LostSequence {
  item: MissingMedia;
  /** Name of its first still. */
  first: string;
  /** Whether a name is one of them. */
  isOne: (name: string) => boolean;
  stems: Set<string>;
  /** Folders in which they lie now. */
  now: Set<number>;
}

async function lostSequence(db: Database, item: MissingMedia): Promise<LostSequence> {
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    'SELECT t.ord, t.target, f.folder_id AS folderId FROM media_targets t LEFT JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL WHERE t.media_id = ? ORDER BY t.ord',
    [item.mediaId],
  );
  const now = new Set(rows.flatMap((row) => (row.folderId === null ? [] : [Number(row.folderId)])));
  const there = new Set(rows.flatMap((row) => (row.folderId === null ? [] : [Number(row.ord)])));
  const names = new Map(rows.map((row) => [Number(row.ord), plainName(row.target as string)]));
  const { stills } = item;
  const nameOf = (ord: number) => names.get(ord) ?? plainName(stillTarget(stills!, ord));
  // Never a list of them all: there can be a million.
  const listedOrds = [...names.keys()];
  const count = stills ? (stills.count ?? item.targets) : listedOrds.length;
  const ordAt = (i: number) => (stills ? i : listedOrds[i]!);
  const isGone = (i: number) => !there.has(ordAt(i));
  const some = someOf(count);
  const gone = some.flatMap((from) => nearest(from, count, isGone) ?? []);
  const pattern = stills && plainName(patternOf(stills));
  const listed = stills ? null : new Set(names.values());
  const isOne = (name: string) => {
    if (!stills) return listed!.has(name);
    const number = stillNumber(stills, pattern!, name);
    return number !== null && stillOrd(stills, number) !== null;
  };
  const stems = new Set([...some, ...gone].map((i) => stemOf(nameOf(ordAt(i)))));
  return { item, first: nameOf(count > 0 ? ordAt(0) : 0), isOne, stems, now };
}

/** Folders in which stills of these sequences lie under their own names, but for those they lie in now. */
async function sequencesFor(
  db: Database,
  missing: readonly MissingMedia[],
  names?: NameIndex,
): Promise<Map<number, CandidateRow[]>> {
  const sequences: LostSequence[] = [];
  for (const item of missing) sequences.push(await lostSequence(db, item));
  const stems = new Set(sequences.flatMap((one) => [...one.stems]));
  const known = stems.size === 0 ? [] : await namedFiles(db, stems, names);
  const all = new Map<number, CandidateRow[]>();
  for (const { item, first, isOne, stems: own, now } of sequences) {
    const folders = await foldersOf(
      db,
      known.filter((file) => own.has(stemOf(file.name))),
    );
    const found = await stillsIn(db, folders.filter((id) => !now.has(id)).slice(0, MOST_SUSPECTS), { first, isOne });
    const facts = await factsOf(db, [...found.keys()]);
    const there = [...found].flatMap(([fileId, { count }]) => {
      const suspect = facts.get(fileId)?.suspect;
      return suspect ? [{ fileId, stills: count, first: suspect.name === first ? suspect : null }] : [];
    });
    const rows = judgeStills({ stills: item.targets, was: item.wanted.was }, there).map((candidate): CandidateRow => {
      const { suspect, ...rest } = facts.get(candidate.fileId)!;
      return { ...candidate, ...rest, name: suspect.name, bytes: found.get(candidate.fileId)!.bytes };
    });
    all.set(item.mediaId, rows);
  }
  return all;
}

async function foldersOf(db: Database, known: readonly { id: number }[]): Promise<number[]> {
  const all = new Set<number>();
  for (const some of inSlices(known)) {
    const [rows] = await db.$pool.query<RowDataPacket[]>('SELECT DISTINCT folder_id AS id FROM files WHERE id IN (?)', [
      some.map((file) => file.id),
    ]);
    for (const row of rows) all.add(Number(row.id));
  }
  return [...all];
}

/** How many of these names lie in each folder, and their bytes, by the first of the names that does. */
async function stillsIn(
  db: Database,
  folders: readonly number[],
  { first: firstName, isOne }: Pick<LostSequence, 'first' | 'isOne'>,
): Promise<Map<number, { count: number; bytes: number }>> {
  const found = new Map<number, { count: number; bytes: number }>();
  for (const folderId of folders) {
    const [rows] = await db.$pool.query<RowDataPacket[]>(
      'SELECT id, name, size_bytes AS bytes FROM files WHERE folder_id = ? AND gone_at IS NULL AND raw_name IS NULL ORDER BY name',
      [folderId],
    );
    const stills = rows.filter((row) => isOne(row.name as string));
    const bytes = stills.reduce((sum, row) => sum + Number(row.bytes), 0);
    const first = stills.find((row) => row.name === firstName) ?? stills[0];
    if (first) found.set(Number(first.id), { count: stills.length, bytes });
  }
  return found;
}

/** How many others of the same old folder may lie in a folder as well. */
function neighboursOf(
  missing: readonly MissingMedia[],
  suspects: ReadonlyMap<number, number[]>,
  files: ReadonlyMap<number, FileFacts>,
): (item: MissingMedia, folderId: number) => number {
  const key = (item: MissingMedia) =>
    item.target === null || oldFolder(item.target) === ''
      ? null
      : `${item.documentId}\n${foldPath(oldFolder(item.target))}`;
  const inFolder = new Map<string, Set<number>>();
  for (const item of missing) {
    const group = key(item);
    if (group === null) continue;
    for (const id of suspects.get(item.mediaId) ?? []) {
      const at = `${group}\n${files.get(id)?.folderId}`;
      inFolder.set(at, (inFolder.get(at) ?? new Set()).add(item.mediaId));
    }
  }
  return (item, folderId) => {
    const all = inFolder.get(`${key(item)}\n${folderId}`);
    return all ? all.size - Number(all.has(item.mediaId)) : 0;
  };
}

/**
 * After a reading: reads the structure of whatever may be missing media, and gives media of edit lists, which write no
 * paths, the files that are certain. Media of other documents stays missing until a person says so. Looks at media of
 * documents read since then, and at all where new files have their names. Gives the projects that found some.
 */
export async function matchByEvidence(
  db: Database,
  pool: DocumentPool,
  { since, touched }: Pick<ReadingChanges, 'since' | 'touched'>,
): Promise<number[]> {
  const all = await missingMedia(db);
  if (all.length === 0) return [];
  const missing = touched === 'all' ? all : await possiblyFoundAgain(db, all, { since, touched });
  if (missing.length === 0) return [];
  const single = missing.filter((item) => !isSequence(item));
  const suspects = await suspectsOf(db, single);
  const folders = await sequencesFor(db, missing.filter(isSequence));
  const stills = [...folders.values()].flatMap((rows) => rows.map((row) => row.fileId));
  await readEssenceOfFiles(db, pool, [...new Set([...[...suspects.values()].flat(), ...stills])]);
  const bare = single.filter((item) => item.format === 'edl' && item.target !== null);
  const candidates = await candidatesFor(db, bare);
  const found = new Set<number>();
  await withConnection(db, async (connection) => {
    for (const { mediaId, projectId } of bare) {
      const [first] = candidates.get(mediaId) ?? [];
      if (first?.verdict !== 'certain') continue;
      await connection.query(
        "UPDATE media_targets SET file_id = ?, found_by = 'evidence' WHERE media_id = ? AND ord = 0",
        [first.fileId, mediaId],
      );
      await connection.query("UPDATE media SET found = 1, place = 'inside' WHERE id = ?", [mediaId]);
      found.add(projectId);
    }
  });
  return [...found];
}

/** Missing media of new documents, and those whose name is that of a file where something came or went. */
async function possiblyFoundAgain(
  db: Database,
  all: readonly MissingMedia[],
  { since, touched }: { since: Date; touched: readonly number[] },
): Promise<MissingMedia[]> {
  const [read] = await db.$pool.query<RowDataPacket[]>('SELECT id FROM documents WHERE read_at >= ?', [since]);
  const fresh = new Set(read.map((row) => Number(row.id)));
  const stems = new Set<string>();
  for (const some of inSlices(touched)) {
    const [rows] = await db.$pool.query<RowDataPacket[]>('SELECT name FROM files WHERE folder_id IN (?)', [some]);
    for (const row of rows) stems.add(stemOf(row.name as string));
  }
  return all.filter((item) => fresh.has(item.documentId) || stems.has(stemOf(item.wanted.name)));
}
