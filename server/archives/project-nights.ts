// Which projects in work the house archives night after night, where to, and what came of the last night.
import { and, eq, inArray, like } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { grouped } from '#core/grouped.ts';
import { wasSince } from '#core/nights/hours.ts';
import { NONE_WRITTEN, type ProjectNight, projectNight, type Written } from '#core/nights/project-nights.ts';
import { counted } from '#core/wording/amounts.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { archiveParts, archives } from '../db/schema/archives.ts';
import { projects } from '../db/schema/projects.ts';
import { site } from '../db/schema/site.ts';
import { carriers } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';

interface By {
  who: string;
  now: Date;
}

const RULE = 'project at night ';
const RAN = 'project ran at night ';
const THINNED = 'project nights thinned ';

export interface KeptNight extends ProjectNight {
  projectId: ProjectId;
  project: string;
  state: string;
  carrier: string;
  written: Written;
  /** When it was last tried, and what came of it. */
  ran: { atMs: number; said: string } | null;
}

/** What is archived at night, of one project or of all. */
export async function projectNights(db: Db, only?: ProjectId): Promise<KeptNight[]> {
  const rows = await db
    .select()
    .from(site)
    .where(only === undefined ? like(site.key, `${RULE}%`) : eq(site.key, `${RULE}${only}`));
  const rules = rows.flatMap(({ key, value }) => {
    const parsed = projectNight.safeParse(JSON.parse(value));
    return parsed.success ? [{ projectId: Number(key.slice(RULE.length)) as ProjectId, ...parsed.data }] : [];
  });
  if (rules.length === 0) return [];
  const ids = rules.map((rule) => rule.projectId);
  const carrierIds = rules.map((rule) => rule.carrierId);
  const lastKeys = ids.map((id) => `${RAN}${id}`);
  const own = await db.select().from(projects).where(inArray(projects.id, ids));
  const on = await db.select().from(carriers).where(inArray(carriers.id, carrierIds));
  const ran = await db.select().from(site).where(inArray(site.key, lastKeys));
  const written = await writtenFor(db, ids);
  return rules.flatMap((rule): KeptNight[] => {
    const project = own.find((one) => one.id === rule.projectId);
    const last = ran.find((one) => one.key === `${RAN}${rule.projectId}`);
    if (!project) return [];
    return [
      {
        ...rule,
        ...{ project: project.name, state: project.state },
        written: written.get(rule.projectId) ?? NONE_WRITTEN,
        carrier: on.find((one) => one.id === rule.carrierId)?.name ?? 'a carrier that is not there any more',
        ran: last ? lastOf(last.value) : null,
      },
    ];
  });
}

/** What nights that are kept have written, apart those that wrote everything anew. */
async function writtenFor(db: Db, projectIds: readonly number[]): Promise<Map<number, Written>> {
  const rows = await db
    .select({ projectId: archives.projectId, id: archives.id, baseId: archives.baseId, bytes: archiveParts.bytes })
    .from(archives)
    .innerJoin(archiveParts, eq(archiveParts.archiveId, archives.id))
    .where(and(inArray(archives.projectId, [...projectIds]), eq(archives.night, true), eq(archives.state, 'sealed')));
  const sum = (own: typeof rows) => ({
    nights: new Set(own.map((row) => row.id)).size,
    bytes: own.reduce((bytes, row) => bytes + row.bytes, 0),
  });
  return new Map(
    [...grouped(rows, (row) => row.projectId)].map(([projectId, own]) => [
      projectId,
      {
        anew: sum(own.filter((row) => row.baseId === null)),
        added: sum(own.filter((row) => row.baseId !== null)),
      },
    ]),
  );
}

/** Null: not any more. What was archived stays. */
export async function setProjectNight(
  db: Database,
  { projectId, rule }: { projectId: ProjectId; rule: ProjectNight | null },
  { who, now }: By,
): Promise<void> {
  await inTransaction(db, async (tx) => {
    const [project] = await tx.select().from(projects).where(eq(projects.id, projectId));
    if (!project) throw new Refused('There is no such project. Nothing was saved.');
    const [before] = await projectNights(tx, projectId);
    const key = `${RULE}${projectId}`;
    let says = 'not archived at night';
    if (rule === null) await tx.delete(site).where(eq(site.key, key));
    else {
      const [carrier] = await tx.select().from(carriers).where(eq(carriers.id, rule.carrierId));
      if (!carrier) throw new Refused('There is no such carrier. Nothing was saved; choose another.');
      const value = JSON.stringify(rule);
      await tx.insert(site).values({ key, value }).onDuplicateKeyUpdate({ set: { value } });
      says = `archived each night on ${carrier.name}, everything anew every ${counted(rule.anewDays, 'day')}${thinWords(rule)}${rule.mostMBps > 0 ? `, ${rule.mostMBps} MB/s at most` : ''}`;
    }
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'nights of a project changed', projectId, files: 0, bytes: 0, held: 0 },
      title: `${project.name}: ${says}`,
      ...{ facts: { before: ruleIn(before), after: rule }, itemsSha256: itemsHash([]) },
    });
  });
}

/** ", after 14 days one night a week kept, after 90 days one night a month kept, nights let go after 365 days" */
const thinWords = ({ allDays, weeklyDays, keepDays }: ProjectNight): string =>
  [
    allDays > 0 && `after ${counted(allDays, 'day')} one night a week kept`,
    weeklyDays > 0 && `after ${counted(weeklyDays, 'day')} one night a month kept`,
    keepDays > 0 && `nights let go after ${counted(keepDays, 'day')}`,
  ]
    .filter((words) => words !== false)
    .map((words) => `, ${words}`)
    .join('');

const ruleIn = (kept: KeptNight | undefined): ProjectNight | null => (kept ? projectNight.parse(kept) : null);

export async function nightOf(db: Db, projectId: ProjectId): Promise<ProjectNight | null> {
  return ruleIn((await projectNights(db, projectId))[0]);
}

/** Takes a project's night, once however many workers look, for whoever asks; false where it was taken already. */
export const takeNight = (db: Database, projectId: ProjectId, { sinceMs, now }: Turn): Promise<boolean> =>
  takeOnce(db, `${RAN}${projectId}`, { sinceMs, ran: { atMs: now.getTime(), said: 'It is being looked through.' } });

/** The same of looking which of its nights may be let go. */
export const takeThinning = (db: Database, projectId: ProjectId, { sinceMs, now }: Turn): Promise<boolean> =>
  takeOnce(db, `${THINNED}${projectId}`, { sinceMs, ran: { atMs: now.getTime(), said: '' } });

/** Since when the hours are on. */
interface Turn {
  sinceMs: number;
  now: Date;
}

function takeOnce(db: Database, key: string, { sinceMs, ran }: { sinceMs: number; ran: Ran }): Promise<boolean> {
  return inTransaction(db, async (tx) => {
    // Two who ask at once wait for each other here.
    await tx.insert(site).values({ key, value: NEVER }).onDuplicateKeyUpdate({ set: { key } });
    const [row] = await tx.select().from(site).where(eq(site.key, key)).for('update');
    if (wasSince(lastOf(row!.value).atMs, { sinceMs, now: ran.atMs })) return false;
    await tx
      .update(site)
      .set({ value: JSON.stringify(ran) })
      .where(eq(site.key, key));
    return true;
  });
}

const QUIET = 'project quiet at night ';

/** How the house stood when a project was last looked through whole, and the night that has all of it as it was then. */
export interface Quiet {
  mark: string;
  folder: string;
}

export async function quietOf(db: Db, projectId: ProjectId): Promise<Quiet | null> {
  const [row] = await db
    .select()
    .from(site)
    .where(eq(site.key, `${QUIET}${projectId}`));
  return row ? (JSON.parse(row.value) as Quiet) : null;
}

export const noteQuiet = (db: Db, projectId: ProjectId, quiet: Quiet): Promise<void> =>
  keep(db, `${QUIET}${projectId}`, quiet);

type Ran = NonNullable<KeptNight['ran']>;
const NEVER = JSON.stringify({ atMs: 0, said: '' } satisfies Ran);
const lastOf = (value: string) => JSON.parse(value) as Ran;

export const noteRan = (db: Db, projectId: ProjectId, ran: Ran): Promise<void> => keep(db, `${RAN}${projectId}`, ran);

async function keep(db: Db, key: string, what: Quiet | Ran): Promise<void> {
  const value = JSON.stringify(what);
  await db.insert(site).values({ key, value }).onDuplicateKeyUpdate({ set: { value } });
}
