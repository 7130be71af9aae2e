// Choosing what moves home or is parked, with every file that belongs to its unit, and where each goes. Touches no file.
import { and, eq, inArray, isNull, type SQL, sql } from 'drizzle-orm';
import { foldPath, placeMoves } from '#core/homes/moves.ts';
import { type Home, isAtHome, isParked } from '#core/homes/homes.ts';
import type { FileId, Kind, ProjectId, VolumeId } from '#core/model.ts';
import { moveHome } from '#core/steps/move-home.ts';
import { type PARKED, parkMedia } from '#core/steps/park.ts';
import { kindsInFolder } from '#core/kinds/kinds.ts';
import { folderOf, joinPath, nameOf } from '#core/paths.ts';
import { unitsOf } from '#core/units/units.ts';
import { placeOfFile } from '#disk/paths.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { MEDIA_KINDS, usedMedia } from '../db/naming.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { stepItems } from '../db/schema/plans.ts';
import { claims, projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { folderHoldings } from '../db/schema/sums.ts';
import { Refused } from '../runtime/refused.ts';
import { homesOf } from '../projects/homes.ts';
import { parkedPlaces } from '../readings/claims.ts';
import { currentRules, rulesOfVolume } from '../readings/kinds.ts';
import { type Added, addFileStepIn, filesInPlans } from './adding.ts';

/** A file that gets another place. */
export interface Moved {
  id: number;
  fileId: FileId;
  volumeId: VolumeId;
  volume: string;
  folderId: number;
  folder: string;
  name: string;
  path: string;
  rawPath: Buffer | null;
  sizeBytes: number;
  modifiedUs: number;
  device: number | null;
  inode: number | null;
  changedUs: number | null;
  kind: Kind;
  projectId: number | null;
}

/** Adds the moving home of strays of one kind. `parked`: also of what was parked elsewhere on purpose. */
export const addMoveHome = (db: Database, asked: MovingHome): Promise<Added> =>
  inTransaction(db, (tx) => addMoveHomeIn(tx, asked));

export interface MovingHome {
  projectId: ProjectId;
  kind: Kind;
  now: Date;
  parked?: boolean;
}

/** The same inside a transaction. */
export async function addMoveHomeIn(
  tx: Transaction,
  { projectId, kind, now, parked = false }: MovingHome,
): Promise<Added> {
  const project = await projectOf(tx, projectId);
  const { home, volume } = await homeFor(tx, project, kind);
  const params = { projectId, project: project.name, fileKind: kind, ...placeOf(home) };
  return addFileStepIn(tx, { kind: moveHome, params, names: { volume }, now }, async (_tx, stepId) => {
    const there = parked ? [] : await parkedPlaces(tx, [projectId]);
    const isStray = (at: InFolder) => !isAtHome(at, home) && !isParked({ projectId, ...at }, there);
    const isOne = (file: Moved) => file.kind === kind && file.projectId === projectId;
    const strays = await withUnits(tx, { projectId, kinds: [kind], isWanted: isStray, isOne });
    await insertMoves(tx, { stepId, projectId, moved: strays, home });
    return `All ${kind} of ${project.name} is at home, or in a plan already. Nothing was added.`;
  });
}

export interface Parking {
  projectId: ProjectId;
  /** Unused: what no timeline of any project uses. */
  which: (typeof PARKED)[number];
  volumeId: VolumeId;
  now: Date;
}

/** Adds the parking of a project's media on another volume, in a folder of its own there. */
export const addParking = (db: Database, asked: Parking): Promise<Added> =>
  inTransaction(db, (tx) => addParkingIn(tx, asked));

async function addParkingIn(tx: Transaction, { projectId, which, volumeId, now }: Parking): Promise<Added> {
  const project = await projectOf(tx, projectId);
  const [volume] = await tx.select().from(volumes).where(eq(volumes.id, volumeId));
  if (!volume || volume.retiredAt) throw new Refused('There is no such volume in use. Nothing was added.');
  if (volume.duty === 'cache')
    throw new Refused(`${volume.name} is meant for caches, which programs clear. Choose another. Nothing was added.`);
  const folder = `parked/${project.slug}`;
  const params = { projectId, project: project.name, which, volumeId, folder };
  return addFileStepIn(tx, { kind: parkMedia, params, names: { volume: volume.name }, now }, async (_tx, stepId) => {
    const used = which === 'unused' ? await usedOwn(tx, projectId) : new Set<number>();
    const moved = await withUnits(tx, {
      projectId,
      kinds: MEDIA_KINDS,
      isWanted: (at) => at.volumeId !== volumeId,
      isOne: (file) => isMedia(file.kind) && file.projectId === projectId,
      isOut: (file) => used.has(file.fileId),
    });
    await insertMoves(tx, { stepId, projectId, moved, home: { volumeId, folder }, keepsKinds: true });
    return `${project.name} has no ${which === 'all' ? '' : 'unused '}media beside that volume, or they are in a plan already. Nothing was added.`;
  });
}

export async function projectOf(db: Db, projectId: ProjectId) {
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  if (!project) throw new Refused('There is no such project. Nothing was added.');
  return { ...project, id: project.id as ProjectId };
}

const placeOf = ({ volumeId, folder }: InFolder): InFolder => ({ volumeId, folder });

/** Where a project's files of a kind belong, and the name of that volume. Throws Refused where it is nowhere in use. */
export async function homeFor(
  db: Db,
  project: { id: ProjectId; name: string },
  kind: Kind,
): Promise<{ home: Home; volume: string }> {
  const home = (await homesOf(db, project.id)).find((own) => own.kind === kind);
  if (!home) throw new Refused(`${project.name} has no home for ${kind}. Set one first. Nothing was added.`);
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, home.volumeId));
  if (!volume || volume.retiredAt)
    throw new Refused(`The home of its ${kind} is on a volume that is retired. Set another. Nothing was added.`);
  return { home, volume: volume.name };
}

const isMedia = (kind: Kind) => (MEDIA_KINDS as readonly Kind[]).includes(kind);

async function usedOwn(tx: Transaction, projectId: ProjectId): Promise<Set<number>> {
  const [rows] = (await tx.execute(usedMedia([projectId]))) as unknown as [{ id: number }[]];
  return new Set(rows.map((row) => Number(row.id)));
}

/** Items of a step, each with the place it gets below the new home. What another plan has is left to it. */
export async function insertMoves(
  tx: Transaction,
  {
    stepId,
    projectId,
    moved,
    home,
    keepsKinds = false,
  }: {
    stepId: number;
    projectId: ProjectId;
    moved: readonly Moved[];
    home: InFolder;
    /** The step sees to it that they stay of their kinds, whatever the rules say of the new place. */
    keepsKinds?: boolean;
  },
): Promise<void> {
  const busy = await filesInPlans(
    tx,
    moved.map((file) => file.fileId),
  );
  const free = moved.filter((file) => !busy.has(file.fileId));
  const taken = await takenBelow(tx, home);
  const places = placeMoves({
    strays: free,
    claims: (await tx.select().from(claims).where(eq(claims.projectId, projectId))).map((claim) => ({
      volumeId: claim.volumeId as VolumeId,
      folder: claim.folder,
    })),
    home: home.folder,
    taken: (path) => taken.has(foldPath(path)),
  });
  if (!keepsKinds) await refuseLosingKind(tx, { moved: free, places, volumeId: home.volumeId });
  for (const some of inSlices(free, 1000))
    await tx.insert(stepItems).values(
      some.map((file) => ({
        stepId,
        volumeId: file.volumeId,
        fileId: file.fileId,
        path: file.path,
        rawPath: file.rawPath,
        sizeBytes: file.sizeBytes,
        modifiedUs: file.modifiedUs,
        device: file.device,
        inode: file.inode,
        changedUs: file.changedUs,
        targetPath: places.get(file.fileId)!,
      })),
    );
}

/** Kinds of which nobody can make another. */
const IRREPLACEABLE: readonly Kind[] = ['source', 'audio', 'document', 'delivery'];
/** Kinds whose files may go for good. */
const MADE_AGAIN: readonly Kind[] = ['cache', 'render', 'proxy'];

/** What cannot be made again must not become what can be, by the rules of kinds for its new place. */
async function refuseLosingKind(
  tx: Transaction,
  { moved, places, volumeId }: { moved: readonly Moved[]; places: ReadonlyMap<FileId, string>; volumeId: VolumeId },
): Promise<void> {
  const [volume] = await tx.select().from(volumes).where(eq(volumes.id, volumeId));
  const rules = await rulesOfVolume(tx, volumeId, await currentRules(tx));
  for (const file of moved) {
    if (!IRREPLACEABLE.includes(file.kind)) continue;
    const place = places.get(file.fileId)!;
    const kind = kindsInFolder(rules, folderOf(place), volume!.duty)(nameOf(place));
    if (MADE_AGAIN.includes(kind))
      throw new Refused(
        `By the rules for kinds ${place} on ${volume!.name} would count as a ${kind}, which may go for good. Set the home elsewhere, or change the rules in Settings. Nothing was added.`,
      );
  }
}

export interface InFolder {
  volumeId: VolumeId;
  folder: string;
}

interface Wanted {
  projectId: ProjectId;
  kinds: readonly Kind[];
  /** Of the folders that hold such kinds of the project: which are looked into. */
  isWanted: (at: InFolder) => boolean;
  /** One such file brings its whole unit. */
  isOne: (file: Moved) => boolean;
  /** One such file keeps its whole unit where it is. */
  isOut?: (file: Moved) => boolean;
}

/** Files of a project, and beside each what belongs to its unit and to the same project or to none. */
async function withUnits(
  tx: Transaction,
  { projectId, kinds, isWanted, isOne, isOut = () => false }: Wanted,
): Promise<Moved[]> {
  const holding = await tx
    .selectDistinct({ folderId: folders.id, volumeId: folders.volumeId, folder: folders.path })
    .from(folderHoldings)
    .innerJoin(folders, eq(folders.id, folderHoldings.folderId))
    .where(and(eq(folderHoldings.projectId, projectId), inArray(folderHoldings.kind, [...kinds])));
  const away = holding.filter((row) => isWanted({ volumeId: row.volumeId as VolumeId, folder: row.folder }));
  const found: Moved[] = [];
  for (const some of inSlices(away, 200)) {
    const inFolders = inArray(
      files.folderId,
      some.map((row) => row.folderId),
    );
    const own = sql`COALESCE(${files.projectId}, ${projectId}) = ${projectId}`;
    for (const unit of unitsWithin(await filesWhere(tx, and(inFolders, own)!)))
      if (unit.some(isOne) && !unit.some(isOut)) found.push(...unit);
  }
  return found;
}

/** Files of several folders, unit by unit: no unit goes beyond its folder. */
export function unitsWithin(all: readonly Moved[]): Moved[][] {
  const byFolder = new Map<number, Moved[]>();
  for (const file of all) {
    const own = byFolder.get(file.folderId);
    if (own) own.push(file);
    else byFolder.set(file.folderId, [file]);
  }
  return [...byFolder.values()].flatMap((own) => unitsOf(own).map((unit): Moved[] => unit.files));
}

/** Files that are there, with all that says which each is. */
export async function filesWhere(tx: Transaction, which: SQL): Promise<Moved[]> {
  const rows = await tx
    .select({
      file: files,
      folder: folders.path,
      rawFolder: folders.rawPath,
      volume: volumes.name,
      device: volumes.device,
    })
    .from(files)
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .where(and(which, isNull(files.goneAt)));
  return rows.map(({ file, folder, rawFolder, volume, device }) => ({
    ...file,
    fileId: file.id as FileId,
    volumeId: file.volumeId as VolumeId,
    volume,
    device,
    folder,
    path: joinPath(folder, file.name),
    rawPath: placeOfFile({ ...file, folder, rawFolder }).raw,
  }));
}

/** Every path the home holds, in the form in which names collide. */
async function takenBelow(tx: Transaction, home: InFolder): Promise<Set<string>> {
  const inside =
    home.folder === ''
      ? sql`TRUE`
      : sql`(${folders.path} = ${home.folder} OR LEFT(${folders.path}, CHAR_LENGTH(${`${home.folder}/`})) = ${`${home.folder}/`})`;
  const rows = await tx
    .select({ folder: folders.path, name: files.name })
    .from(folders)
    .innerJoin(files, eq(files.folderId, folders.id))
    .where(and(eq(folders.volumeId, home.volumeId), isNull(files.goneAt), inside));
  const all = new Set<string>();
  for (const row of rows) all.add(foldPath(joinPath(row.folder, row.name)));
  for (const row of rows) all.add(foldPath(row.folder));
  return all;
}
