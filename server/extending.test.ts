// One of each kind of thing, added from outside: a step, a carrier, a document format and a media format. Each is planned,
// run, receipted, written and read like those that were there, and nothing else had to know of them.
import { existsSync, mkdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { z } from 'zod';
import type { CarrierId, PlanId, ProjectId } from '#core/model.ts';
import { addDocumentFormat, documentFormat } from '#core/documents/formats/registry.ts';
import { addEssenceFormat } from '#core/essence/formats/registry.ts';
import { readEssence } from '#core/essence/essence.ts';
import { leaving, stepKind } from '#core/steps/kind.ts';
import { addStepKind } from '#core/steps/registry.ts';
import { findingWords } from '#core/wording/findings.ts';
import { planSentence } from '#core/wording/plan.ts';
import { makeFolder } from '#disk/folders.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { carrierKindOf, addCarrierKind } from './carriers/kinds.ts';
import { disk } from './carriers/disk/disk.ts';
import { archiveCopies } from './db/schema/archives.ts';
import { jobs } from './db/schema/jobs.ts';
import { receipts } from './db/schema/receipts.ts';
import { currentPlan, findingsOf, runPlan } from './plan/plan.ts';
import { runItems } from './runtime/run-items.ts';
import { addFileStep, FILE_FACTS } from './steps/adding.ts';
import { addArchive } from './steps/archive.ts';
import { commonFindings, finding } from './steps/findings.ts';
import { serverStep } from './steps/kind.ts';
import { addServerStep } from './steps/registry.ts';
import { volumesOfItems } from './steps/remove.ts';
import { addCarrier } from './stores/stores.ts';
import { sql } from 'drizzle-orm';

const marking = stepKind({
  kind: 'mark folders',
  params: z.object({ word: z.string().min(1) }),
  level: () => 1,
  does: 'frees',
  action: 'folders marked',
  phase: 'marking',
  title: ({ word }) => `Mark with ${word}`,
  undoing: () => 'the marks can be taken away',
  effect: (_params, step) => ({ volumes: leaving(step), carriers: [] }),
  findingWords: { 'odd word': ({ facts }) => ({ what: `${facts.word} is an odd word`, detail: 'It will do.' }) },
});
const serverMarking = serverStep({
  kind: marking,
  findings: async (db, step, { word }) => [
    ...(await commonFindings(db, step)),
    finding(step, 'odd word', 'note', { word }),
  ],
  stores: (tx, step) => volumesOfItems(tx, step.id),
  run: (context, step, { word }) =>
    runItems(context, step, {
      kind: marking,
      projectId: null,
      act: async (items) => {
        for (const item of items) {
          await context.assertLease();
          makeFolder((await context.root(item.volumeId))!, `${item.path}.${word}`);
        }
        return items.map((item) => ({ item, result: { done: true } }));
      },
      finishOrUndo: async (items) => items.map((item) => ({ item, result: null })),
    }),
  giveUp: () => Promise.resolve(),
});

let site: TestSite;
beforeAll(() => {
  addStepKind(marking);
  addServerStep(serverMarking);
});
beforeEach(async () => void (site = await TestSite.open()));
afterEach(() => site.close());

async function runAll() {
  const plan = await currentPlan(site.db);
  const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: new Date() };
  expect(await runPlan(site.db, asked)).toMatchObject({ ok: true });
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
}

test('a step: planned, worded, reviewed, run and receipted', async () => {
  const volume = await site.volume('media');
  site.put('media/a.mov', 'aaaa');
  await site.read(volume);
  await addFileStep(
    site.db,
    { kind: marking, params: { word: 'seen' }, names: {}, now: new Date() },
    async (tx, stepId) => {
      await tx.execute(
        sql`INSERT INTO step_items (${FILE_FACTS.columns}) SELECT ${stepId}, ${FILE_FACTS.values} FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id`,
      );
      return 'none';
    },
  );
  const plan = await currentPlan(site.db);
  expect(plan.steps).toMatchObject([{ title: 'Mark with seen', files: 1, bytes: 4 }]);
  expect(planSentence(plan.steps)).toBe('4 B will go, in one step. Nothing in it is irreplaceable.');
  const findings = await findingsOf(site.db, plan.steps);
  expect(findings.map((one) => findingWords(one, 0).what)).toEqual(['seen is an odd word']);
  await runAll();
  expect(existsSync(path.join(site.root, 'media/a.mov.seen'))).toBe(true);
  expect(await site.db.select().from(receipts)).toMatchObject([{ action: 'folders marked', files: 1, bytes: 4 }]);
  expect(await site.db.select({ kind: jobs.kind }).from(jobs)).toEqual([{ kind: 'mark folders' }]);
});

test('a carrier: registered with settings of its own, written and read back', async () => {
  const own = z.object({ shelf: z.string(), box: z.string() });
  addCarrierKind<z.infer<typeof own>>({
    ...disk,
    kind: 'box',
    name: 'box',
    settings: own as never,
    module: disk.module,
    fields: [
      { name: 'shelf', label: 'Shelf' },
      { name: 'box', label: 'Box' },
    ],
    describe: ({ shelf, box }) => `${shelf}, ${box}`,
    folders: ({ shelf, box }) => [path.join(shelf, box)],
    at: (settings) => settings,
    look: ({ shelf, box }) => disk.look({ folder: path.join(shelf, box) }),
    register: async (settings) => {
      const { identity } = await disk.register({ folder: path.join(settings.shelf, settings.box) });
      // Threads open it by the module that can: a box is a disk at another place.
      return { settings: { ...settings, folder: path.join(settings.shelf, settings.box) }, identity };
    },
    open: ({ shelf, box }, identity) => disk.open({ folder: path.join(shelf, box) }, identity),
  });
  // The settings a thread sees are those that the module parses: here the folder beside our own two.
  (carrierKindOf('box') as { settings: unknown }).settings = z.looseObject({ shelf: z.string(), box: z.string() });
  mkdirSync(path.join(site.root, 'shelf/box 7'), { recursive: true });
  const volume = await site.volume('media');
  site.put('media/fog/a.mov', 'a'.repeat(5000));
  site.put('media/fog/fog.otio', otio('Fog', ['a.mov']));
  await site.read(volume);
  const settings = { shelf: path.join(site.root, 'shelf'), box: 'box 7' };
  const given = { name: 'B7', kind: 'box', place: 'cellar', settings, capacityBytes: 1e9 };
  const carrierId: CarrierId = await addCarrier(site.db, given, new Date());
  await addArchive(site.db, { projectId: 1 as ProjectId, carrierIds: [carrierId], folder: 'fog_1', now: new Date() });
  await runAll();
  expect(readFileSync(path.join(site.root, 'shelf/box 7/fog_1/data/media/Rushes/a.mov'), 'utf8')).toBe(
    'a'.repeat(5000),
  );
  expect(await site.db.select({ state: archiveCopies.state }).from(archiveCopies)).toEqual([{ state: 'good' }]);
});

test('a document format and a media format: known by their endings and first bytes, and read', async () => {
  addDocumentFormat({
    id: 'cutlist',
    endings: ['cutlist'],
    relinks: [],
    isExchange: false,
    sniff: () => true,
    read: async (source) => ({
      ok: true,
      document: {
        name: new TextDecoder().decode((await source.bytes(1000))!).trim(),
        bins: [],
        media: [],
        clips: [],
        timelines: [],
        notes: [],
      },
    }),
  });
  const format = documentFormat('one.CUTLIST')!;
  expect(format.id).toBe('cutlist');
  const bytes = new TextEncoder().encode('Night cut\n');
  const source = { name: 'one.cutlist', bytes: async () => bytes, zip: () => Promise.reject(new Error('none')) };
  expect(await format.read(source)).toMatchObject({ ok: true, document: { name: 'Night cut' } });
  addEssenceFormat({
    id: 'reel',
    endings: ['reel'],
    sniff: (head) => head[0] === 0x52 && head[1] === 0x45,
    read: () => ({ format: 'reel', tracks: [], start: null, startSample: null, reel: 'R1', duration: null }),
  });
  const content = Uint8Array.from({ length: 64 }, (_, i) => [0x52, 0x45][i] ?? 0);
  const reading = readEssence({ size: 64, read: (at, length) => content.subarray(at, at + length) });
  expect(reading).toMatchObject({ ok: true, essence: { format: 'reel', reel: 'R1' } });
});
