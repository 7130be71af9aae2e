// Pictures of media for the interface: those that are there, and asking a worker for those that are not. The web process
// looks at no disk of the site for them.
import { and, eq } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { grouped } from '#core/grouped.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { posters } from '../db/schema/catalogue.ts';
import { enqueue } from '../runtime/queue.ts';

/** Pictures of one strip, spread evenly over the file. */
export const STRIP = 8;
export const POSTERS = 'make posters';

export interface Wish {
  fileId: number;
  /** One of the moments of a strip; 0 is the beginning. */
  moment: number;
}

/** Has pictures made by whoever reaches their volumes. */
export async function askForPosters(
  tx: Transaction,
  wanted: readonly (Wish & { volumeId: number })[],
  now: Date,
): Promise<void> {
  for (const [id, own] of grouped(wanted, (wish) => wish.volumeId))
    for (let i = 0; i < own.length; i += MOST_TOGETHER) {
      const wishes = own.slice(i, i + MOST_TOGETHER).map(({ fileId, moment }) => ({ fileId, moment }));
      await enqueue(
        tx,
        {
          ...{ kind: POSTERS, title: 'Make small pictures', params: { wishes }, who: 'Keramion', quiet: true },
          stores: [{ store: 'volume', id, mode: 'look' }],
        },
        now,
      );
    }
}

const TOGETHER_MS = 40;
const MOST_TOGETHER = 64;
const WAITS_MS = 15_000;
const LOOK_EVERY_MS = 150;

/** Asks for pictures, those wanted at about the same time in one piece of work. */
export class PosterDesk {
  private wanted = new Map<string, Wish & { volumeId: number }>();
  private timer: NodeJS.Timeout | null = null;
  private readonly asked = new Map<string, Promise<Buffer | null>>();

  constructor(private readonly db: Database) {}

  /** The picture as JPEG; null where none can be made, or no worker made one in time. */
  async get(wish: Wish): Promise<Buffer | null> {
    const at = Math.max(0, Math.min(STRIP - 1, wish.moment));
    const file = await this.file(wish.fileId);
    if (!file) return null;
    const known = await this.kept(wish.fileId, at, file.modifiedUs);
    if (known !== undefined) return known;
    if (!file.reachable) return null;
    const key = `${wish.fileId} ${at}`;
    const open = this.asked.get(key);
    if (open) return open;
    this.want(key, { fileId: wish.fileId, moment: at, volumeId: file.volumeId });
    const work = this.made(wish.fileId, at, file.modifiedUs).finally(() => this.asked.delete(key));
    this.asked.set(key, work);
    return work;
  }

  private async file(fileId: number) {
    const [[row]] = await this.db.$pool.query<RowDataPacket[]>(
      // What was archived has its picture still when it is gone.
      `SELECT f.modified_us AS modifiedUs, f.raw_name IS NOT NULL OR d.raw_path IS NOT NULL AS raw, v.id AS volumeId,
         f.gone_at IS NULL AND v.state = 'reachable' AND v.retired_at IS NULL AS reachable
       FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id WHERE f.id = ?`,
      [fileId],
    );
    if (!row || Number(row.raw)) return null;
    return {
      modifiedUs: Number(row.modifiedUs),
      volumeId: Number(row.volumeId),
      reachable: Boolean(Number(row.reachable)),
    };
  }

  /** Undefined where none was made yet of the file as it is now. */
  private async kept(fileId: number, moment: number, modifiedUs: number): Promise<Buffer | null | undefined> {
    const [row] = await this.db
      .select()
      .from(posters)
      .where(and(eq(posters.fileId, fileId), eq(posters.moment, moment)));
    if (!row || row.modifiedUs !== modifiedUs) return undefined;
    const now = new Date();
    if (now.getTime() - row.seenAt.getTime() > 3_600_000)
      await this.db
        .update(posters)
        .set({ seenAt: now })
        .where(and(eq(posters.fileId, fileId), eq(posters.moment, moment)));
    return row.picture;
  }

  private want(key: string, wish: Wish & { volumeId: number }): void {
    this.wanted.set(key, wish);
    this.timer ??= setTimeout(() => void this.ask(), TOGETHER_MS);
  }

  private async ask(): Promise<void> {
    this.timer = null;
    const wanted = [...this.wanted.values()];
    this.wanted.clear();
    try {
      await inTransaction(this.db, (tx) => askForPosters(tx, wanted, new Date()));
    } catch {
      // A database that does not answer: those who wait find no picture, and the next look asks again.
    }
  }

  private async made(fileId: number, moment: number, modifiedUs: number): Promise<Buffer | null> {
    for (const end = Date.now() + WAITS_MS; Date.now() < end;) {
      await new Promise((resolve) => setTimeout(resolve, LOOK_EVERY_MS));
      const picture = await this.kept(fileId, moment, modifiedUs);
      if (picture !== undefined) return picture;
    }
    return null;
  }
}
