// What the space route asks of the services.
import { essenceFacts } from '#server/readings/essence.ts';
import { partsUsed } from '#server/space/parts-used.ts';
import type { Route } from './+types/space';
import type { FolderId } from '#core/model.ts';
import { joinPath, nameOf } from '#core/paths.ts';
import { inWords } from '#core/wording/amounts.ts';
import { spaceSentence } from '#core/wording/lenses.ts';
import { groupSums, linesOfUnit } from '#server/reclaim/lines.ts';
import { fileFacts } from '#server/projects/ownership.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { stationPaths } from '#server/stores/places.ts';
import { projectById, projectNames } from '#server/projects/projects.ts';
import {
  AREAS_BY,
  areas,
  BANDS,
  EXTREMES,
  extremes,
  folderAt,
  kindFrom,
  type Narrowing,
  type Scope,
  strata,
  unitsIn,
} from '#server/space/space.ts';
import { volumesAsked } from '../answer.server';
import { db } from '../db.server';

const numberFrom = (text: string | null, least = 1): number | undefined => {
  const n = text === null || text === '' ? NaN : Number(text);
  return Number.isSafeInteger(n) && n >= least ? n : undefined;
};

const sumOf = (rows: readonly { bytes: number; files: number }[]) => ({
  bytes: rows.reduce((sum, row) => sum + row.bytes, 0),
  files: rows.reduce((sum, row) => sum + row.files, 0),
});

interface Told {
  volumes: Awaited<ReturnType<typeof rackVolumes>>;
  folder: Awaited<ReturnType<typeof folderAt>>;
  scope: Scope;
  only: Narrowing;
  today: number;
  /** Nothing is chosen in the rack. */
  isAll: boolean;
  yearOldBytes: number;
}

/** What the sentence says is what the list below adds up to: of the folder, and of what is narrowed. */
async function sentenceOf({ volumes, folder, scope, only, today, isAll, yearOldBytes }: Told): Promise<string> {
  const place = folder ? (folder.path === '' ? folder.volume : nameOf(folder.path)) : null;
  const several = `${inWords(volumes.length)} volumes`;
  const isNarrowed = Object.values(only).some((part) => part !== undefined);
  const inside = isNarrowed ? await areas(db(), { scope, by: 'kind', only, today }) : [];
  const whole = volumes.map(({ byKind, files }) => ({ bytes: byKind.reduce((n, kind) => n + kind.bytes, 0), files }));
  const sums = isNarrowed ? sumOf(inside) : (folder ?? sumOf(whole));
  return spaceSentence({
    where: place ?? (isAll ? 'the site' : volumes.length === 1 ? volumes[0]!.name : several),
    isMany: !folder && !isAll && volumes.length > 1,
    totalBytes: sums.bytes,
    yearOldBytes: folder || isNarrowed ? 0 : yearOldBytes,
    files: sums.files,
  });
}

/** What of a folder may go, of projects in work as well: by group, the largest first. */
async function mayGo({ folderId, volumeId, path }: NonNullable<Awaited<ReturnType<typeof folderAt>>>) {
  const where = path === '' ? { only: [volumeId] } : { only: [], below: [folderId] };
  const sums = await groupSums(db(), { ...where, projectId: null, inWork: true });
  return sums
    .filter((sum) => sum.bytes > 0)
    .map(({ group, bytes }) => ({ group, bytes }))
    .sort((a, b) => b.bytes - a.bytes);
}

export async function loader({ request }: Route.LoaderArgs) {
  const search = new URL(request.url).searchParams;
  const all = await rackVolumes(db());
  const fileAsked = numberFrom(search.get('file'));
  const file = fileAsked === undefined ? null : await fileFacts(db(), fileAsked);
  const folderAsked = numberFrom(search.get('folder')) ?? file?.folderId;
  const folder = folderAsked === undefined ? null : await folderAt(db(), folderAsked as FolderId);
  const chosen = volumesAsked(request, all);
  const only: Narrowing = {
    projectId: numberFrom(search.get('project'), 0),
    kind: kindFrom(search.get('kind')),
    band: BANDS[Number(search.get('age') ?? NaN)] ? Number(search.get('age')) : undefined,
  };
  const by = AREAS_BY.find((one) => one === search.get('by')) ?? 'folder';
  const list = EXTREMES.find((one) => one === search.get('list')) ?? null;
  const scope: Scope = folder ? { folder } : { volumeIds: chosen };
  const today = Math.floor(Date.now() / 86_400_000);
  const on = folder ? [folder.volumeId] : chosen;
  const [rows, units, layers, extreme, paths, project, essence, worth, going, used, allProjects] = await Promise.all([
    areas(db(), { scope, by, only, today }),
    folder && by === 'folder' ? unitsIn(db(), folder.folderId, { only, today, open: search.get('open') }) : [],
    strata(db(), on, today),
    list ? extremes(db(), { scope, only, today, which: list }) : [],
    folder ? stationPaths(db(), folder.volumeId, file ? joinPath(folder.path, file.name) : folder.path) : [],
    only.projectId ? projectById(db(), only.projectId as never) : null,
    file ? essenceFacts(db(), file.fileId) : null,
    file ? linesOfUnit(db(), file.fileId) : [],
    folder && !file ? mayGo(folder) : null,
    file ? partsUsed(db(), file.fileId) : null,
    folder ? projectNames(db()) : [],
  ]);
  const volumes = on.length > 0 ? all.filter((volume) => on.includes(volume.volumeId)) : all;
  const yearOldBytes = layers.at(-1)!.bytes;
  const narrowed = [
    only.projectId === undefined
      ? null
      : { key: 'project', words: only.projectId === 0 ? 'no project' : (project?.name ?? 'a project') },
    only.kind === undefined ? null : { key: 'kind', words: only.kind },
    only.band === undefined ? null : { key: 'age', words: `changed ${BANDS[only.band]!.name}` },
  ].filter((part) => part !== null);
  return {
    sentence: await sentenceOf({ volumes, folder, scope, only, today, isAll: on.length === 0, yearOldBytes }),
    ...{ folder, file, essence, used, worth, going, paths, rows, units, layers, extreme, list, by, narrowed },
    allProjects,
    readOnly: folder ? (all.find((volume) => volume.volumeId === folder.volumeId)?.readOnly ?? false) : false,
    nowMs: Date.now(),
  };
}
