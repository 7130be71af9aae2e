// The tag files of an archive, as texts: what is in it, where it came from, and the sums of everything. The same on every
// carrier, so that one sum in the catalogue knows every copy. Source: RFC 8493.
import { hostname } from 'node:os';
import { eq, inArray } from 'drizzle-orm';
import { indexHtml, type Leaflet, readmeText } from '#core/archive/leaflet.ts';
import { fontsWithout } from '#core/documents/needs.ts';
import {
  BAG_DECLARATION,
  bagInfoText,
  FAST_SUMS,
  MANIFEST,
  manifestText,
  PAYLOAD,
  payloadOxum,
  TAG_MANIFEST,
} from '#core/fixity/bagit.ts';
import { chainText, hashListName, hashListText } from '#core/fixity/mhl.ts';
import { grouped } from '#core/grouped.ts';
import type { ProjectId } from '#core/model.ts';
import { nameOf } from '#core/paths.ts';
import { sha512 } from '#disk/sums.ts';
import type { Db } from '../db/connect.ts';
import { needsOfDocuments } from './needs.ts';
import { type archiveFiles, archiveParts, type archives } from '../db/schema/archives.ts';
import { projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { projectModel } from './model.ts';

/** Of the format of what is written, for who reads it in many years. */
const VERSION = '1';

/** What was to go in and could not, with the words for it. */
export interface Gap {
  path: string;
  why: string;
}

export type ArchiveFile = typeof archiveFiles.$inferSelect;

export interface TagFiles {
  /** By name, the tag manifest last. */
  texts: readonly (readonly [name: string, text: string])[];
  manifestSha512: string;
}

export const payloadAt = (file: Pick<ArchiveFile, 'payloadPath'>): string => `${PAYLOAD}/${file.payloadPath}`;

type Part = typeof archiveParts.$inferSelect;

/** What a part says of itself is made from. */
interface Content {
  /** All of the archive, also what lies in its other parts and in the archive that it builds on. */
  files: readonly ArchiveFile[];
  /** The part whose lists these are, and all of the archive's own in order. */
  part: Part;
  parts: readonly Part[];
  /** The beginning of the work, so that a run that goes on writes the same. */
  at: Date;
  /** How it was asked for. */
  shape: object;
  gaps: readonly Gap[];
  /** Who gets it, where it is no archive: then it says nothing of the house, of where files were or of what was not chosen. */
  handedTo?: string | null;
}

interface Told extends Pick<Content, 'shape' | 'part' | 'parts' | 'files'> {
  project: string;
  handedTo: string | null;
  told: readonly Gap[];
  elsewhere: readonly Elsewhere[];
  names: ReadonlyMap<number, string>;
}

/** What is in a part, for programs. */
const contentsOf = (
  archive: typeof archives.$inferSelect,
  { project, shape, handedTo, told, part, parts, elsewhere, files, names }: Told,
) => ({
  format: handedTo === null ? 'keramion-archive 1' : 'keramion-hand-over 1',
  project,
  ...(handedTo === null ? { archive: archive.name, shape } : { for: handedTo }),
  ...(parts.length > 1 ? { part: part.ord, of: parts.map((one) => one.folder) } : {}),
  ...(told.length > 0 ? { couldNotGoIn: told } : {}),
  ...(elsewhere.length > 0 ? { elsewhere: elsewhere.map(({ folder, files: own }) => ({ folder, files: own })) } : {}),
  files: files.map((file) => ({
    path: payloadAt(file),
    role: file.role,
    sizeBytes: file.payloadBytes,
    ...(file.role === 'part' ? { frames: { from: file.partFrom, to: file.partTo } } : {}),
    ...(file.encoding ? { encoded: file.encoding } : {}),
    ...(file.whyWhole ? { staysWhole: file.whyWhole } : {}),
    ...(handedTo === null ? { original: originalOf(file, names) } : {}),
  })),
});

interface Info extends Pick<Content, 'part' | 'parts'> {
  project: string;
  handedTo: string | null;
  day: string;
  bytes: number;
  files: number;
}

/** Source: RFC 8493, 2.2.2, with the words it reserves for bags that belong together. */
const infoOf = (
  { folder }: typeof archives.$inferSelect,
  { project, part, parts, day, handedTo, bytes, files }: Info,
): string =>
  bagInfoText([
    ['External-Identifier', part.folder],
    ['External-Description', handedTo === null ? `Archive of the project ${project}` : `${project}, for ${handedTo}`],
    ['Bagging-Date', day],
    ['Bag-Software-Agent', 'Keramion'],
    ['Payload-Oxum', payloadOxum(bytes, files)],
    ...(parts.length > 1
      ? ([
          ['Bag-Group-Identifier', folder],
          ['Bag-Count', `${part.ord} of ${parts.length}`],
        ] as const)
      : []),
  ]);

/** The lists of one part of an archive: of what lies in it, and of where the rest is. */
export async function tagFiles(
  db: Db,
  archive: typeof archives.$inferSelect,
  { files: all, part, parts, at, shape, gaps, handedTo = null }: Content,
): Promise<TagFiles> {
  const files = all.filter((file) => file.partId === part.id);
  const elsewhere = await liesElsewhere(db, { all, part, parts });
  const day = at.toISOString().slice(0, 10);
  const [project] = await db.select().from(projects).where(eq(projects.id, archive.projectId));
  const rows = await db.select({ id: volumes.id, name: volumes.name }).from(volumes);
  const names = new Map(rows.map((volume) => [volume.id, volume.name]));
  const bytes = files.reduce((sum, file) => sum + file.payloadBytes!, 0);
  const told = handedTo === null ? gaps : gaps.map(({ path, why }) => ({ path: nameOf(path), why }));
  const contents = contentsOf(archive, {
    project: project!.name,
    shape,
    handedTo,
    told,
    part,
    parts,
    elsewhere,
    files,
    names,
  });
  const needs = await needsOfDocuments(db, [...new Set(all.map((file) => file.fileId))]);
  const leaflet: Leaflet = {
    needs: {
      ...needs,
      fonts: fontsWithout(
        needs.fonts,
        all.map((file) => nameOf(file.payloadPath)),
      ),
    },
    ...leafletOf(archive, project!, { files, day, names }),
    ...{ folder: part.folder, gaps: told, handedTo },
    number: part.ord,
    parts: parts.map((one) => one.folder),
    elsewhere: elsewhere.map(({ folder, bytes: own, files: list }) => ({ folder, bytes: own, files: list.length })),
  };
  const sumsBy = (sum: (file: ArchiveFile) => string) =>
    manifestText(files.map((file) => ({ path: payloadAt(file), hash: sum(file) })));
  const tags: (readonly [name: string, text: string])[] = [
    ['bagit.txt', BAG_DECLARATION],
    [
      'bag-info.txt',
      infoOf(archive, { project: project!.name, part, parts, day, handedTo, bytes, files: files.length }),
    ],
    [MANIFEST, sumsBy((file) => file.sha512!)],
    [FAST_SUMS, sumsBy((file) => file.xxh64!)],
    [handedTo === null ? 'keramion-archive.json' : 'contents.json', `${JSON.stringify(contents, null, 2)}\n`],
    ...(handedTo === null ? [await modelText(db, archive, { all, part, elsewhere })] : []),
    ...hashLists(part, { files, at, host: handedTo === null ? hostname() : 'not told' }),
    ['README.txt', readmeText(leaflet)],
    ['index.html', indexHtml(leaflet)],
  ];
  const tagManifest = manifestText(tags.map(([name, text]) => ({ path: name, hash: sha512(text) })));
  return { texts: [...tags, [TAG_MANIFEST, tagManifest]], manifestSha512: sha512(tagManifest) };
}

const originalOf = (file: ArchiveFile, names: ReadonlyMap<number, string>) => ({
  volume: names.get(file.volumeId) ?? '',
  path: file.path,
  sizeBytes: file.ofBytes ?? file.sizeBytes,
  modified: new Date(file.modifiedUs / 1000).toISOString(),
});

interface Elsewhere {
  folder: string;
  bytes: number;
  files: { path: string; sizeBytes: number | null; sha512: string | null }[];
}

/** What belongs to the archive and lies in another part of it, or in the archive that it builds on; by where. */
async function liesElsewhere(
  db: Db,
  { all, part, parts }: { all: readonly ArchiveFile[]; part: Part; parts: readonly Part[] },
): Promise<(Elsewhere & { partId: number })[]> {
  const others = grouped(
    all.filter((file) => file.partId !== part.id),
    (file) => file.partId,
  );
  if (others.size === 0) return [];
  const ids = [...others.keys()].filter((id) => !parts.some((one) => one.id === id));
  const earlier = ids.length > 0 ? await db.select().from(archiveParts).where(inArray(archiveParts.id, ids)) : [];
  const known = [...earlier, ...parts].filter((one) => others.has(one.id));
  return known.map(({ id, folder }) => {
    const files = others.get(id)!;
    return {
      ...{ partId: id, folder, bytes: files.reduce((sum, file) => sum + (file.payloadBytes ?? 0), 0) },
      files: files.map((file) => ({ path: payloadAt(file), sizeBytes: file.payloadBytes, sha512: file.sha512 })),
    };
  });
}

async function modelText(
  db: Db,
  { projectId }: typeof archives.$inferSelect,
  {
    all,
    part,
    elsewhere,
  }: { all: readonly ArchiveFile[]; part: Part; elsewhere: readonly (Elsewhere & { partId: number })[] },
) {
  const folders = new Map(elsewhere.map((one) => [one.partId, one.folder]));
  folders.delete(part.id);
  const model = await projectModel(db, projectId as ProjectId, { archived: all, folders });
  return ['project.json', `${JSON.stringify(model, null, 1)}\n`] as const;
}

/** The history that the field's tools keep beside what they hash. */
function hashLists(
  { folder }: Part,
  { files, at, host }: { files: readonly ArchiveFile[]; at: Date; host: string },
): (readonly [name: string, text: string])[] {
  const name = hashListName({ folder, at });
  const text = hashListText({
    ...{ folder, at, host, version: VERSION },
    files: files.map((file) => ({
      ...{ path: payloadAt(file), sizeBytes: file.payloadBytes!, xxh64: file.xxh64! },
      // Of what was made in the work, when that began.
      modified: ['document', 'part', 'encoded'].includes(file.role) ? at : new Date(file.modifiedUs / 1000),
    })),
  });
  return [
    [`ascmhl/${name}`, text],
    ['ascmhl/ascmhl_chain.xml', chainText(name, sha512(text))],
  ];
}

function leafletOf(
  archive: typeof archives.$inferSelect,
  project: typeof projects.$inferSelect,
  { files, day, names }: { files: readonly ArchiveFile[]; day: string; names: ReadonlyMap<number, string> },
): Leaflet {
  return {
    project: project.name,
    client: project.client,
    year: project.year,
    people: project.people,
    comments: project.publicComments,
    folder: archive.folder,
    day,
    files: files.map((file) => ({
      path: payloadAt(file),
      role: file.role,
      sizeBytes: file.payloadBytes!,
      volume: names.get(file.volumeId) ?? '',
      original: file.path,
    })),
  };
}
