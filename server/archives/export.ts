// The catalogue of the shelf, taken out of Keramion: as tables for other programs, and as pages with a search that open from a
// folder without a server. It outlives whatever wrote it.
import { createHash } from 'node:crypto';
import { and, asc, eq, gt } from 'drizzle-orm';
import {
  archivePage,
  namesLine,
  pageOf,
  type ShelfArchive,
  type ShelfCarrier,
  type ShelfFile,
  shelfIndex,
} from '#core/archive/shelf-pages.ts';
import { csvText } from '#core/wording/csv.ts';
import { NewFolder } from '#disk/new-folder.ts';
import { codeOf } from '#disk/facts.ts';
import type { Database } from '../db/connect.ts';
import { archiveFiles } from '../db/schema/archives.ts';
import { volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { siteName } from '../site/site.ts';
import { binsIn, timelinesIn } from './contents.ts';
import { archiveRows, carrierRows } from './shelf.ts';
import { LIST, lineOf, SHELF_FORM, SHELF_TABLES, type shelfList } from './shelf-tables.ts';
import type { z } from 'zod';

export interface Exported {
  archives: number;
  carriers: number;
  files: number;
}

const PAGE = 5000;
const iso = (ms: number | null) => (ms === null ? '' : new Date(ms).toISOString());

/** @param at a folder that is not there yet. Throws Refused in a sentence where it cannot be made. */
export async function exportCatalogue(db: Database, at: string, now: Date): Promise<Exported> {
  const folder = made(at);
  try {
    return await fill(db, folder, now);
  } catch (error) {
    folder.discard();
    throw error;
  }
}

function made(at: string): NewFolder {
  try {
    const folder = NewFolder.make(at);
    if (folder) return folder;
  } catch (error) {
    throw new Refused(
      `${at} cannot be made (${codeOf(error)}). Nothing was written. Name a new folder in one that is there.`,
    );
  }
  throw new Refused(`${at} is there already, and nothing is ever written over. Name a new folder.`);
}

async function fill(db: Database, folder: NewFolder, now: Date): Promise<Exported> {
  const archives = await archivesOf(db);
  const carriers = await carriersOf(db);
  const site = await siteName(db);
  folder.folder('archives');
  folder.write('names.js', '');
  folder.write(
    'files.csv',
    csvText(['archive', 'folder', 'in the archive', 'was on', 'was at', 'bytes', 'sha512'], []),
  );
  let total = 0;
  for (const archive of archives) {
    const files = await filesOf(db, archive.id);
    total += files.length;
    folder.write(pageOf(archive), archivePage(archive, files));
    folder.append('names.js', namesLine({ id: archive.id, name: archive.folder }, files));
    const { name } = archive;
    const lines = files.map((file) => [
      name,
      archive.folder,
      file.at,
      file.volume,
      file.path,
      `${file.bytes}`,
      file.sha512 ?? '',
    ]);
    folder.append('files.csv', csvRows(lines));
  }
  folder.write('archives.csv', archivesCsv(archives));
  folder.write('carriers.csv', carriersCsv(carriers));
  folder.write('catalogue.json', JSON.stringify({ site, madeAt: now.toISOString(), archives, carriers }, null, 2));
  await writeTables(db, folder, { site, now });
  folder.write('index.html', shelfIndex({ site, madeMs: now.getTime(), archives, carriers }));
  return { archives: archives.length, carriers: carriers.length, files: total };
}

/** What an import reads: rows, with the checksum of each file of them. */
async function writeTables(db: Database, folder: NewFolder, { site, now }: { site: string; now: Date }): Promise<void> {
  folder.folder('tables');
  const tables: z.infer<typeof shelfList>['tables'] = [];
  for (const shelf of SHELF_TABLES) {
    const file = `tables/${shelf.name}.ndjson`;
    folder.write(file, '');
    const sum = createHash('sha256');
    const line = lineOf(shelf);
    let rows = 0;
    for await (const page of shelf.pages(db)) {
      const text = page.map((row) => `${line(row)}\n`).join('');
      folder.append(file, text);
      sum.update(text);
      rows += page.length;
    }
    tables.push({ name: shelf.name, rows, sha256: sum.digest('hex') });
  }
  folder.write(LIST, JSON.stringify({ form: SHELF_FORM, madeAt: now.toISOString(), site, tables }, null, 2));
}

/** Without the line that names the columns. */
const csvRows = (rows: readonly (readonly string[])[]): string => csvText([], rows).replace(/^\r\n/, '');

const archivesCsv = (archives: readonly ShelfArchive[]): string =>
  csvText(
    ['archive', 'folder', 'sealed', 'files', 'bytes', 'copies'],
    archives.map(({ name, folder, sealedMs, files, bytes, copies }) => [
      ...[name, folder, iso(sealedMs), `${files}`, `${bytes}`],
      copies
        .map((copy) => `${copy.carriers.join(' + ')} (${copy.state}, read back ${iso(copy.readBackMs) || 'never'})`)
        .join('; '),
    ]),
  );

const carriersCsv = (carriers: readonly ShelfCarrier[]): string =>
  csvText(
    ['carrier', 'kind', 'where', 'capacity', 'used', 'holds'],
    carriers.map(({ name, type, where, capacityBytes, usedBytes, holds }) => [
      ...[name, type, where, `${capacityBytes}`, `${usedBytes}`, holds.join('; ')],
    ]),
  );

async function archivesOf(db: Database): Promise<ShelfArchive[]> {
  const sealed = (await archiveRows(db)).filter((archive) => archive.state === 'sealed');
  const found: ShelfArchive[] = [];
  for (const { archiveId, name, folder, sealedMs, files, bytes, copies } of sealed)
    found.push({
      ...{ id: archiveId, name, folder, sealedMs, files, bytes },
      copies: copies.map(({ carriers, state, readBackMs }) => ({
        ...{ carriers: carriers.map((carrier) => carrier.name), state, readBackMs },
      })),
      timelines: await timelinesIn(db, archiveId),
      bins: await binsIn(db, archiveId),
    });
  return found;
}

const carriersOf = async (db: Database): Promise<ShelfCarrier[]> =>
  (await carrierRows(db)).map(({ name, type, place, lentTo, capacityBytes, usedBytes, layers }) => ({
    ...{ name, type, capacityBytes, usedBytes, holds: layers.map((layer) => layer.folder) },
    where: lentTo === null ? place : `lent to ${lentTo}`,
  }));

async function filesOf(db: Database, archiveId: number): Promise<ShelfFile[]> {
  const files: ShelfFile[] = [];
  for (let last = 0; ;) {
    const rows = await db
      .select({ file: archiveFiles, volume: volumes.name })
      .from(archiveFiles)
      .leftJoin(volumes, eq(volumes.id, archiveFiles.volumeId))
      .where(and(eq(archiveFiles.archiveId, archiveId), gt(archiveFiles.id, last)))
      .orderBy(asc(archiveFiles.id))
      .limit(PAGE);
    for (const { file, volume } of rows)
      files.push({
        ...{ id: file.id, at: file.payloadPath, bytes: file.payloadBytes ?? file.sizeBytes },
        ...{ volume: volume ?? '', path: file.path, sha512: file.sha512 },
      });
    if (rows.length < PAGE) return files;
    last = rows.at(-1)!.file.id;
  }
}
