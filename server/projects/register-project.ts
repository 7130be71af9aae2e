// Projects known by hand: registered from a folder, or new from a template; their facts; their homes made on disk. Each
// change leaves a receipt. Projects found in documents come by themselves (jobs/read-documents.ts).
import { and, eq, inArray, isNull } from 'drizzle-orm';
import { homesFrom, KINDS_WITH_HOMES, type TemplateHome } from '#core/homes/homes.ts';
import { slugOf } from '#core/homes/owners.ts';
import type { FolderId, JobId, ProjectId, ProjectOrigin, ProjectState, VolumeId } from '#core/model.ts';
import { nameOf } from '#core/paths.ts';
import { type Database, inTransaction, sqlCode, type Transaction } from '../db/connect.ts';
import { folders } from '../db/schema/catalogue.ts';
import { claims, homes, projects, projectStates, templates } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { enqueue } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { applyClaims, claim, updateHomeClaims } from '../readings/claims.ts';
import { homesOf } from './homes.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { type By, placeReceipt } from '../stores/places.ts';
import { recomputeProjectSums } from '../readings/project-sums.ts';

export interface ProjectFacts {
  name: string;
  client: string;
  year: number | null;
  people: string;
  privateNotes: string;
  publicComments: string;
}

async function addProject(
  tx: Transaction,
  { facts, origin, state }: { facts: ProjectFacts; origin: ProjectOrigin; state: ProjectState },
  { who, now }: By,
): Promise<ProjectId> {
  const slug = slugOf(facts.name);
  if (slug === '')
    throw new Refused(`"${facts.name}" has no letter or digit in it. Give another title. Nothing was added.`);
  const [taken] = await tx.select({ name: projects.name }).from(projects).where(eq(projects.slug, slug));
  if (taken)
    throw new Refused(
      `There is a project ${taken.name} already, and the two could not be told apart. Nothing was added.`,
    );
  const [{ insertId }] = await tx.insert(projects).values({ ...facts, slug, origin, state, stateSince: now });
  await tx.insert(projectStates).values({ projectId: insertId, state, since: now });
  await writeReceipt(tx, {
    at: now,
    who,
    action: 'project added',
    title: `${facts.name} registered ${origin === 'folder' ? 'from its folder' : 'from a template'}`,
    projectId: insertId,
    files: 0,
    bytes: 0,
    held: 0,
    facts: { client: facts.client, year: facts.year },
    itemsSha256: itemsHash([]),
  });
  return insertId as ProjectId;
}

/** Registers a project whose files lie in a folder: it claims the folder, and every other that is named like it. */
export async function projectFromFolder(
  db: Database,
  { folderId, facts }: { folderId: FolderId; facts: ProjectFacts },
  by: By,
): Promise<ProjectId> {
  const { projectId, volumeId } = await inTransaction(db, async (tx) => {
    const [folder] = await tx
      .select()
      .from(folders)
      .where(and(eq(folders.id, folderId), isNull(folders.goneAt)));
    if (!folder) throw new Refused('That folder is not there any more. Nothing was added.');
    if (folder.path === '')
      throw new Refused('A whole volume cannot be one project. Choose a folder. Nothing was added.');
    const [owned] = await tx
      .select({ name: projects.name })
      .from(claims)
      .innerJoin(projects, eq(projects.id, claims.projectId))
      .where(and(eq(claims.volumeId, folder.volumeId), eq(claims.folder, folder.path)));
    if (owned) throw new Refused(`${folder.path} belongs to ${owned.name} already. Nothing was added.`);
    const projectId = await addProject(tx, { facts, origin: 'folder', state: 'in work' }, by);
    const volumeId = folder.volumeId as VolumeId;
    await claim(tx, { projectId, volumeId, folder: folder.path, reason: 'registered from this folder' });
    return { projectId, volumeId };
  });
  await applyClaims(db, volumeId);
  await recomputeProjectSums(db);
  return projectId;
}

/** A new project with the homes of a template. `make`: their folders are made on disk as soon as a worker gets to it. */
export async function projectFromTemplate(
  db: Database,
  { templateId, facts, make }: { templateId: number; facts: ProjectFacts; make: boolean },
  by: By,
): Promise<{ projectId: ProjectId; jobId: JobId | null }> {
  const projectId = await inTransaction(db, async (tx) => {
    const [template] = await tx.select().from(templates).where(eq(templates.id, templateId));
    if (!template) throw new Refused('There is no such template. Nothing was added.');
    const id = await addProject(tx, { facts, origin: 'template', state: 'planned' }, by);
    const year = facts.year ?? by.now.getUTCFullYear();
    for (const home of homesFrom(template.homes, { slug: slugOf(facts.name), year }))
      await tx.insert(homes).values({ projectId: id, ...home });
    await updateHomeClaims(tx, id);
    return id;
  });
  return { projectId, jobId: make ? await makeHomes(db, projectId, by) : null };
}

/** Puts in the work that makes the folders of a project's homes. */
export async function makeHomes(db: Database, projectId: ProjectId, by: By): Promise<JobId> {
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  const wanted = (await homesOf(db, projectId)).filter((home) => home.folder !== '');
  if (!project || wanted.length === 0) throw new Refused('It has no home with a folder of its own. Nothing was made.');
  const [readOnly] = await db
    .select({ name: volumes.name })
    .from(volumes)
    .where(
      and(
        inArray(
          volumes.id,
          wanted.map((home) => home.volumeId),
        ),
        eq(volumes.readOnly, true),
      ),
    );
  if (readOnly) throw new Refused(`${readOnly.name} can only be read, so no folder was made.`);
  return inTransaction(db, (tx) =>
    enqueue(
      tx,
      {
        kind: 'make folders',
        title: `Make the homes of ${project.name}`,
        params: { projectId, folders: wanted.map(({ volumeId, folder }) => ({ volumeId, folder })) },
        who: by.who,
        stores: wanted.map((home) => ({ store: 'volume' as const, id: home.volumeId, mode: 'change' as const })),
      },
      by.now,
    ),
  );
}

/** Keeps the facts of a project. Its short name follows its title only where nothing depends on it yet. */
export async function changeProject(db: Database, projectId: ProjectId, facts: ProjectFacts, by: By): Promise<void> {
  await inTransaction(db, async (tx) => {
    const [project] = await tx.select().from(projects).where(eq(projects.id, projectId)).for('update');
    if (!project) throw new Refused('There is no such project. Nothing was changed.');
    const changed = (Object.keys(facts) as (keyof ProjectFacts)[]).filter((key) => facts[key] !== project[key]);
    if (changed.length === 0) return;
    if (slugOf(facts.name) === '') throw new Refused('The title has no letter or digit in it. Nothing was changed.');
    await tx.update(projects).set(facts).where(eq(projects.id, projectId));
    await writeReceipt(tx, {
      at: by.now,
      who: by.who,
      action: 'project changed',
      title: `${project.name}: ${changed.map((key) => FACT_WORDS[key]).join(', ')} changed`,
      projectId,
      files: 0,
      bytes: 0,
      held: 0,
      // Notes stay out of the ledger: it can be shown to anybody.
      facts: { changed },
      itemsSha256: itemsHash([]),
    });
  });
}

const FACT_WORDS: Record<keyof ProjectFacts, string> = {
  name: 'title',
  client: 'client',
  year: 'year',
  people: 'people',
  privateNotes: 'private notes',
  publicComments: 'public comments',
};

export interface TitleTrouble {
  what: 'folder' | 'document';
  name: string;
}

/** Folders and documents of a project that are named otherwise than it is called. */
export async function titleTroubles(
  db: Database,
  project: { id: ProjectId; name: string },
  documentNames: readonly string[],
): Promise<TitleTrouble[]> {
  const slug = slugOf(project.name);
  const own = await db.select().from(claims).where(eq(claims.projectId, project.id));
  const close = (name: string) => {
    const other = slugOf(name);
    return other.includes(slug) || slug.includes(other);
  };
  return [
    ...own
      .filter((row) => !row.reason.startsWith('its home') && !close(nameOf(row.folder)))
      .map((row) => ({ what: 'folder' as const, name: row.folder })),
    ...documentNames
      .filter((name) => !close(name.replace(/\.[^.]+$/, '')))
      .map((name) => ({ what: 'document' as const, name })),
  ];
}

export interface TemplateRow {
  templateId: number;
  name: string;
  homes: TemplateHome[];
}

export async function templateRows(db: Database): Promise<TemplateRow[]> {
  const rows = await db.select().from(templates).orderBy(templates.name);
  return rows.map((row) => ({ templateId: row.id, name: row.name, homes: row.homes }));
}

/** Keeps a template under its name, new or changed; without homes it is taken away. */
export async function saveTemplate(
  db: Database,
  { name, homes: wanted }: { name: string; homes: readonly TemplateHome[] },
  by: By,
): Promise<void> {
  for (const home of wanted) {
    if (!KINDS_WITH_HOMES.includes(home.kind))
      throw new Refused(`Files of the kind ${home.kind} have no home. Nothing was saved.`);
    const [volume] = await db.select().from(volumes).where(eq(volumes.id, home.volumeId));
    if (!volume || volume.retiredAt) throw new Refused('A volume of the template is not in use. Nothing was saved.');
  }
  try {
    await inTransaction(db, async (tx) => {
      if (wanted.length === 0) await tx.delete(templates).where(eq(templates.name, name));
      else
        await tx
          .insert(templates)
          .values({ name, homes: [...wanted] })
          .onDuplicateKeyUpdate({ set: { homes: [...wanted] } });
      await placeReceipt(
        tx,
        by,
        'template changed',
        `Template ${name} ${wanted.length === 0 ? 'taken away' : 'saved'}`,
      );
    });
  } catch (error) {
    if (sqlCode(error) === 'ER_DUP_ENTRY')
      throw new Refused('Somebody saved a template of this name just now. Nothing was saved.');
    throw error;
  }
}

/** The template that a project's homes would make: its short name becomes {project}. */
export async function templateFrom(db: Database, projectId: ProjectId, name: string, by: By): Promise<void> {
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  const own = await homesOf(db, projectId);
  if (!project || own.length === 0) throw new Refused('It has no homes to make a template from. Nothing was saved.');
  const names = new Set([
    project.slug,
    project.slug.replaceAll('-', '_'),
    project.slug.replaceAll('-', ' '),
    project.name,
  ]);
  await saveTemplate(
    db,
    {
      name,
      homes: own.map((home) => ({
        ...home,
        folder: home.folder
          .split('/')
          .map((segment) => (names.has(segment) || slugOf(segment) === project.slug ? '{project}' : segment))
          .join('/'),
      })),
    },
    by,
  );
}
