// Lives of documents: saved, saved again as they were, half written, broken, gone and back, with workers that are away or killed, by rules
// that differ. Every point in time that the rule promises is kept byte for byte, and comes back beside the document.
// LIVES=500: so many; the seed of a failure is printed, SEED=… lives them again.
import { readFileSync, rmSync, utimesSync } from 'node:fs';
import path from 'node:path';
import fc from 'fast-check';
import { xxh64 } from '@node-rs/xxhash';
import { grouped } from '#core/grouped.ts';
import type { VolumeId } from '#core/model.ts';
import { thinned } from '#core/reclaim/thin.ts';
import { type SnapshotRule, snapshotRule } from '#core/snapshots/snapshots.ts';
import { otio, TestSite } from '#test/site.ts';
import { jobs } from '../db/schema/jobs.ts';
import { snapshots } from '../db/schema/snapshots.ts';
import { askToPutBeside } from './put-beside.ts';
import { setSnapshotRule } from './rule.ts';
import { askForSnapshots } from './taking.ts';

const LIVES = Number(process.env.LIVES ?? 25);
const SEED = Number(process.env.SEED ?? Date.now() % 1_000_000);
const TOGETHER = 25;
const MINUTE = 60_000;
const BEGIN = Date.UTC(2026, 8, 2, 8);
const CLIPS = ['a', 'b', 'c', 'd'].map((name) => `rushes/${name}.mov`);
const TIMERS = [
  ...(['hrtime', 'nextTick', 'performance', 'queueMicrotask', 'setImmediate', 'clearImmediate'] as const),
  ...(['setInterval', 'clearInterval', 'setTimeout', 'clearTimeout'] as const),
];

const event = fc.record({
  does: fc.constantFrom('save', 'save', 'save', 'save', 'same', 'writing', 'broken', 'gone', 'rest', 'killed'),
  used: fc.integer({ min: 1, max: 4 }),
});
const step = fc.record({
  minutes: fc.oneof(
    fc.integer({ min: 1, max: 40 }),
    fc.integer({ min: 41, max: 600 }),
    fc.integer({ min: 601, max: 12_000 }),
  ),
  isAway: fc.integer({ min: 0, max: 9 }).map((n) => n === 0),
  events: fc.array(event, { minLength: TOGETHER, maxLength: TOGETHER }),
});
const round = fc.record({
  rule: fc.record({
    everyMinutes: fc.constantFrom(1, 10, 60),
    newest: fc.integer({ min: 1, max: 4 }),
    hours: fc.constantFrom(0, 3, 24),
    days: fc.constantFrom(0, 2, 10),
    weeks: fc.constantFrom(0, 2),
    months: fc.constantFrom(0, 1),
  }),
  steps: fc.array(step, { minLength: 8, maxLength: 14 }),
});

/** A document as it lies there, and what is to be kept of it. */
interface Life {
  at: string;
  text: string | null;
  isWhole: boolean;
  savedMs: number;
  /** Promised at this moment: each with when it was taken and what it was. */
  kept: { takenMs: number; text: string }[];
  /** What lay there when it was last looked at and was no whole document. */
  last: { takenMs: number; text: string } | null;
}

let site: TestSite;
let media: VolumeId;
let safe: VolumeId;
beforeEach(async () => {
  site = await TestSite.open();
  for (const clip of CLIPS) site.put(`media/clips/${clip}`, clip);
  media = await site.volume('media');
  safe = await site.volume('safe');
});
afterEach(() => site.close());

const at = (...parts: string[]) => path.join(site.root, ...parts);

/** A worker looks at that time, and does what it asked for. */
async function pass(ms: number): Promise<void> {
  jest.useFakeTimers({ now: ms, doNotFake: TIMERS });
  try {
    const reached = new Map<number, string>([
      [media, at('media')],
      [safe, at('safe')],
    ]);
    if ((await askForSnapshots(site.db, reached, { now: new Date(ms) })).length > 0) await site.workOff();
  } finally {
    jest.useRealTimers();
  }
}

function live(life: Life, { does, used }: { does: string; used: number }, ms: number): void {
  const save = (text: string, savedMs: number, isWhole = true) => {
    site.put(life.at, text);
    utimesSync(at(life.at), savedMs / 1000, savedMs / 1000);
    Object.assign(life, { text, savedMs, isWhole });
  };
  const named = otio(`Cut of ${ms}`, CLIPS, CLIPS.slice(0, used));
  if (does === 'save') save(named, ms - 5 * MINUTE);
  if (does === 'same' && life.text !== null) save(life.text, ms - 4 * MINUTE, life.isWhole);
  // It is being written while it is looked at: whatever there is of it waits.
  if (does === 'writing') save(named, ms);
  if (does === 'broken') save(named.slice(0, named.length / 2), ms - 5 * MINUTE, false);
  if (does === 'gone') {
    rmSync(at(life.at), { force: true });
    Object.assign(life, { text: null });
  }
}

/** What the rule says is kept after a worker has looked then. */
function expected(life: Life, ms: number, rule: SnapshotRule): void {
  const { text, isWhole, savedMs, last } = life;
  if (text === null || !isWhole || ms - savedMs < MINUTE) return;
  if (last && (last.text === text || ms - last.takenMs < rule.everyMinutes * MINUTE)) return;
  life.last = { takenMs: ms, text };
  life.kept.push(life.last);
  const gone = thinned(
    life.kept.map(({ takenMs }, id) => ({ id, modifiedUs: takenMs * 1000 })),
    rule,
  );
  life.kept = life.kept.filter((_, id) => !gone.has(id));
}

/** A worker was killed while it kept one: half of it lies there, and is said to be nothing. */
async function kill(): Promise<void> {
  const [row] = await site.db.select().from(snapshots).limit(1);
  if (!row) return;
  site.put('safe/.keramion/snapshots/half', 'half');
  await site.db
    .insert(snapshots)
    .values({ ...row, id: undefined, state: 'being kept', path: '.keramion/snapshots/half' });
}

async function expectKept(lives: readonly Life[]): Promise<void> {
  const rows = (await site.db.select().from(snapshots).orderBy(snapshots.id)).filter((row) => row.state === 'kept');
  const byName = grouped(rows, (row) => row.name);
  for (const life of lives) {
    const own = byName.get(path.basename(life.at)) ?? [];
    expect([life.at, own.map((row) => row.takenAt.getTime())]).toEqual([
      life.at,
      life.kept.map(({ takenMs }) => takenMs),
    ]);
    for (const [i, row] of own.entries()) {
      const bytes = readFileSync(at('safe', row.path));
      expect(bytes.toString('utf8')).toBe(life.kept[i]!.text);
      expect(xxh64(bytes).toString(16).padStart(16, '0')).toBe(row.xxh64);
    }
  }
}

/** Of every document one moment comes back beside it, as it was. */
async function expectBack(lives: readonly Life[]): Promise<void> {
  const rows = (await site.db.select().from(snapshots)).filter((row) => row.state === 'kept');
  const by = { who: 'Mara', now: new Date() };
  const asked: { at: string; text: string }[] = [];
  for (const [n, life] of lives.entries()) {
    const own = rows.filter((row) => row.name === path.basename(life.at));
    const row = own[n % Math.max(1, own.length)];
    if (!row) continue;
    await askToPutBeside(site.db, row.id, by);
    const { text } = life.kept.find(({ takenMs }) => takenMs === row.takenAt.getTime())!;
    asked.push({ at: life.at.replace('.otio', ' v2.otio'), text });
  }
  await site.workOff();
  for (const one of asked) expect(readFileSync(at(one.at), 'utf8')).toBe(one.text);
  expect((await site.db.select().from(jobs)).filter((job) => job.state === 'failed')).toEqual([]);
}

test(`${LIVES} lives of documents, seed ${SEED}: whatever is promised of each is there, byte for byte, and comes back`, async () => {
  let [number, moments] = [0, 0];
  for (const { rule: some, steps } of fc.sample(round, { numRuns: Math.ceil(LIVES / TOGETHER), seed: SEED })) {
    const rule = snapshotRule.parse({ volumeId: safe, ...some });
    await setSnapshotRule(site.db, rule, { who: 'Mara', now: new Date() });
    const lives = Array.from({ length: TOGETHER }, (): Life => {
      const name = `life${++number}x`;
      return { at: `media/${name}/${name}.otio`, text: null, isWhole: false, savedMs: 0, kept: [], last: null };
    });
    let ms = BEGIN;
    for (const life of lives) live(life, { does: 'save', used: 1 }, ms);
    await site.read(media);
    for (const { minutes, isAway, events } of steps) {
      ms += minutes * MINUTE;
      for (const [i, life] of lives.entries()) live(life, events[i]!, ms);
      if (isAway) continue;
      if (events.some(({ does }) => does === 'killed')) await kill();
      await pass(ms);
      for (const life of lives) expected(life, ms, rule);
      await expectKept(lives);
    }
    await expectBack(lives);
    moments += lives.reduce((sum, life) => sum + life.kept.length, 0);
    // The next lives begin in a house without these.
    for (const life of lives) rmSync(at(path.dirname(life.at)), { recursive: true });
    await site.read(media);
  }
  expect(moments).toBeGreaterThan(number);
  process.stderr.write(`${number} lives of documents, ${moments} moments kept, seed ${SEED}\n`);
}, 3_600_000);
