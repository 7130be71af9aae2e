// Generated runs of everything that may go: a small site, a choice, changes by people between plan and run, the run, and the
// way back. Nothing is lost that was not to go, and nothing goes that is used. A few runs here; RECLAIM_RUNS=200 for more.
import { createHash, randomInt } from 'node:crypto';
import {
  existsSync,
  lstatSync,
  readdirSync,
  readFileSync,
  renameSync,
  symlinkSync,
  unlinkSync,
  utimesSync,
  writeFileSync,
} from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { PlanId, VolumeId } from '#core/model.ts';
import { byLevel } from '#core/plan/plan.ts';
import { size } from '#core/wording/amounts.ts';
import { chance } from '#demo/chance.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { aside } from '../db/schema/aside.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import { currentPlan, runAtOnce, runPlan } from '../plan/plan.ts';
import { assess } from '../reclaim/assess.ts';
import { lines } from '../reclaim/lines.ts';
import { askToCompare } from '../reclaim/twins.ts';
import { addChosen } from './chosen.ts';
import { addAsideRemoval } from './remove-aside.ts';
import { addTakingBack } from './take-back.ts';

const RUNS = Number(process.env.RECLAIM_RUNS ?? 3);
const SEED = Number(process.env.RECLAIM_SEED ?? randomInt(1_000_000));
const now = () => new Date();
const OLD = 1_600_000_000;

class Run {
  private readonly luck: ReturnType<typeof chance>;
  private readonly media: string[] = [];
  private volumes: VolumeId[] = [];

  constructor(
    private readonly site: TestSite,
    seed: number,
  ) {
    this.luck = chance(seed);
  }

  private some = (share: number) => this.luck.next() < share;
  private at = (name: string) => path.join(this.site.root, name);

  async make(): Promise<void> {
    for (const volume of ['one', 'two']) this.volumes.push(await this.site.volume(volume));
    const put = (name: string, text: string) => {
      utimesSync(this.site.put(name, text), OLD, OLD + this.luck.between(0, 1000));
      return name;
    };
    for (let i = 0; i < this.luck.between(4, 9); i++) {
      const name = put(`one/fog/rushes/clip${i}.mov`, `clip ${i} ${'.'.repeat(this.luck.between(1, 9000))}`);
      this.media.push(name);
      if (this.some(0.3)) put(`one/fog/rushes/clip${i}.xml`, `beside ${i}`);
      if (this.some(0.3)) put(`two/copies/${i}.mov`, readFileSync(this.at(name), 'utf8'));
    }
    for (let i = 0; i < 4; i++) {
      put(`one/fog/cache/${i}.frm`, `frame ${i} ${'k'.repeat(50)}`);
      put(`one/fog/renders/cut_${i}.mov`, `render ${i}`);
      put(`two/odds/${i}.bin`, `odd ${i}`);
    }
    for (let i = 0; i < 14; i++) put(`one/fog/autosaves/fog ${i}.otio`, `{"n": ${i}}`);
    this.document();
    await this.site.read(...this.volumes);
  }

  /** Which clips are in the bin, and which in the timeline, anew. */
  private document(): void {
    const named = this.media.filter(() => this.some(0.7));
    const used = named.filter(() => this.some(0.5));
    const urls = (list: readonly string[]) => list.map((name) => `file://${this.at(name)}`);
    this.used = new Set(used.filter((name) => existsSync(this.at(name))));
    this.site.put('one/fog/fog.otio', otio('Fog', urls(named), urls(used)));
  }
  private used = new Set<string>();

  async choose(): Promise<boolean> {
    await this.site.look();
    if (this.some(0.5)) {
      await askToCompare(this.site.db, { who: 'Mara', now: now() });
      await this.work();
    }
    await assess(this.site.db);
    const all = await lines(this.site.db, { only: [], projectId: null, inWork: true }, { cutDay: 30_000, most: 1000 });
    const keys = all.filter(() => this.some(0.8)).map((line) => line.key);
    if (keys.length === 0) return false;
    await addChosen(this.site.db, { keys, cutDay: 30_000, now: now() });
    return true;
  }

  /** What people do meanwhile. */
  meddle(): void {
    for (const name of this.files().filter((one) => !one.endsWith('.otio'))) {
      if (!this.some(0.25)) continue;
      const place = this.at(name);
      switch (this.luck.between(0, 5)) {
        case 0:
          writeFileSync(place, `changed ${name}`);
          break;
        case 1: {
          const text = readFileSync(place);
          if (text.length > 0) text[0] = (text[0]! + 1) % 256;
          writeFileSync(place, text);
          utimesSync(place, OLD, OLD);
          break;
        }
        case 2:
          renameSync(place, `${place} moved`);
          break;
        case 3:
          renameSync(place, `${place} real`);
          symlinkSync(`${place} real`, place);
          break;
        case 4:
          unlinkSync(place);
          writeFileSync(place, `another ${name}`);
          break;
        default:
          this.site.put(`${name}.new`, `new beside ${name}`);
      }
    }
    if (this.some(0.6)) this.document();
    if (this.some(0.1)) {
      this.site.put('one/fog/fog.otio', '{ "OTIO_SCHEMA": ');
      this.used = new Set();
    }
  }

  /** Plain files that people see. */
  private files(): string[] {
    return ['one', 'two'].flatMap((volume) =>
      readdirSync(this.at(volume), { recursive: true, withFileTypes: true })
        .filter((entry) => entry.isFile())
        .map((entry) => path.relative(this.site.root, path.join(entry.parentPath, entry.name)))
        .filter((name) => !name.includes('.keramion')),
    );
  }

  /** Sums of every content on the disks, also of what lies aside. */
  private contents(): Map<string, string> {
    const all = new Map<string, string>();
    for (const volume of ['one', 'two'])
      for (const entry of readdirSync(this.at(volume), { recursive: true, withFileTypes: true })) {
        const place = path.join(entry.parentPath, entry.name);
        if (!entry.isFile() || entry.name === 'identity.json') continue;
        all.set(path.relative(this.site.root, place), createHash('sha256').update(readFileSync(place)).digest('hex'));
      }
    return all;
  }

  private async work(): Promise<void> {
    const worker = this.site.worker();
    await until(async () => (await this.site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
    await worker.stop();
  }

  async run(): Promise<string[]> {
    const plan = await currentPlan(this.site.db);
    if (plan.planId === null || plan.steps.length === 0) return [];
    await this.site.look();
    const before = this.contents();
    const used = new Map([...this.used].map((name) => [name, before.get(name)]));
    const typed = size(byLevel(plan.steps)[3]);
    const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: now(), typed };
    const ran = await runPlan(this.site.db, asked);
    if (!ran.ok) return ran.trouble.code === 'stopped by findings' ? [] : [`it did not run: ${ran.trouble.code}`];
    await this.work();
    return this.judge(before, used);
  }

  private async judge(before: ReadonlyMap<string, string>, used: ReadonlyMap<string, string | undefined>) {
    const wrong: string[] = [];
    const after = this.contents();
    const kept = new Set(after.values());
    const items = await this.site.db
      .select({ item: stepItems, what: steps.what })
      .from(stepItems)
      .innerJoin(steps, eq(steps.id, stepItems.stepId));
    const went = new Set(
      items
        .filter(({ item, what }) => item.state === 'done' && /^remove/.test(what.kind))
        .map(({ item }) => `${item.volumeId === this.volumes[0] ? 'one' : 'two'}/${item.path}`),
    );
    for (const [name, sum] of before) if (!kept.has(sum) && !went.has(name)) wrong.push(`lost: ${name}`);
    for (const [name, sum] of used)
      if (sum !== undefined && after.get(name) !== sum) wrong.push(`used, and not there: ${name}`);
    for (const row of await this.site.db.select().from(aside).where(eq(aside.state, 'aside'))) {
      const place = `${row.volumeId === this.volumes[0] ? 'one' : 'two'}/${row.asidePath}`;
      if (!after.has(place)) wrong.push(`said to lie aside, and does not: ${place}`);
    }
    const known = new Set((await this.site.db.select().from(aside)).map((row) => row.asidePath));
    for (const name of after.keys())
      if (name.includes('.keramion/') && !known.has(name.slice(4))) wrong.push(`an orphan: ${name}`);
    return wrong;
  }

  /** Some of it comes back, some goes for good. */
  async undo(): Promise<string[]> {
    const rows = await this.site.db.select().from(aside).where(eq(aside.state, 'aside'));
    if (rows.length === 0) return [];
    const wrong: string[] = [];
    const back = rows.filter(() => this.some(0.6));
    await this.site.look();
    if (back.length > 0) {
      const before = this.contents();
      const ids = back.map((row) => row.id);
      await runAtOnce(this.site.db, (tx, planId) => addTakingBack(tx, { ids, what: 'some', planId, now: now() }), {
        who: 'Mara',
        now: now(),
      });
      await this.work();
      wrong.push(...(await this.judge(before, new Map())));
      for (const row of await this.site.db.select().from(aside).where(eq(aside.state, 'taken back'))) {
        const place = this.at(`${row.volumeId === this.volumes[0] ? 'one' : 'two'}/${row.path}`);
        if (!existsSync(place) || !lstatSync(place).isFile()) wrong.push(`said to be back, and is not: ${row.path}`);
      }
    }
    const rest = (await this.site.db.select().from(aside).where(eq(aside.state, 'aside'))).map((row) => row.id);
    if (rest.length > 0 && this.some(0.5)) {
      await addAsideRemoval(this.site.db, { ids: rest, what: 'the rest', now: now() });
      if (this.some(0.5)) this.meddle();
      wrong.push(...(await this.run()));
    }
    return wrong;
  }
}

test(
  `generated runs lose nothing, and take nothing that is used (seed ${SEED})`,
  async () => {
    const wrong: string[] = [];
    let ran = 0;
    for (let i = 0; i < RUNS; i++) {
      const site = await TestSite.open();
      const one = new Run(site, SEED + i);
      try {
        await one.make();
        if (!(await one.choose())) continue;
        one.meddle();
        const lines_ = [...(await one.run()), ...(await one.undo())];
        wrong.push(...lines_.map((line) => `seed ${SEED + i}: ${line}`));
        ran++;
      } finally {
        await site.close();
      }
    }
    process.stderr.write(`reclaim: ${ran} runs from seed ${SEED}, ${wrong.length} wrong\n`);
    expect(wrong).toEqual([]);
  },
  RUNS * 60_000,
);
