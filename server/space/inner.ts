// The second level of the map: what lies in the folders that it shows, and of which kind, project or age most of it is. Asked once
// the first level is on the screen, as it sums more rows than a page should wait for.
import { aliasedTable, and, desc, eq, inArray, isNull, sql } from 'drizzle-orm';
import type { FolderId } from '#core/model.ts';
import type { Database } from '../db/connect.ts';
import { folders } from '../db/schema/catalogue.ts';
import { projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { bandOf, belowJoin, belowOf, conditions, oneLevelBelow, type Scope } from './space.ts';

export const COLOURS = ['kind', 'project', 'age'] as const;
export type Colour = (typeof COLOURS)[number];

export interface InnerArea {
  folderId: FolderId;
  name: string;
  bytes: number;
  /** The kind, project or place in BANDS that has most of its bytes; null where nothing of it is counted. */
  most: string | null;
}

export interface Inner {
  colour: Colour;
  /** By the number of the folder of the first level: what lies in it, the largest first. */
  inside: Record<string, InnerArea[]>;
  /** Of each folder of the first level what has most of it. */
  most: Record<string, string>;
  /** Names of the projects that are told. */
  projects: Record<string, string>;
}

const MOST_INNER = 400;

/** @param today in whole days since 1970 UTC, as the rollups count them */
export async function innerAreas(
  db: Database,
  { scope, colour, today }: { scope: Scope; colour: Colour; today: number },
): Promise<Inner> {
  const outer = aliasedTable(folders, 'outer_folders');
  const rows = await db
    .select({
      folderId: folders.id,
      outerId: outer.id,
      volumeId: folders.volumeId,
      path: folders.path,
      name: folders.name,
      bytes: folders.totalBytes,
    })
    .from(folders)
    .innerJoin(outer, eq(outer.id, folders.parentId))
    .innerJoin(volumes, eq(volumes.id, outer.volumeId))
    .where(
      and(
        oneLevelBelow(scope, outer),
        isNull(folders.goneAt),
        isNull(outer.goneAt),
        isNull(volumes.retiredAt),
        sql`folders.total_bytes > 0`,
      ),
    )
    .orderBy(desc(folders.totalBytes))
    .limit(MOST_INNER);
  const depth = 'folder' in scope ? (scope.folder.path === '' ? 0 : scope.folder.path.split('/').length) + 2 : 1;
  const sums = await sumsBelow(db, { scope, colour, today, depth });
  const largest = largestOf(sums);
  const outerOf = await outerFolders(db, scope);
  const inside: Inner['inside'] = {};
  for (const { outerId, volumeId, path, folderId, name, bytes } of rows)
    (inside[outerId] ??= []).push({
      ...{ folderId: folderId as FolderId, name, bytes },
      most: largest.get(`${volumeId} ${path}`) ?? null,
    });
  const ofOuter = largestOf(
    sums.map((row) => ({
      ...row,
      part: row.part
        .split('/')
        .slice(0, depth - 1)
        .join('/'),
    })),
  );
  const most: Inner['most'] = {};
  for (const { id, volumeId, path } of outerOf) {
    const own = ofOuter.get(`${volumeId} ${path}`);
    if (own !== undefined) most[id] = own;
  }
  return {
    colour,
    inside,
    most,
    projects: colour === 'project' ? await namesOf(db, [...largest.values(), ...ofOuter.values()]) : {},
  };
}

interface Sum {
  volumeId: number;
  part: string;
  most: string;
  bytes: number;
}

/** Bytes of each part of the second level, by what colours it. */
async function sumsBelow(
  db: Database,
  { scope, colour, today, depth }: { scope: Scope; colour: Colour; today: number; depth: number },
): Promise<Sum[]> {
  const key = colour === 'project' ? sql`h.project_id` : colour === 'kind' ? sql`h.kind` : bandOf(today);
  const [rows] = (await db.execute(sql`
    ${belowOf(scope)} SELECT d.volume_id AS volumeId, SUBSTRING_INDEX(d.path, '/', ${depth}) AS part, ${key} AS most, SUM(h.bytes) AS bytes
    FROM folder_holdings h JOIN folders d ON d.id = h.folder_id ${belowJoin(scope)}
    WHERE ${conditions(scope, {}, today)} GROUP BY d.volume_id, part, most`)) as unknown as [
    { volumeId: number; part: string; most: string | number; bytes: string }[],
  ];
  return rows.map((row) => ({
    ...row,
    volumeId: Number(row.volumeId),
    most: String(row.most),
    bytes: Number(row.bytes),
  }));
}

/** By volume and path: what has most of its bytes. */
function largestOf(sums: readonly Sum[]): Map<string, string> {
  const bytes = new Map<string, Map<string, number>>();
  for (const { volumeId, part, most, bytes: own } of sums) {
    const key = `${volumeId} ${part}`;
    const of = bytes.get(key) ?? new Map<string, number>();
    bytes.set(key, of.set(most, (of.get(most) ?? 0) + own));
  }
  return new Map([...bytes].map(([key, of]) => [key, [...of].reduce((a, b) => (b[1] > a[1] ? b : a))[0]]));
}

const outerFolders = (db: Database, scope: Scope) =>
  db
    .select({ id: folders.id, volumeId: folders.volumeId, path: folders.path })
    .from(folders)
    .where(and(isNull(folders.goneAt), oneLevelBelow(scope)));

async function namesOf(db: Database, ids: readonly string[]): Promise<Record<string, string>> {
  const wanted = [...new Set(ids)].map(Number).filter((id) => id > 0);
  if (wanted.length === 0) return {};
  const rows = await db
    .select({ id: projects.id, name: projects.name })
    .from(projects)
    .where(inArray(projects.id, wanted));
  return Object.fromEntries(rows.map(({ id, name }) => [String(id), name]));
}
