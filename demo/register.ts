// Registers the demo site through the same services a person's clicks reach, reads it, and sets the two states that
// only a person can know.
import path from 'node:path';
import { renameSync } from 'node:fs';
import { eq, isNull, sql } from 'drizzle-orm';
import { documentPool } from '#disk/documents/documents.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { walkPool } from '#disk/walk/walk.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { byLevel } from '#core/plan/plan.ts';
import { size } from '#core/wording/amounts.ts';
import type { Database } from '#server/db/connect.ts';
import { jobs } from '#server/db/schema/jobs.ts';
import { projects } from '#server/db/schema/projects.ts';
import { runDueRules } from '#server/plan/night.ts';
import { readDocuments } from '#server/readings/read-documents.ts';
import { askToCompare } from '#server/reclaim/twins.ts';
import { addSettingAside } from '#server/steps/set-aside.ts';
import { assess } from '#server/reclaim/assess.ts';
import { readVolume } from '#server/readings/read-volume.ts';
import { nameSite } from '#server/site/site.ts';
import { setHome, takeSuggestedHomes } from '#server/projects/homes.ts';
import { type By, setMount } from '#server/stores/places.ts';
import { currentPlan, runPlan } from '#server/plan/plan.ts';
import { lookAtStores, signIn, signOut } from '#server/stores/reach.ts';
import { changeProject, projectFromTemplate, saveTemplate, templateRows } from '#server/projects/register-project.ts';
import { postRule, setPostRule } from '#server/post/post-rule.ts';
import { setState } from '#server/projects/projects.ts';
import { addCarrier, addVolume } from '#server/stores/stores.ts';
import { archiveAll, askForLent, rot, withWorker } from './archives.ts';
import { leaveNights } from './nights.ts';
import { leaveSnapshots } from './snapshots.ts';
import {
  AWAY,
  CARRIERS,
  FAR,
  LENT,
  LIBRARY_PLACE,
  MOUNTS,
  PLANNED,
  STATES,
  SYSTEM_DRIVES,
  TAPES,
  TEMPLATE,
  VOLUMES,
} from './site.ts';

const DAY_MS = 86_400_000;

export interface Addresses {
  library: string;
  store: string;
  mailPort: number;
}

/** @param at where the house's tape library, its remote store and its mail server answer */
export async function registerSite(
  db: Database,
  root: string,
  { now, at }: { now: Date; at: Addresses },
): Promise<void> {
  const by: By = { who: 'Saltpan House', now };
  await nameSite(db, 'Saltpan House');
  const ids: VolumeId[] = [];
  for (const v of VOLUMES)
    ids.push(
      await addVolume(
        db,
        {
          station: v.station,
          stationRole: v.role,
          name: v.name,
          path: path.join(root, v.folder),
          duty: v.duty,
          quotaBytes: v.quota,
          systemDrive: SYSTEM_DRIVES.includes(v.name),
          linkMbits: v.role === 'server' ? 10_000 : null,
          // All lie in one folder, and stand for disks of their own.
          disk: v.name,
        },
        now,
      ),
    );
  for (const c of CARRIERS)
    await addCarrier(
      db,
      {
        name: c.name,
        kind: 'disk',
        place: c.place,
        settings: { folder: path.join(root, c.folder) },
        capacityBytes: c.capacity,
      },
      now,
    );
  for (const { name, barcode } of TAPES)
    await addCarrier(
      db,
      { name, kind: 'tape', place: LIBRARY_PLACE, settings: { library: at.library, barcode }, capacityBytes: null },
      now,
    );
  const { name, place, ...far } = FAR;
  const settings = { ...far, address: at.store };
  await addCarrier(db, { name, kind: 'remote store', place, settings, capacityBytes: null }, now);
  for (const m of MOUNTS)
    await setMount(
      db,
      { volumeId: ids[VOLUMES.findIndex((v) => v.name === m.volume)]!, station: m.station, path: m.path },
      { who: 'Saltpan House', now },
    );
  const [walking, reading] = [walkPool(), documentPool()];
  try {
    for (const id of ids) await readVolume(db, walking, id, { stop: stopFlag(), now: () => now });
    for (const id of ids) await readDocuments(db, reading, id, { now: () => now });
  } finally {
    await Promise.all([walking.end(), reading.end()]);
  }
  await leavePastSamples(db, Math.floor(now.getTime() / DAY_MS));
  for (const { project, state, days } of STATES) {
    const [row] = await db.select().from(projects).where(eq(projects.name, project));
    if (row) await takeSuggestedHomes(db, row.id as ProjectId, by);
    if (row)
      await setState(db, {
        projectId: row.id as ProjectId,
        state,
        since: new Date(now.getTime() - days * DAY_MS),
        ...by,
      });
  }
  await leaveNights(db, by);
  await plan(db, ids, by);
  await leaveSnapshots(db, root, by);
  await withWorker(db, async () => {
    await work(db, by);
    await rot(db, root, by, () => ended(db));
  });
  // The last act: a disk and a carrier leave the house.
  const away = VOLUMES.findIndex((v) => v.name === AWAY);
  const lent = CARRIERS.find((carrier) => carrier.name === LENT.carrier)!;
  for (const { folder } of [VOLUMES[away]!, lent])
    renameSync(path.join(root, folder), path.join(root, `${folder}-elsewhere`));
  const looking = await signIn(db, { name: 'demo', machine: 'demo' });
  await lookAtStores(db, looking, {});
  await signOut(db, looking);
  await askForLent(db, by);
  await runPlanned(db, by);
  await assess(db);
  const mail = { host: '127.0.0.1', port: at.mailPort, encryption: 'none', from: 'keramion@saltpan.example' };
  await setPostRule(db, postRule.parse({ ...mail, to: ['media@saltpan.example'] }), by);
}

/** The house's template, a project that is only planned, facts of another. */
async function plan(db: Database, ids: readonly VolumeId[], by: By): Promise<void> {
  const idOf = (name: string) => ids[VOLUMES.findIndex((v) => v.name === name)]!;
  await saveTemplate(
    db,
    {
      name: TEMPLATE.name,
      homes: TEMPLATE.homes.map(({ kind, volume, folder }) => ({ kind, volumeId: idOf(volume), folder })),
    },
    by,
  );
  const [template] = await templateRows(db);
  const none = { people: '', privateNotes: '', publicComments: '' };
  await projectFromTemplate(db, { templateId: template!.templateId, facts: { ...PLANNED, ...none }, make: false }, by);
  const all = await db.select().from(projects);
  const named = (name: string) => all.find((project) => project.name === name)!.id as ProjectId;
  await changeProject(
    db,
    named('Lamp Keepers'),
    {
      name: 'Lamp Keepers',
      client: 'Küstenfunk',
      year: 2026,
      people: 'Mara Lindqvist, cut\nIlyas Okon, sound',
      privateNotes: 'Episode 4 may move to spring.',
      publicComments: '',
    },
    by,
  );
  // Its backups go to a disk that is out of the house.
  await setHome(db, named('Harbour Lights'), { kind: 'backup', volumeId: idOf(AWAY), folder: 'harbour-lights' }, by);
}

/** What was done in the house before anybody looks: archives, a rule at night, files that were compared and set aside. */
async function work(db: Database, by: By): Promise<void> {
  await archiveAll(db, by, () => runStaged(db, by));
  // A rule that ran last night, as far as anybody can see.
  const night = new Date(by.now);
  night.setHours(3, 10, 0, 0);
  await runDueRules(db, night);
  await ended(db);
  await askToCompare(db, by);
  await ended(db);
  await addSettingAside(db, {
    params: { what: 'what nobody owns', reason: 'no project owns it', level: 3 },
    chosen: sql`d.path = 'Downloads/old exports'`,
    now: by.now,
  });
  await runStaged(db, by);
}

async function runStaged(db: Database, by: By): Promise<void> {
  await runPlanned(db, by);
  await ended(db);
}

async function runPlanned(db: Database, { who, now }: By): Promise<void> {
  const { planId, version, steps } = await currentPlan(db);
  const outcome = await runPlan(db, { planId: planId!, version, who, now, typed: size(byLevel(steps)[3]) });
  if (!outcome.ok) throw new Error(`The demo plan did not run: ${outcome.trouble.code}.`);
}

async function ended(db: Database): Promise<void> {
  for (;;) {
    const open = await db.select({ id: jobs.id }).from(jobs).where(isNull(jobs.finishedAt));
    if (open.length === 0) return;
    await new Promise((resolve) => setTimeout(resolve, 40));
  }
}

/** Eight weeks of samples, as readings of those days would have left them: what was there is what was changed before. */
async function leavePastSamples(db: Database, today: number): Promise<void> {
  for (let day = today - 56; day < today; day++)
    await db.execute(sql`
      INSERT INTO samples (volume_id, day, project_id, kind, files, bytes)
      SELECT volume_id, ${day}, project_id, kind, SUM(files), SUM(bytes) FROM volume_holdings WHERE day <= ${day} GROUP BY volume_id, project_id, kind`);
  await db.execute(sql`
    INSERT INTO sample_sums (volume_id, day, bytes) SELECT volume_id, day, SUM(bytes) FROM samples WHERE day < ${today} GROUP BY volume_id, day`);
}
