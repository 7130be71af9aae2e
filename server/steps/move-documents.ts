// After files were moved: documents that named them get a new version beside the old one, which names the new places in
// the syntax of the station that wrote it. The old version is never touched. Run again, a version that is there already
// is not written twice.
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { and, eq, inArray, isNull, type SQL } from 'drizzle-orm';
import { relinkDocument, sequenceFolder } from '#core/documents/relink.ts';
import { relativeFrom, urlOfPath, writeTarget } from '#core/documents/targets.ts';
import { nextVersion, versionOf } from '#core/documents/versions.ts';
import { folderOf, joinPath, nameOf } from '#core/paths.ts';
import { insideOf, pathOn, styleOf } from '#core/places/station-paths.ts';
import { pathOfUrl } from '#core/documents/targets.ts';
import { locate } from '#disk/paths.ts';
import { writeWhole } from '#disk/private.ts';
import { codeOf } from '#disk/facts.ts';
import { type Database } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents, media, mediaTargets } from '../db/schema/documents.ts';
import { mounts, volumes } from '../db/schema/stores.ts';

export interface Place {
  volumeId: number;
  path: string;
}

export interface NewVersion {
  volumeId: number;
  folder: string;
  name: string;
  from: string;
  /** Another document with the same text was there already, from a run that was killed. */
  was: boolean;
}

interface Mounted {
  volumeId: number;
  stationId: number;
  path: string;
}

/** Writes the new versions. `moved` has the place of every file that was moved, by its number. */
export async function relinkMoved(db: Database, moved: ReadonlyMap<number, Place>): Promise<NewVersion[]> {
  const naming = await documentsNaming(db, [...moved.keys()]);
  const stations = await allMounted(db);
  const written: NewVersion[] = [];
  for (const document of naming) {
    const targets = await db
      .select({ target: mediaTargets.target, fileId: mediaTargets.fileId })
      .from(mediaTargets)
      .innerJoin(media, eq(media.id, mediaTargets.mediaId))
      .where(eq(media.documentId, document.documentId));
    const places = new Map(
      targets.flatMap(({ target, fileId }) => {
        const place = fileId === null ? undefined : moved.get(fileId);
        return place ? [[target, place] as const] : [];
      }),
    );
    const version = writeVersion(document, { places, byName: new Map() }, stations);
    if (version) written.push(version);
  }
  return written;
}

/**
 * A new version of one document, in which these media lie elsewhere. Null where its kind cannot be written anew, or
 * nothing in it changes.
 */
export async function relinkOne(
  db: Database,
  documentId: number,
  chosen: ReadonlyMap<number, Place>,
): Promise<NewVersion | null> {
  const [document] = await namingDocuments(db, [eq(documents.id, documentId)]);
  if (!document) return null;
  const rows = await db
    .select({ mediaId: media.id, name: media.name, stills: media.targets, target: mediaTargets.target })
    .from(media)
    .leftJoin(mediaTargets, eq(mediaTargets.mediaId, media.id))
    .where(inArray(media.id, [...chosen.keys()]));
  const places = new Map<string, Place>();
  const byName = new Map<string, Place>();
  for (const { mediaId, name, stills, target } of rows) {
    const place = chosen.get(mediaId)!;
    if (target === null) byName.set(name, place);
    else if (stills === 1) places.set(target, place);
    // The folder of the chosen still is the folder of them all.
    else places.set(target, { ...place, path: joinPath(folderOf(place.path), pathOfUrl(nameOf(target))) });
  }
  return writeVersion(document, { places, byName }, await allMounted(db));
}

async function documentsNaming(db: Database, fileIds: readonly number[]): Promise<Naming[]> {
  const found = new Map<number, Naming>();
  for (const ids of inSlices(fileIds))
    for (const row of await namingDocuments(db, [inArray(mediaTargets.fileId, [...ids])]))
      found.set(row.documentId, row);
  return [...found.values()];
}

/** Documents that count, that are there, and whose names are text. */
const namingDocuments = (db: Database, which: readonly SQL[]) =>
  db
    .selectDistinct({
      documentId: documents.id,
      name: files.name,
      volumeId: files.volumeId,
      folder: folders.path,
      root: volumes.path,
    })
    .from(documents)
    .leftJoin(media, eq(media.documentId, documents.id))
    .leftJoin(mediaTargets, eq(mediaTargets.mediaId, media.id))
    .innerJoin(files, eq(files.id, documents.fileId))
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .where(
      and(
        ...which,
        isNull(files.goneAt),
        isNull(documents.supersededBy),
        isNull(files.rawName),
        isNull(folders.rawPath),
      ),
    );

async function allMounted(db: Database): Promise<Mounted[]> {
  const own = await db
    .select({ volumeId: volumes.id, stationId: volumes.stationId, path: volumes.path })
    .from(volumes)
    .where(isNull(volumes.retiredAt));
  return [...own, ...(await db.select().from(mounts))];
}

type Naming = Awaited<ReturnType<typeof namingDocuments>>[number];

/** New places: by target as written, and by name for references that have no target yet. */
interface NewPlaces {
  places: ReadonlyMap<string, Place>;
  byName: ReadonlyMap<string, Place>;
}

function writeVersion(document: Naming, { places, byName }: NewPlaces, stations: Mounted[]): NewVersion | null {
  const place = locate(document.root, { path: joinPath(document.folder, document.name) }) as string;
  const text = readFileSync(place, 'utf8');
  const asText = new Map([...places].map(([target, at]) => [target, `${at.volumeId}/${at.path}`]));
  const relinked = relinkDocument(document.name, text, {
    file: (written) => {
      const at = places.get(written);
      return at ? newTarget(written, at, document, stations) : null;
    },
    sequence: (base, prefix) => {
      const folder = sequenceFolder(asText, base, prefix);
      if (folder === null) return null;
      const slash = folder.indexOf('/');
      const at = {
        volumeId: Number(slash < 0 ? folder : folder.slice(0, slash)),
        path: joinPath(slash < 0 ? '' : folder.slice(slash + 1), 'x'),
      };
      return newTarget(`${base}x`, at, document, stations).slice(0, -1);
    },
    missing: (name) => {
      const at = byName.get(name);
      return at ? newTarget('file:///', at, document, stations) : null;
    },
  });
  if (!relinked || relinked.replaced === 0) return null;
  const beside = path.dirname(place);
  const { volumeId, folder } = document;
  const same = readdirSync(beside).filter((name) => versionOf(name).stem === versionOf(document.name).stem);
  const there = same.find((name) => name !== document.name && textOf(path.join(beside, name)) === relinked.text);
  if (there) return { volumeId, folder, name: there, from: document.name, was: true };
  for (let taken = same; ; taken = [...taken, nextVersion(document.name, taken)]) {
    const name = nextVersion(document.name, taken);
    if (existsSync(path.join(beside, name))) continue;
    try {
      writeWhole(path.join(beside, name), relinked.text);
      return { volumeId, folder, name, from: document.name, was: false };
    } catch (error) {
      if (codeOf(error) !== 'EEXIST') throw error;
    }
  }
}

function textOf(place: string): string | null {
  try {
    return readFileSync(place, 'utf8');
  } catch {
    return null;
  }
}

/** The new place as the document's station writes it; relative where it was relative and can stay so. */
function newTarget(written: string, at: Place, document: Naming, stations: readonly Mounted[]): string {
  const plain = pathOfUrl(written);
  const own = stations.find((mount) => mount.volumeId === at.volumeId);
  if (styleOf(plain) === null) {
    if (at.volumeId === document.volumeId) {
      const relative = relativeFrom(document.folder, at.path);
      return written === plain ? relative : urlOfPath(relative);
    }
    return writeTarget('file:', pathOn(own!.path, at.path));
  }
  const wrote = stations
    .filter((mount) => insideOf(mount.path, plain) !== null)
    .sort((a, b) => b.path.length - a.path.length)[0];
  const there =
    stations.find((mount) => mount.volumeId === at.volumeId && mount.stationId === wrote?.stationId) ?? own!;
  return writeTarget(written, pathOn(there.path, at.path));
}
