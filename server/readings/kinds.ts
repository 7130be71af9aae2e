// The rules by which files get their kinds: kept for the site, changed by a person who has seen what the change does.
// The reader asks for them; the settings page previews and saves them; a job gives known files their new kinds.
import { xxh3 } from '@node-rs/xxhash';
import { desc, eq, isNull } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { DEFAULT_RULES, type KindRule, kindsInFolder, rulesInFolder } from '#core/kinds/kinds.ts';
import type { Duty, JobId, Kind } from '#core/model.ts';
import { type Database, inTransaction, type Db } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { folders } from '../db/schema/catalogue.ts';
import { keptKinds } from '../db/schema/projects.ts';
import { site } from '../db/schema/site.ts';
import { volumes } from '../db/schema/stores.ts';
import { enqueue, type StoreNeed } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { type By, placeReceipt } from '../stores/places.ts';

const KEY = 'kind rules';

export async function currentRules(db: Pick<Database, 'select'>): Promise<readonly KindRule[]> {
  const [row] = await db.select().from(site).where(eq(site.key, KEY));
  return row ? (JSON.parse(row.value) as KindRule[]) : DEFAULT_RULES;
}

/** All rules of a volume: those of folders whose files keep their kinds come first. */
export async function rulesOfVolume(
  db: Pick<Database, 'select'>,
  volumeId: number,
  house: readonly KindRule[],
): Promise<readonly KindRule[]> {
  const kept = await db.select().from(keptKinds).where(eq(keptKinds.volumeId, volumeId)).orderBy(desc(keptKinds.id));
  return [...kept.flatMap((row) => row.rules), ...house];
}

/** A mark of a set of rules: what was previewed can be told from what is saved. */
export const markOf = (rules: readonly KindRule[]): string => xxh3.xxh128(JSON.stringify(rules)).toString(16);

export interface KindChange {
  from: Kind;
  to: Kind;
  files: number;
  bytes: number;
  example: string;
}

interface Differing {
  folderId: number;
  path: string;
  kindOf: (name: string) => Kind;
}

/** Folders in which other rules are open than before: only their files can get another kind. */
async function* differingFolders(
  db: Database,
  before: readonly KindRule[] | null,
  after: readonly KindRule[],
): AsyncGenerator<Differing[]> {
  for (const volume of await db.select({ id: volumes.id, duty: volumes.duty }).from(volumes)) {
    const all = await db
      .select({ folderId: folders.id, path: folders.path })
      .from(folders)
      .where(eq(folders.volumeId, volume.id));
    const duty = volume.duty as Duty;
    const [was, is] = [
      before && (await rulesOfVolume(db, volume.id, before)),
      await rulesOfVolume(db, volume.id, after),
    ];
    for (const some of inSlices(all, 400))
      yield some
        .filter(
          ({ path }) =>
            was === null ||
            JSON.stringify(rulesInFolder(was, path, duty)) !== JSON.stringify(rulesInFolder(is, path, duty)),
        )
        .map((folder) => ({ ...folder, kindOf: kindsInFolder(is, folder.path, duty) }));
  }
}

interface FileOfKind extends RowDataPacket {
  id: number;
  folderId: number;
  name: string;
  kind: Kind;
  bytes: number;
}

async function filesOf(db: Database, folderIds: readonly number[]): Promise<FileOfKind[]> {
  if (folderIds.length === 0) return [];
  const [rows] = await db.$pool.query<FileOfKind[]>(
    'SELECT id, folder_id AS folderId, name, kind, size_bytes AS bytes FROM files WHERE folder_id IN (?) AND gone_at IS NULL',
    [folderIds],
  );
  return rows;
}

/** What other rules would change, the most bytes first. Changes nothing. */
export async function previewRules(db: Database, rules: readonly KindRule[]): Promise<KindChange[]> {
  const sums = new Map<string, KindChange>();
  for await (const some of differingFolders(db, await currentRules(db), rules)) {
    const kinds = new Map(some.map((folder) => [folder.folderId, folder]));
    for (const file of await filesOf(db, [...kinds.keys()])) {
      const folder = kinds.get(Number(file.folderId))!;
      const to = folder.kindOf(file.name);
      if (to === file.kind) continue;
      const key = `${file.kind} ${to}`;
      const example = folder.path === '' ? file.name : `${folder.path}/${file.name}`;
      const sum = sums.get(key) ?? { from: file.kind, to, files: 0, bytes: 0, example };
      sum.files++;
      sum.bytes += Number(file.bytes);
      sums.set(key, sum);
    }
  }
  return [...sums.values()].sort((a, b) => b.bytes - a.bytes);
}

/** What the catalogue says of every volume in use: work that changes it keeps readings out. */
async function everyCatalogue(tx: Db): Promise<StoreNeed[]> {
  const all = await tx.select({ id: volumes.id }).from(volumes).where(isNull(volumes.retiredAt));
  return all.map(({ id }) => ({ store: 'catalogue', id, mode: 'change' }));
}

/** Keeps the rules that were previewed, with a receipt, and puts in the work that gives known files their new kinds. */
export async function saveRules(
  db: Database,
  { rules, previewed }: { rules: readonly KindRule[]; previewed: string },
  by: By,
): Promise<JobId> {
  if (previewed !== markOf(rules))
    throw new Refused(
      'These rules were changed after they were looked at. Look at what they change first. Nothing was saved.',
    );
  return inTransaction(db, async (tx) => {
    const value = JSON.stringify(rules);
    await tx.insert(site).values({ key: KEY, value }).onDuplicateKeyUpdate({ set: { value } });
    await placeReceipt(tx, by, 'kinds changed', `Rules for kinds of files changed, ${rules.length} rules`);
    return enqueue(
      tx,
      {
        kind: 'apply kinds',
        title: 'Give files their kinds by the new rules',
        params: {},
        who: by.who,
        stores: await everyCatalogue(tx),
      },
      by.now,
    );
  });
}

/** The folders whose files have other kinds than the rules say, with the files to change. Walked by the job. */
export async function* wrongKinds(
  db: Database,
): AsyncGenerator<{ looked: number; changes: { id: number; folderId: number; kind: Kind }[] }> {
  for await (const some of differingFolders(db, null, await currentRules(db))) {
    const kinds = new Map(some.map((folder) => [folder.folderId, folder.kindOf]));
    const rows = await filesOf(db, [...kinds.keys()]);
    yield {
      looked: rows.length,
      changes: rows
        .map((file) => ({
          id: Number(file.id),
          folderId: Number(file.folderId),
          was: file.kind,
          kind: kinds.get(Number(file.folderId))!(file.name),
        }))
        .filter((file) => file.was !== file.kind),
    };
  }
}
