// After files were moved: documents that named them get a new version beside the old one, which names the new places in
// the syntax of the station that wrote it. The old version is never touched. Run again, a version that is there already
// is not written twice.
import { and, eq, inArray, isNull, type SQL } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import type { FrameRange } from '#core/time/rates.ts';
import { relinkDocument } from '#core/documents/formats/registry.ts';
import { sequenceFolder } from '#core/documents/relink.ts';
import { relativeFrom, urlOfPath, writeTarget } from '#core/documents/targets.ts';
import { nextVersion, versionOf } from '#core/documents/versions.ts';
import { folderOf, joinPath, nameOf } from '#core/paths.ts';
import { insideOf, pathOn, styleOf } from '#core/places/station-paths.ts';
import { pathOfUrl } from '#core/documents/targets.ts';
import { codeOf, type FileFacts, look } from '#disk/facts.ts';
import { listBeside, readSmall, writeBeside } from '#disk/beside.ts';
import { type Database } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import type { Root } from '#disk/root.ts';
import type { JobContext } from '../runtime/context.ts';
import { targetsOf } from '../db/naming.ts';
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

/**
 * Writes the new versions. `moved` has the place of every file that was moved or copied, by its number; `only` takes one
 * project's documents alone. `left` says which documents could not be written anew, and why: they still name the old places.
 */
export async function relinkMoved(
  context: JobContext,
  moved: ReadonlyMap<number, Place>,
  only?: ProjectId,
): Promise<{ versions: NewVersion[]; left: string[] }> {
  const { db } = context;
  const left: string[] = [];
  const naming = await documentsNaming(db, [...moved.keys()], only);
  const stations = await allMounted(db);
  const written: NewVersion[] = [];
  for (const document of naming) {
    const targets = await targetsOf(db, { id: document.documentId });
    const places = new Map(
      targets.flatMap(({ target, fileId }) => {
        const place = fileId === null ? undefined : moved.get(fileId);
        return place ? [[target, place] as const] : [];
      }),
    );
    try {
      const version = await writeVersion(context, document, { places, byName: new Map(), stations });
      if (version) written.push(version);
    } catch (error) {
      left.push(notWritten(document.name, error));
    }
  }
  return { versions: written, left };
}

const NOT_WRITTEN_WORDS: Record<string, string> = {
  ENOSPC: 'the volume is full',
  EDQUOT: 'the volume is full',
  changed: 'it was saved meanwhile',
};

/** What is said of a document that was refused; other trouble ends the work. */
function notWritten(name: string, error: unknown): string {
  const code = codeOf(error);
  if (!NOT_WRITTEN.has(code)) throw error;
  return `${name} (${NOT_WRITTEN_WORDS[code] ?? code})`;
}

/** What the system may refuse for one document while others can still be written. */
const NOT_WRITTEN = new Set([
  'ENOSPC',
  'EDQUOT',
  'EACCES',
  'EPERM',
  'EROFS',
  'ENOENT',
  'outside',
  'not_the_one',
  'EIO',
  'changed',
]);

/**
 * A new version of one document, in which these media lie elsewhere. Null where its kind cannot be written anew, or
 * nothing in it changes.
 */
export async function relinkOne(
  context: JobContext,
  documentId: number,
  chosen: ReadonlyMap<number, Place>,
): Promise<NewVersion | null> {
  const { db } = context;
  const [document] = await namingDocuments(db, [eq(documents.id, documentId)]);
  if (!document) return null;
  const rows = await db
    .select({
      mediaId: media.id,
      name: media.name,
      stills: media.stills,
      count: media.targets,
      start: media.startFrame,
      duration: media.durationFrames,
      target: mediaTargets.target,
    })
    .from(media)
    .leftJoin(mediaTargets, eq(mediaTargets.mediaId, media.id))
    .where(inArray(media.id, [...chosen.keys()]));
  const places = new Map<string, Place>();
  const byName = new Map<string, Place>();
  for (const { mediaId, name, stills, count, start, duration, target } of rows) {
    const place = chosen.get(mediaId)!;
    const range = start === null || duration === null ? null : { start, duration };
    if (target === null) byName.set(missingKey(name, range), place);
    else if (!stills && count <= 1) places.set(target, place);
    // The folder of the chosen still is the folder of them all.
    else places.set(target, { ...place, path: joinPath(folderOf(place.path), pathOfUrl(nameOf(target))) });
  }
  return writeVersion(context, document, { places, byName, stations: await allMounted(db) });
}

/** Two missing references that share a name and differ in what there is of them are two. */
const missingKey = (name: string, range: FrameRange | null): string =>
  JSON.stringify([name, range && range.start, range && range.duration]);

async function documentsNaming(db: Database, fileIds: readonly number[], only?: ProjectId): Promise<Naming[]> {
  const own = only === undefined ? [] : [eq(documents.projectId, only)];
  const found = new Map<number, Naming>();
  for (const ids of inSlices(fileIds))
    for (const row of await namingDocuments(db, [inArray(mediaTargets.fileId, [...ids]), ...own]))
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
  stations: readonly Mounted[];
}

async function writeVersion(
  context: JobContext,
  document: Naming,
  { places, byName, stations }: NewPlaces,
): Promise<NewVersion | null> {
  const root = await context.root(document.volumeId);
  if (!root) throw Object.assign(new Error('Its volume is not there.'), { code: 'not_the_one' });
  const text = readSmall(root, joinPath(document.folder, document.name));
  const asText = new Map([...places].map(([target, at]) => [target, `${at.volumeId}/${at.path}`]));
  const relinked = relinkDocument(document.name, text, {
    file: (written) => {
      const at = places.get(written);
      return at ? newTarget(written, at, document, stations) : null;
    },
    sequence: (base, prefix, suffix) => {
      const folder = sequenceFolder(asText, { base, prefix, suffix });
      if (folder === null) return null;
      const slash = folder.indexOf('/');
      const at = {
        volumeId: Number(slash < 0 ? folder : folder.slice(0, slash)),
        path: joinPath(slash < 0 ? '' : folder.slice(slash + 1), 'x'),
      };
      return newTarget(`${base}x`, at, document, stations).slice(0, -1);
    },
    missing: (name, available) => {
      const at = byName.get(missingKey(name, available?.range ?? null));
      return at ? newTarget('file:///', at, document, stations) : null;
    },
  });
  if (!relinked || relinked.replaced === 0) return null;
  return putVersion(context, document, { root, text: relinked.text });
}

/** Puts a text beside a document as its next version; where that is there already, that. */
async function putVersion(
  context: JobContext,
  document: Naming,
  { root, text }: { root: Root; text: string },
): Promise<NewVersion> {
  const { volumeId, folder } = document;
  const there = listBeside(root, folder);
  const same = there.filter((name) => versionOf(name).stem === versionOf(document.name).stem);
  const was = same.find((name) => name !== document.name && textOf(root, joinPath(folder, name)) === text);
  if (was) return { volumeId, folder, name: was, from: document.name, was: true };
  for (let taken = same; ;) {
    const name = nextVersion(document.name, taken);
    taken = [...taken, name];
    await context.assertLease();
    const temporary = (await context.names()).path('text', document.documentId);
    if (writeBeside(root, { at: joinPath(folder, name), temporary }, text))
      return { volumeId, folder, name, from: document.name, was: false };
  }
}

/** A document as it is now, and what a reference in it to a file says. */
interface AsItIs {
  text: string;
  facts: FileFacts;
  toPlace: (written: string, at: Place) => string;
}

/** New versions of the documents of these files, as `pointed` writes them. */
export async function pointDocuments(
  context: JobContext,
  fileIds: readonly number[],
  pointed: (fileId: number, document: AsItIs) => Promise<{ text: string; replaced: number }>,
): Promise<{ versions: NewVersion[]; left: string[] }> {
  const [versions, left]: [NewVersion[], string[]] = [[], []];
  const stations = await allMounted(context.db);
  for (const fileId of fileIds) {
    const [document] = await namingDocuments(context.db, [eq(documents.fileId, fileId)]);
    if (!document) continue;
    try {
      const root = await context.root(document.volumeId);
      if (!root) throw Object.assign(new Error('Its volume is not there.'), { code: 'not_the_one' });
      const at = joinPath(document.folder, document.name);
      const text = readSmall(root, at);
      const facts = look(root.placeText(at));
      if (facts.is !== 'file') throw Object.assign(new Error('It is not there.'), { code: 'ENOENT' });
      const toPlace: AsItIs['toPlace'] = (written, place) => newTarget(written, place, document, stations);
      const made = await pointed(fileId, { text, facts, toPlace });
      if (made.replaced > 0) versions.push(await putVersion(context, document, { root, text: made.text }));
    } catch (error) {
      left.push(notWritten(document.name, error));
    }
  }
  return { versions, left };
}

function textOf(root: Root, at: string): string | null {
  try {
    return readSmall(root, at);
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
