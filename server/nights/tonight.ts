// What happens by itself: when, with what, what it would do in the night that comes, and how long it took the last times. The figures
// are those that the work itself goes by.
import { and, desc, eq, inArray, isNotNull, isNull, type SQL, sql } from 'drizzle-orm';
import { type HourOf, hoursFor, type HouseHours, hoursWords, isWithin, type Span, spanOf } from '#core/nights/hours.ts';
import { conflicts, type Drives, noonBefore } from '#core/nights/nights.ts';
import { grouped } from '#core/grouped.ts';
import { cutDay } from '#core/reclaim/cuts.ts';
import { placesOf } from '#core/snapshots/snapshots.ts';
import { counted, day, duration, listed, size } from '#core/wording/amounts.ts';
import { dueReadBacks, MOST_A_NIGHT } from '../archives/due-read-backs.ts';
import { measuredRates } from '../archives/rates.ts';
import { readBackWork } from '../archives/read-back.ts';
import { lastOwnBackup, ownBackupRule, ownBackupWork } from '../backup/own-backup.ts';
import { checkWork, EVERY_DAYS, lastCheck } from '../check/check.ts';
import type { Database, Db } from '../db/connect.ts';
import { aside } from '../db/schema/aside.ts';
import { archiveParts, copyParts } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { steps } from '../db/schema/plans.ts';
import { carriers, volumes } from '../db/schema/stores.ts';
import { volumeHoldings } from '../db/schema/sums.ts';
import { NIGHT_RULES } from '../plan/night.ts';
import { dueAside } from '../plan/night-aside.ts';
import { type KeptNight, projectNights } from '../archives/project-nights.ts';
import { type KeptRule, keptRules } from '../reclaim/cache-rules.ts';
import { asideRule, shelfRule } from '../site/house-rules.ts';
import { nightHours } from '../site/night-hours.ts';
import { snapshotRuleOf } from '../snapshots/rule.ts';
import { snapshotWork } from '../snapshots/taking.ts';

export interface Took {
  atMs: number;
  seconds: number;
  ended: 'done' | 'failed' | 'cancelled';
}

export interface NightWork {
  key: string;
  name: string;
  when: string;
  /** What it would do in the night that comes, in words; whether that is anything. */
  wouldDo: string;
  /** The house wants it to happen by itself. */
  isOn: boolean;
  isDue: boolean;
  /** Names of volumes and carriers. */
  needs: string[];
  /** Why it may wait in that night. */
  meets: string[];
  /** The last first. */
  took: Took[];
  /** Where it is set. */
  setIn: string;
  /** Its hours that are on, or the next; null: at any time. */
  span: Span | null;
}

export interface Tonight extends Span {
  /** The noon before it. */
  noonMs: number;
  works: NightWork[];
}

type Work = Omit<NightWork, 'meets' | 'took' | 'span'> & { past: SQL };

export async function tonightOf(db: Database, now: Date): Promise<Tonight> {
  const night = new Turns(await nightHours(db), now);
  const rules = (await keptRules(db)).filter((rule) => rule.atNight);
  const works: [HourOf | null, Work][] = [
    ...(await Promise.all(
      rules.map(async (rule): Promise<[HourOf, Work]> => ['rules', await ofRule(db, rule, night)]),
    )),
    ...(await projectNights(db)).map((kept): [HourOf, Work] => ['projects', ofProject(kept, night)]),
    ['aside', await ofAside(db, night)],
    ['read backs', await ofReadBacks(db, night)],
    ['backup', await ofBackup(db, night)],
    ['readings', await ofReadings(db, night)],
    ['check', await ofCheck(db, night)],
    [null, await ofSnapshots(db)],
  ];
  const today = { fromMs: night.house().noonMs, toMs: night.house().noonMs + DAY_MS };
  const timed = works.map(([of, work]) => inTurn(work, of && night.span(of), today));
  // What may be done at any time may meet everything of this night.
  const meet = conflicts(
    timed.map((work) => ({ ...work, span: work.span ?? today })),
    await drivesOf(db),
  );
  return {
    ...night.house(),
    works: await Promise.all(
      timed.map(async ({ past, ...work }) => ({
        ...work,
        meets: meet.get(work.key) ?? [],
        took: await lastSeven(db, past),
      })),
    ),
  };
}

const DAY_MS = 86_400_000;

/** What has its hours on a later day does nothing in this night, and says so. */
function inTurn(work: Work, span: Span | null, { toMs }: Span): Work & { span: Span | null } {
  if (span === null || span.fromMs < toMs || !work.isOn) return { ...work, span };
  return { ...work, span, isDue: false, wouldDo: `nothing tonight; on ${day(span.fromMs)}: ${work.wouldDo}` };
}

/** When each kind of work has its turn: now, or when its hours come. */
class Turns {
  constructor(
    private readonly of: HouseHours,
    private readonly now: Date,
  ) {}

  /** Null: at any time. */
  span(of: HourOf): Span | null {
    const own = hoursFor(this.of, of);
    return own && spanOf(own, this.now);
  }

  then(of: HourOf): Date {
    const own = hoursFor(this.of, of);
    return own === null || isWithin(own, this.now) ? this.now : new Date(spanOf(own, this.now).fromMs);
  }

  /** 'each night, between 1:00 and 5:00'; nothing where it has no hours. */
  words(of: HourOf): string {
    const own = hoursFor(this.of, of);
    return own === null ? '' : hoursWords(own);
  }

  /** The night of the house itself, and the noon before it. */
  house(): Span & { noonMs: number } {
    const span = spanOf(this.of.night, this.now);
    return { ...span, noonMs: noonBefore(span.fromMs) };
  }
}

/** Which tapes share the drives of one library, and how many of those there are. */
async function drivesOf(db: Db): Promise<Drives[]> {
  const rows = await db.select({ name: carriers.name, facts: carriers.facts }).from(carriers);
  const shared = rows.flatMap(({ name, facts }) => (facts?.sharing ? [{ name, ...facts.sharing }] : []));
  return [...grouped(shared, (one) => one.drivesOf)].map(([library, own]) => ({
    ...{ library, carriers: own.map((one) => one.name) },
    drives: Math.max(1, ...own.map((one) => one.drives)),
  }));
}

const LAST = 7;

async function lastSeven(db: Db, which: SQL): Promise<Took[]> {
  const rows = await db
    .select({
      ...{ finishedAt: jobs.finishedAt, state: jobs.state },
      seconds: sql`TIMESTAMPDIFF(MICROSECOND, ${jobs.startedAt}, ${jobs.finishedAt}) / 1e6`.mapWith(Number),
    })
    .from(jobs)
    .where(
      and(
        which,
        isNotNull(jobs.startedAt),
        isNotNull(jobs.finishedAt),
        inArray(jobs.state, ['done', 'failed', 'cancelled']),
      ),
    )
    .orderBy(desc(jobs.finishedAt), desc(jobs.id))
    .limit(LAST);
  return rows.map(({ finishedAt, seconds, state }) => ({
    ...{ atMs: finishedAt!.getTime(), seconds, ended: state as Took['ended'] },
  }));
}

async function ofRule(db: Db, rule: KeptRule, night: Turns): Promise<Work> {
  const bytes = await wouldTake(db, rule, night.then('rules'));
  return {
    ...{ key: `rule ${rule.ruleId}`, name: rule.words, when: night.words('rules') },
    ...{ wouldDo: bytes > 0 ? `removes ${size(bytes)} of caches at most` : 'nothing is over it', isDue: bytes > 0 },
    ...{ needs: [rule.volume], setIn: '/reclaim/caches', isOn: true },
    past: sql`${jobs.who} = ${NIGHT_RULES} AND ${jobs.stepId} IN (SELECT s.id FROM ${steps} s WHERE JSON_VALUE(s.what, '$.rule') = ${rule.words.slice(0, 200)})`,
  };
}

/** From the rollup of days: what the rule would find, and no more than one night may take. */
async function wouldTake(db: Db, { volumeId, projectId, rule, mostBytes }: KeptRule, then: Date): Promise<number> {
  const [row] = await db
    .select({ bytes: sql`COALESCE(SUM(${volumeHoldings.bytes}), 0)`.mapWith(Number) })
    .from(volumeHoldings)
    .where(
      and(
        ...[eq(volumeHoldings.volumeId, volumeId), eq(volumeHoldings.kind, 'cache')],
        projectId === null ? undefined : eq(volumeHoldings.projectId, projectId),
        rule.by === 'age' ? sql`${volumeHoldings.day} < ${cutDay(then.getTime(), rule.days)}` : undefined,
      ),
    );
  const over = rule.by === 'age' ? row!.bytes : row!.bytes - rule.capBytes;
  return Math.min(mostBytes, Math.max(0, over));
}

function ofProject({ projectId, project, state, carrier, anewDays, ran }: KeptNight, night: Turns): Work {
  const isInWork = state === 'in work';
  return {
    ...{ key: `project ${projectId}`, name: `${project} with its media` },
    when: `${night.words('projects')}; everything anew every ${counted(anewDays, 'day')}`,
    wouldDo: isInWork
      ? `writes to ${carrier} what is new or changed${ran ? `. Last time: ${ran.said}` : ''}`
      : `nothing: it is ${state}, and only projects in work are`,
    ...{ isDue: isInWork, isOn: isInWork, needs: [carrier], setIn: `/projects/${projectId}/back` },
    past: sql`${jobs.kind} = 'archive' AND ${jobs.who} = ${NIGHT_RULES} AND ${jobs.stepId} IN (SELECT s.id FROM ${steps} s WHERE JSON_VALUE(s.what, '$.projectId') = ${projectId})`,
  };
}

async function ofAside(db: Db, night: Turns): Promise<Work> {
  const rule = await asideRule(db);
  const isOn = rule.days > 0 || rule.shortBytes > 0;
  const ids = isOn ? await dueAside(db, rule, night.then('aside')) : [];
  const on =
    ids.length === 0
      ? []
      : await db
          .select({ name: volumes.name, bytes: sql`SUM(${aside.sizeBytes})`.mapWith(Number) })
          .from(aside)
          .innerJoin(volumes, eq(volumes.id, aside.volumeId))
          .where(inArray(aside.id, ids.slice(0, 10_000)))
          .groupBy(volumes.name);
  return {
    ...{ key: 'aside', name: 'What is set aside', when: isOn ? night.words('aside') : 'only when asked' },
    wouldDo: !isOn
      ? 'nothing: the house keeps it until somebody empties it'
      : ids.length === 0
        ? 'nothing is due'
        : `removes ${counted(ids.length, 'file')}, ${size(on.reduce((sum, one) => sum + one.bytes, 0))}, of which copies exist`,
    ...{ isDue: ids.length > 0, isOn, needs: on.map((one) => one.name), setIn: '/settings?show=removing' },
    past: sql`${jobs.kind} = 'remove aside' AND ${jobs.who} = ${NIGHT_RULES}`,
  };
}

async function ofReadBacks(db: Database, night: Turns): Promise<Work> {
  const { readBackMonths } = await shelfRule(db);
  const due = (await dueReadBacks(db, night.then('read backs'))).filter((copy) => copy.isThere && !copy.isCold);
  const first = due.slice(0, MOST_A_NIGHT);
  const [sum] =
    first.length === 0
      ? [{ bytes: 0 }]
      : await db
          .select({ bytes: sql`COALESCE(SUM(${archiveParts.bytes}), 0)`.mapWith(Number) })
          .from(copyParts)
          .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
          .where(
            inArray(
              copyParts.copyId,
              first.map((copy) => copy.copyId),
            ),
          );
  const { readBack } = await measuredRates(db);
  const left = due.length - first.length;
  return {
    ...{ key: 'read back', name: 'Copies read back' },
    when:
      readBackMonths === 0
        ? 'only when asked'
        : `${night.words('read backs')}; each copy every ${counted(readBackMonths, 'month')}`,
    wouldDo:
      first.length === 0
        ? 'nothing in reach is due'
        : `reads ${counted(first.length, 'copy', 'copies')}, ${size(sum!.bytes)}, in about ${duration(sum!.bytes / readBack)}${left > 0 ? `; ${left} more in later nights` : ''}`,
    ...{
      isDue: first.length > 0,
      isOn: readBackMonths > 0,
      needs: [...new Set(first.map((copy) => copy.carrier))],
      setIn: '/settings?show=removing',
    },
    past: sql`${jobs.kind} = ${readBackWork.kind} AND ${jobs.who} = ${NIGHT_RULES}`,
  };
}

async function ofBackup(db: Db, night: Turns): Promise<Work> {
  const [{ folder }, last] = [await ownBackupRule(db), await lastOwnBackup(db)];
  return {
    ...{ key: 'backup', name: 'The catalogue’s own backup', when: folder === '' ? 'off' : night.words('backup') },
    wouldDo:
      folder === ''
        ? 'nothing: no folder is named for it'
        : `writes${last ? ` about ${size(last.bytes)}` : ''} to ${folder}`,
    ...{ isDue: folder !== '', isOn: folder !== '', needs: [], setIn: '/settings?show=backup' },
    past: sql`${jobs.kind} = ${ownBackupWork.kind}`,
  };
}

/** ', Saturday and Sunday, between 8:00 and 20:00', where it has hours. */
const within = (night: Turns, of: HourOf): string => (night.words(of) === '' ? '' : `, ${night.words(of)}`);

/** What has to be read again before the night is over. */
async function ofReadings(db: Db, night: Turns): Promise<Work> {
  const toMs = night.span('readings')?.toMs ?? night.house().toMs;
  const timed = await db
    .select({ name: volumes.name, readAt: volumes.readAt, hours: volumes.readEveryHours })
    .from(volumes)
    .where(and(isNull(volumes.retiredAt), isNotNull(volumes.readEveryHours)))
    .orderBy(volumes.name);
  const due = timed.filter(({ readAt, hours }) => !readAt || readAt.getTime() + hours! * 3_600_000 <= toMs);
  return {
    ...{ key: 'readings', name: 'Volumes read again' },
    when:
      timed.length === 0
        ? 'only when asked'
        : `${counted(timed.length, 'volume')}, each after its own hours${within(night, 'readings')}`,
    wouldDo:
      due.length === 0
        ? 'none is due before the morning'
        : `reads ${listed(due.slice(0, 4).map((one) => one.name))}${due.length > 4 ? ` and ${due.length - 4} more` : ''}`,
    ...{ isDue: due.length > 0, isOn: timed.length > 0, needs: due.map((one) => one.name), setIn: '/storage' },
    past: sql`${jobs.kind} = 'read volume' AND ${jobs.who} = 'the schedule'`,
  };
}

async function ofCheck(db: Db, night: Turns): Promise<Work> {
  const then = night.then('check');
  const last = await lastCheck(db);
  const nextMs = last ? last.atMs + EVERY_DAYS * 86_400_000 : then.getTime();
  return {
    ...{
      key: 'check',
      name: 'Everything checked',
      when: `every ${counted(EVERY_DAYS, 'day')}${within(night, 'check')}`,
    },
    wouldDo: nextMs <= then.getTime() ? 'compares sums, ledger and disks with what is said' : `next on ${day(nextMs)}`,
    ...{ isDue: false, isOn: true, needs: [], setIn: '/storage' },
    past: sql`${jobs.kind} = ${checkWork.kind}`,
  };
}

async function ofSnapshots(db: Db): Promise<Work> {
  const rule = await snapshotRuleOf(db);
  const { everyMinutes } = rule;
  const on: string[] = [];
  for (const id of placesOf(rule)) {
    const [volume] = await db.select({ name: volumes.name }).from(volumes).where(eq(volumes.id, id));
    if (volume) on.push(volume.name);
  }
  return {
    ...{ key: 'snapshots', name: 'Snapshots of documents' },
    when: on.length > 0 ? `day and night, ${counted(everyMinutes, 'minute')} apart at least` : 'off',
    wouldDo: on.length > 0 ? `keeps documents that change, on ${listed(on)}` : 'nothing: no volume is named for them',
    ...{ isDue: false, isOn: on.length > 0, needs: on, setIn: '/settings?show=snapshots' },
    past: sql`${jobs.kind} = ${snapshotWork.kind}`,
  };
}
