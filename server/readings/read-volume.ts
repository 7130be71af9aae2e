// Reads one volume into the catalogue: walks it, writes only what changed, marks what is gone, keeps what could not be
// read. Committed batch by batch, so that a reading that is killed or cancelled leaves true rows and is simply done
// again. Called by the worker and by `keramion read`.
import { xxh3 } from '@node-rs/xxhash';
import { and, eq } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { ownersOf } from '#core/homes/owners.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { liesIn } from '#core/paths.ts';
import { isMissing } from '#disk/facts.ts';
import type { FolderFound, SubFolder } from '#disk/walk/protocol.ts';
import { walk, type WalkPool } from '#disk/walk/walk.ts';
import { locate } from '#disk/paths.ts';
import { CatalogueWriter, emptyBatch, type FileChange, pathHash } from '../db/catalogue-writer.ts';
import { type Database, inTransaction, withConnection } from '../db/connect.ts';
import { inSlices, lockFolders, refreshHoldings } from '../db/holdings.ts';
import { folders, readings } from '../db/schema/catalogue.ts';
import { claims } from '../db/schema/projects.ts';
import { site } from '../db/schema/site.ts';
import { volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { currentRules, rulesOfVolume } from './kinds.ts';
import { carrierFolders, lookAtVolume } from '../stores/look.ts';

export interface ReadingResult {
  looked: number;
  added: number;
  changed: number;
  gone: number;
  notices: number;
  ended: 'whole' | 'cancelled';
  readingId: number;
  /** Folders in which something is new, changed or gone; 'all' where they are many. */
  touched: readonly number[] | 'all';
}

/** The mark of a reading of which not everything that follows is settled yet; its value is the first such reading. */
export const unfinishedKey = (volumeId: VolumeId): string => `unsettled ${volumeId}`;

export interface ReadingOptions {
  stop: Int32Array;
  now: () => Date;
  progress?: (looked: number) => void;
  /** Only this folder and what lies below it; left out for the whole volume. */
  folder?: string;
  /** Where this worker finds the volume; left out: where it is registered. */
  path?: string;
  /** Told of every file that is new, changed or gone in folders that were known. */
  onChange?: (change: FileChange & { path: string }) => void;
}

interface Known {
  id: number;
  path: string;
  parentId: number | null;
  fingerprint: string | null;
  projectId: number | null;
  gone: boolean;
}

type KnownRow = [
  id: number,
  parentId: number | null,
  path: string,
  fingerprint: string | null,
  projectId: number | null,
  gone: 0 | 1,
];

const BATCH_ROWS = 25_000;
const BATCH_FOLDERS = 2_500;
const MOST_NOTICES = 2_000;
/** Beyond so many folders everything is settled anew. */
const MOST_TOUCHED = 3_000;

export class VolumeNotReadable extends Refused {
  constructor(
    readonly volume: string,
    readonly state: string,
  ) {
    super(
      state === 'swapped'
        ? `Another disk is mounted where ${volume} belongs, so it was not read. What is known of ${volume} was kept. Mount the right disk and read again.`
        : `${volume} cannot be reached, so it was not read. What is known of it was kept. Connect it and read again.`,
    );
  }
}

export async function readVolume(
  db: Database,
  pool: WalkPool,
  volumeId: VolumeId,
  options: ReadingOptions,
): Promise<ReadingResult> {
  const volume = await lookAtVolume(db, volumeId, { now: options.now(), path: options.path });
  if (volume.state !== 'reachable') throw new VolumeNotReadable(volume.name, volume.state);
  const root = volume.foundAt;
  const from = options.folder ? await knownFolder(db, volumeId, options.folder) : undefined;
  if (from) refuseOutside(root, from);
  const startedAt = options.now();
  const readingId = await inTransaction(db, async (tx) => {
    const [{ insertId }] = await tx.insert(readings).values({ volumeId, startedAt });
    // Whoever brings up to date what follows takes the mark away; a reading that finds an older one knows that this was
    // not done.
    const mark = { key: unfinishedKey(volumeId), value: String(insertId) };
    await tx
      .insert(site)
      .values(mark)
      .onDuplicateKeyUpdate({ set: { key: mark.key } });
    return insertId;
  });
  const exclude = await othersInside(db, volumeId);
  const reading = new Reading(db, volumeId, readingId, options);
  await reading.loadKnown();
  const house = await currentRules(db);
  const ruleMark = xxh3.xxh128(JSON.stringify([house, volume.duty])).toString(16);
  // Rules of single folders come with those folders: they change no fingerprint of any other.
  const rules = await rulesOfVolume(db, volumeId, house);
  await walk(
    pool,
    {
      root,
      volumeId,
      duty: volume.duty,
      rules,
      ruleMark,
      exclude,
      stop: options.stop,
      from,
    },
    {
      begin: (device) => noteDevice(db, volume, device),
      enter: (at, folder, parentId) => reading.enter(at, folder, parentId),
      found: (at, found) => reading.found(at, found),
    },
  );
  const cancelled = Atomics.load(options.stop, 0) === 1;
  await reading.finish(cancelled);
  const result = reading.result(cancelled);
  const { ended: _ended, readingId: _id, touched: _touched, ...counts } = result;
  await inTransaction(db, async (tx) => {
    if (!cancelled && !from) await tx.update(volumes).set({ readAt: startedAt }).where(eq(volumes.id, volumeId));
    await tx
      .update(readings)
      .set({ ...counts, finishedAt: cancelled ? null : options.now() })
      .where(eq(readings.id, readingId));
  });
  return result;
}

async function noteDevice(db: Database, volume: { id: number; device: number | null }, device: number): Promise<void> {
  if (volume.device !== device)
    await inTransaction(db, (tx) => tx.update(volumes).set({ device }).where(eq(volumes.id, volume.id)));
}

/** The folder a reading of one folder begins at. */
async function knownFolder(db: Database, volumeId: VolumeId, folder: string) {
  const [row] = await db
    .select({ path: folders.path, raw: folders.rawPath, parentId: folders.parentId })
    .from(folders)
    .where(and(eq(folders.volumeId, volumeId), eq(folders.pathHash, pathHash(folder))));
  if (!row)
    throw new Refused(`${folder} is not known on this volume, so it was not read. Read the whole volume to find it.`);
  return { path: row.path, raw: row.raw?.toString('hex') ?? null, parentId: row.parentId };
}

/** A folder above it that was replaced by a link would lead out of the volume: refused before anything is read. */
function refuseOutside(root: string, from: { path: string; raw: string | null }): void {
  try {
    locate(root, { path: from.path, raw: from.raw === null ? null : Buffer.from(from.raw, 'hex') });
  } catch (error) {
    if (!isMissing(error)) throw error;
  }
}

/** The state of one reading: what is known, what was visited, what waits to be written. */
class Reading {
  private known = new Map<string, Known>();
  private byId = new Map<number, Known>();
  private visited = new Set<number>();
  private kept: string[] = [];
  private batch = emptyBatch();
  private writing: Promise<void> = Promise.resolve();
  private ids: { next: number; end: number } = { next: 0, end: 0 };
  private counts = { looked: 0, added: 0, changed: 0, gone: 0, notices: 0 };
  private ownerOf: (folder: string) => ProjectId | null = () => null;
  private failed: unknown = null;
  private readonly touched: number[] = [];
  private readonly writer: CatalogueWriter;

  constructor(
    private readonly db: Database,
    private readonly volumeId: VolumeId,
    private readonly readingId: number,
    private readonly options: ReadingOptions,
  ) {
    this.writer = new CatalogueWriter(db, volumeId, readingId, {
      now: options.now,
      nodeOf: (id) => this.byId.get(id),
      onChange:
        options.onChange && ((change) => options.onChange?.({ ...change, path: this.byId.get(change.folderId)!.path })),
    });
  }

  result(cancelled: boolean): ReadingResult {
    return {
      ...this.counts,
      ended: cancelled ? 'cancelled' : 'whole',
      readingId: this.readingId,
      touched: this.touched.length > MOST_TOUCHED ? 'all' : this.touched,
    };
  }

  async loadKnown(): Promise<void> {
    const sql =
      'SELECT id, parent_id, path, fingerprint, project_id, gone_at IS NOT NULL FROM folders WHERE volume_id = ?';
    const [rows] = await this.db.$pool.query<RowDataPacket[][]>({ sql, rowsAsArray: true }, [this.volumeId]);
    for (const row of rows as unknown as KnownRow[]) {
      const [id, parentId, at, fingerprint, projectId, gone] = row;
      // A folder that was gone and is back has rows of old: '' makes it count as changed, not as new.
      const known = {
        id: Number(id),
        path: at,
        parentId: parentId === null ? null : Number(parentId),
        fingerprint: gone ? '' : (fingerprint ?? ''),
        projectId,
        gone: gone === 1,
      };
      this.known.set(at, known);
      this.byId.set(known.id, known);
    }
    const all = await this.db.select().from(claims).where(eq(claims.volumeId, this.volumeId));
    this.ownerOf = ownersOf(
      all.map((claim) => ({ projectId: claim.projectId as ProjectId, volumeId: this.volumeId, folder: claim.folder })),
      this.volumeId,
    );
  }

  enter(at: string, folder: SubFolder, parentId: number | null) {
    const known = this.known.get(at);
    if (known) return { folderId: known.id, projectId: known.projectId, known: known.fingerprint };
    return this.met(at, folder, parentId);
  }

  private async met(at: string, folder: SubFolder, parentId: number | null) {
    const entered = {
      id: await this.nextId(),
      path: at,
      parentId,
      fingerprint: null,
      projectId: this.ownerOf(at),
      gone: false,
    };
    this.known.set(at, entered);
    this.byId.set(entered.id, entered);
    this.batch.folders.push({ id: entered.id, path: at, raw: folder.raw, parentId, projectId: entered.projectId });
    return { folderId: entered.id, projectId: entered.projectId, known: null };
  }

  found(at: string, found: FolderFound): void | Promise<void> {
    if (this.failed) throw this.failed;
    const { batch, counts } = this;
    counts.notices += found.notices.length;
    if (counts.notices - found.notices.length < MOST_NOTICES) batch.notices.push(...found.notices);
    if (found.state === 'unreadable') {
      // Gone only if it vanished; what could not be read keeps what was known of it.
      if (found.code !== 'vanished') this.kept.push(at);
      return;
    }
    this.visited.add(found.folderId);
    counts.looked += found.entries;
    if (found.state !== 'same' && this.touched.length <= MOST_TOUCHED) this.touched.push(found.folderId);
    if (found.state === 'new') {
      batch.fresh.push(found);
      batch.rows += found.files;
    } else if (found.state === 'changed') {
      batch.changed.push(found);
      batch.rows += found.columns.names.length;
    }
    this.options.progress?.(counts.looked);
    if (batch.rows >= BATCH_ROWS || batch.fresh.length + batch.changed.length >= BATCH_FOLDERS) return this.flush();
  }

  /** Hands the batch to the writer. Waits for the one before, so that at most two batches are in memory. */
  private async flush(): Promise<void> {
    const { batch } = this;
    this.batch = emptyBatch();
    const before = this.writing;
    this.writing = before
      .then(() => this.writer.write(batch))
      .then((changes) => {
        this.counts.added += changes.added;
        this.counts.changed += changes.changed;
        this.counts.gone += changes.gone;
      })
      .catch((error: unknown) => void (this.failed ??= error));
    await before;
  }

  async finish(cancelled: boolean): Promise<void> {
    await this.flush();
    await this.writing;
    if (this.failed) throw this.failed;
    if (!cancelled) await this.markGone();
  }

  private async nextId(): Promise<number> {
    if (this.ids.next >= this.ids.end) {
      const [[row]] = await this.db.$pool.query<RowDataPacket[]>('SELECT NEXT VALUE FOR folder_ids AS id');
      this.ids = { next: Number(row!.id), end: Number(row!.id) + 1000 };
    }
    return this.ids.next++;
  }

  /** Folders that were known and are no longer there, with their files; not those below a folder that kept shut. */
  private async markGone(): Promise<void> {
    const gone: number[] = [];
    for (const [at, known] of this.known) {
      if (!liesIn(at, this.options.folder ?? '')) continue;
      if (known.gone || this.visited.has(known.id) || this.kept.some((shut) => liesIn(at, shut))) continue;
      gone.push(known.id);
    }
    this.touched.push(...gone.slice(0, MOST_TOUCHED + 1));
    const now = this.options.now();
    for (const some of inSlices(gone, 500)) {
      await withConnection(this.db, async (connection) => {
        await lockFolders(connection, some);
        const [result] = await connection.query(
          'UPDATE files SET gone_at = ? WHERE folder_id IN (?) AND gone_at IS NULL',
          [now, some],
        );
        this.counts.gone += (result as { affectedRows: number }).affectedRows;
        await connection.query('UPDATE folders SET gone_at = ?, fingerprint = NULL WHERE id IN (?)', [now, some]);
        await refreshHoldings(connection, some);
      });
    }
  }
}

/** Where other volumes and carriers lie: what is theirs is not read as this one's. */
async function othersInside(db: Database, volumeId: VolumeId): Promise<string[]> {
  const all = await db.select({ id: volumes.id, path: volumes.path }).from(volumes);
  return [
    ...all.filter((volume) => volume.id !== volumeId).map((volume) => volume.path),
    ...(await carrierFolders(db)),
  ];
}
