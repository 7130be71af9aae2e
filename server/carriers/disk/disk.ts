// A carrier that is a folder of a mounted disk: a portable drive, or a share set aside for archives.
import { randomUUID } from 'node:crypto';
import { constants, mkdirSync, renameSync, rmSync, type Stats } from 'node:fs';
import { copyFile, open, opendir, readdir, rm, stat, statfs } from 'node:fs/promises';
import path from 'node:path';
import type { Readable, Writable } from 'node:stream';
import { z } from 'zod';
import { MOST_TOP } from '#core/archive/carrier-facts.ts';
import type { ReadAt } from '#core/archive/containers/container.ts';
import { roomOf } from '#core/places/space.ts';
import { dropFromMemory } from '#disk/content/content.ts';
import { fromMedium, passingFromMedium } from '#disk/content/from-medium.ts';
import { codeOf, isMissing, look } from '#disk/facts.ts';
import { giveIdentity, lookAtStore, PRIVATE_FOLDER } from '#disk/identity.ts';
import { privateName, privateNames } from '#disk/private-names.ts';
import { NotTheOne, Root } from '#disk/root.ts';
import { flushFolder, renameNew, syncFolder } from '#disk/write.ts';
import { type Carrier, CarrierAway, carrierKind, type Entry, type Mending, type Pack, PackGone } from '../kind.ts';
import { usableFolder } from '../../stores/usable-folder.ts';
import { HoleWriter } from './hole-writer.ts';

const settings = z.object({ folder: z.string().min(1).max(4095) });
type Settings = z.infer<typeof settings>;

export const disk = carrierKind<Settings>({
  kind: 'disk',
  name: 'disk',
  settings,
  fields: [{ name: 'folder', label: 'Folder on this server', hint: 'Where the disk is mounted.', isFolder: true }],
  module: import.meta.url,
  describe: ({ folder }) => folder,
  at: (_settings, folder) => ({ folder }),
  folders: ({ folder }) => [folder],
  async look({ folder }) {
    const seen = await lookAtStore(folder);
    return seen.state === 'reachable' ? { ...seen, facts: { top: await topOf(folder) } } : seen;
  },
  async register({ folder }) {
    const { root } = await usableFolder(folder, 'the carrier');
    return { settings: { folder: root }, identity: giveIdentity(root) };
  },
  async open({ folder }, identity) {
    try {
      return new DiskCarrier(Root.open(folder, identity));
    } catch (error) {
      if (error instanceof NotTheOne) throw new CarrierAway(folder);
      throw error;
    }
  },
});
export default disk;

/** Null where it went meanwhile, or has a name that is no text here: nobody could open it by that. */
async function statOf(place: string): Promise<Stats | null> {
  try {
    return await stat(place);
  } catch (error) {
    if (isMissing(error)) return null;
    throw error;
  }
}

const plainFile = (at: string, stats: Stats | null): Entry =>
  stats ? { at, sizeBytes: stats.size, modifiedMs: stats.mtimeMs } : { at, sizeBytes: null };

/** What systems keep at the top of a disk for themselves, and what is hidden, is nobody's work. */
const NOT_WORK = /^(?:\.|\$|lost\+found$|System Volume Information$)/;

async function topOf(folder: string): Promise<string[]> {
  const names: string[] = [];
  for await (const entry of await opendir(folder)) {
    const isPacked = entry.isFile() && /\.(tar|zip)$/i.test(entry.name);
    if ((entry.isDirectory() || isPacked) && !NOT_WORK.test(entry.name)) names.push(entry.name);
    if (names.length === MOST_TOP) break;
  }
  return names.sort();
}

/**
 * A pack that is being written is one private folder: `bag` is what will get its name, `tmp` holds what is not whole yet.
 * A lease that takes it over renames the folder, so that an earlier one finds nothing under its own name.
 */
class DiskCarrier implements Carrier {
  constructor(private readonly root: Root) {}

  async begin(pack: Pack): Promise<void> {
    const own = this.own(pack);
    for (const folder of [own, `${own}/bag`, `${own}/tmp`])
      try {
        mkdirSync(folder);
      } catch (error) {
        if (codeOf(error) !== 'EEXIST') throw error;
      }
  }

  async takeOver(pack: Pack): Promise<boolean> {
    const own = this.own(pack);
    for (const name of privateNames(this.root).known) {
      if (name.use !== 'archive' || name.site !== pack.site || name.job !== pack.job || name.item !== pack.item)
        continue;
      if (name.lease === pack.lease || look(own).is !== 'gone') continue;
      try {
        renameSync(this.root.placeText(`${PRIVATE_FOLDER}/${privateName(name)}`), own);
      } catch (error) {
        if (!isMissing(error)) throw error;
      }
    }
    if (look(own).is === 'gone') return false;
    // What an earlier lease had not finished is not trusted, whole as it may be.
    rmSync(`${own}/tmp`, { recursive: true, force: true });
    await this.begin(pack);
    return true;
  }

  async write(pack: Pack, at: string): Promise<Writable> {
    const own = this.own(pack);
    const temporary = `${own}/tmp/${randomUUID()}`;
    let handle;
    try {
      handle = await open(temporary, 'wx', 0o644);
    } catch (error) {
      throw isMissing(error) ? new PackGone() : error;
    }
    return new HoleWriter(handle, async () => {
      const target = this.madePlace(pack, at);
      try {
        rmSync(target, { force: true });
        renameNew(temporary, target);
      } catch (error) {
        throw isMissing(error) ? new PackGone() : error;
      }
      await flushFolder(path.dirname(target));
    });
  }

  async append(pack: Pack, at: string, from: number, mend?: () => Mending | null): Promise<Writable> {
    try {
      const flags = constants.O_RDWR | constants.O_CREAT | constants.O_NOFOLLOW;
      const handle = await open(this.ownPlace(pack, at), flags, 0o644);
      await handle.truncate(from);
      return new HoleWriter(handle, () => flushFolder(`${this.own(pack)}/bag`), from, mend);
    } catch (error) {
      throw isMissing(error) ? new PackGone() : error;
    }
  }

  async renew(pack: Pack, at: string, sizeBytes: number): Promise<void> {
    const temporary = `${this.own(pack)}/tmp/${randomUUID()}`;
    try {
      await copyFile(this.ownPlace(pack, at), temporary, constants.COPYFILE_FICLONE | constants.COPYFILE_EXCL);
      const handle = await open(temporary, 'r+');
      try {
        await handle.truncate(sizeBytes);
        await handle.sync();
      } finally {
        await handle.close();
      }
      renameSync(temporary, this.ownPlace(pack, at));
    } catch (error) {
      throw isMissing(error) ? new PackGone() : error;
    }
    syncFolder(`${this.own(pack)}/bag`);
  }

  async remove(pack: Pack, at: string): Promise<void> {
    await rm(`${this.own(pack)}/bag/${at}`, { recursive: true, force: true });
  }

  async place(pack: Pack, only?: { at: string; name: string }): Promise<void> {
    const name = only?.name ?? pack.folder;
    const target = this.root.placeText(name);
    // An empty folder of that name would be replaced in silence, and so would a file.
    if (look(target).is !== 'gone') throw Object.assign(new Error(`${name} is there already.`), { code: 'EEXIST' });
    const from = this.ownPlace(pack, only?.at);
    try {
      if (only) renameNew(from, target);
      else renameSync(from, target);
    } catch (error) {
      throw isMissing(error) ? new PackGone() : error;
    }
    syncFolder(this.root.top);
    rmSync(this.own(pack), { recursive: true, force: true });
  }

  async discard(pack: Pack): Promise<void> {
    await rm(this.own(pack), { recursive: true, force: true });
  }

  async read(of: Pack | string, at: string, range?: { at: number; length: number }): Promise<Readable> {
    return fromMedium(this.placeIn(of, at), range);
  }

  passing(of: Pack | string, at: string, range?: { at: number; length: number }): Promise<AsyncIterable<Buffer>> {
    return passingFromMedium(this.placeIn(of, at), range);
  }

  async pieces<T>(of: Pack | string, at: string, isFresh: boolean, use: (readAt: ReadAt) => Promise<T>): Promise<T> {
    const place = this.placeIn(of, at);
    if (isFresh) await dropFromMemory(place);
    const handle = await open(place, constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK);
    try {
      return await use(async (from, length) => {
        const buffer = Buffer.alloc(length);
        const { bytesRead } = await handle.read(buffer, 0, length, from);
        return buffer.subarray(0, bytesRead);
      });
    } finally {
      await handle.close();
    }
  }

  async look(of: Pack | string, at: string): Promise<{ sizeBytes: number; mark: string } | null> {
    const facts = look(this.placeIn(of, at));
    if (facts.is !== 'file') return null;
    const { sizeBytes, device, inode, changedUs } = facts;
    return { sizeBytes, mark: [device, inode, sizeBytes, changedUs].join(' ') };
  }

  async *list(of: Pack | string): AsyncIterable<Entry> {
    const top = typeof of === 'string' ? this.root.placeText(of) : `${this.own(of)}/bag`;
    const folders = [''];
    for (let folder = folders.pop(); folder !== undefined; folder = folders.pop())
      for (const entry of await readdir(folder === '' ? top : `${top}/${folder}`, { withFileTypes: true })) {
        const at = folder === '' ? entry.name : `${folder}/${entry.name}`;
        if (entry.isDirectory()) folders.push(at);
        else if (!entry.isFile()) yield { at, sizeBytes: null };
        else yield plainFile(at, await statOf(`${top}/${at}`));
      }
  }

  async has(folder: string): Promise<boolean> {
    return look(this.root.placeText(folder)).is !== 'gone';
  }

  async unfinished(site: string): Promise<Omit<Pack, 'folder'>[]> {
    return privateNames(this.root)
      .known.filter((name) => name.use === 'archive' && name.site === site)
      .map(({ job, lease, item }) => ({ site, job, lease, item }));
  }

  async freeBytes(): Promise<number> {
    return roomOf(await statfs(this.root.top)).freeBytes;
  }

  async close(): Promise<void> {
    this.root.close();
  }

  private own(pack: Pack): string {
    const { site, job, lease, item } = pack;
    return this.root.placeText(`${PRIVATE_FOLDER}/${privateName({ use: 'archive', site, job, lease, item })}`);
  }

  /**
   * By its name at every call: what was opened before another lease took the pack over would lead into what that one has
   * made of it.
   */
  private ownPlace(pack: Pack, at?: string): string {
    return `${this.own(pack)}/bag${at === undefined ? '' : `/${at}`}`;
  }

  /** The place of a file in a pack, its folders made; the pack itself must be there. */
  private madePlace(pack: Pack, at: string): string {
    const bag = `${this.own(pack)}/bag`;
    const segments = at.split('/').slice(0, -1);
    for (let i = 1; i <= segments.length; i++)
      try {
        mkdirSync(`${bag}/${segments.slice(0, i).join('/')}`);
      } catch (error) {
        if (isMissing(error)) throw new PackGone();
        if (codeOf(error) !== 'EEXIST') throw error;
      }
    return `${bag}/${at}`;
  }

  /** Inside the bag no link is followed, whoever put it there. */
  private placeIn(of: Pack | string, at: string): string {
    if (typeof of === 'string') return this.root.placeText(at === '' ? of : `${of}/${at}`);
    const { site, job, lease, item } = of;
    return this.root.placeText(
      `${PRIVATE_FOLDER}/${privateName({ use: 'archive', site, job, lease, item })}/bag/${at}`,
    );
  }
}
