// What a program has open is told before the plan runs, with the program and the machine, and stays where it is when it runs.
import { type ChildProcess, spawn } from 'node:child_process';
import { existsSync, utimesSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import type { FolderId, PlanId } from '#core/model.ts';
import { findingWords } from '#core/wording/findings.ts';
import { TestSite, until } from '#test/site.ts';
import { folders } from '../db/schema/catalogue.ts';
import { stepItems } from '../db/schema/plans.ts';
import { openNow } from '../db/schema/stores.ts';
import { draftItems, leaveOut } from '../plan/items.ts';
import { currentPlan, findingsOf } from '../plan/plan.ts';
import { addCacheRemoval } from '../steps/remove-caches.ts';
import { noteOpenFiles } from './open-now.ts';
import { lookAtStores, signIn, signOut } from './reach.ts';

let site: TestSite;
let program: ChildProcess | null = null;
beforeEach(async () => void (site = await TestSite.open()));
afterEach(async () => {
  program?.kill();
  program = null;
  await site.close();
});

async function planned() {
  const media = await site.volume('media');
  for (const name of ['a', 'b', 'c']) utimesSync(site.put(`media/peaks/${name}.frm`), 1e9, 1e9);
  await site.read(media);
  const all = await site.db.select({ id: folders.id }).from(folders);
  await addCacheRemoval(site.db, {
    folderIds: all.map((folder) => folder.id as FolderId),
    cutDay: 20_000,
    now: new Date(),
  });
}
/** A program of somebody's that has the file open. */
async function open(file: string) {
  const at = path.join(site.root, file);
  program = spawn('tail', ['-f', at], { stdio: ['ignore', 'pipe', 'ignore'] });
  await new Promise((resolve) => program!.stdout!.once('data', resolve));
}
const found = async () =>
  (await findingsOf(site.db, (await currentPlan(site.db)).steps)).filter((finding) => finding.code === 'open now');

test('an open file is told with its program and machine, can be left out, and stays when the plan runs', async () => {
  await planned();
  await open('media/peaks/b.frm');
  const workerId = await signIn(site.db, { name: 'looking', machine: os.hostname() });
  const { volumes } = await lookAtStores(site.db, workerId, {});
  await noteOpenFiles(site.db, workerId, volumes);
  const [one] = await found();
  expect(one).toMatchObject({
    weight: 'hold',
    facts: { files: 1, example: 'peaks/b.frm', programs: 'tail', machines: os.hostname(), about: 'open' },
  });
  expect(findingWords(one!, 0).what).toBe(`1 file open now in tail on ${os.hostname()}`);
  const [step] = (await currentPlan(site.db)).steps;
  const items = await draftItems(site.db, step!.stepId, { about: 'open', after: 0, most: 10 });
  expect(items).toMatchObject({ found: { files: 1 }, items: [{ path: 'peaks/b.frm' }] });
  await signOut(site.db, workerId);
  // Nobody looks any more, so nothing is said; the step looks for itself.
  expect(await found()).toEqual([]);
  await site.look();
  await site.runPlan();
  await site.workOff();
  expect(['a', 'b', 'c'].map((name) => existsSync(path.join(site.root, `media/peaks/${name}.frm`)))).toEqual([
    false,
    true,
    false,
  ]);
  expect((await site.db.select().from(stepItems)).map((item) => item.reason)).toEqual([null, 'open', null]);
});

test('a worker says so by itself while there is a plan, and no more once the file is closed or left out', async () => {
  await planned();
  await open('media/peaks/b.frm');
  const worker = site.worker();
  await until(async () => (await found()).length === 1);
  const { planId, steps } = await currentPlan(site.db);
  expect(planId as PlanId).not.toBeNull();
  await leaveOut(site.db, { stepId: steps[0]!.stepId, about: 'open', now: new Date() });
  expect(await found()).toEqual([]);
  program!.kill();
  await until(async () => (await site.db.select().from(openNow)).length === 0, 30);
  await worker.stop();
});
