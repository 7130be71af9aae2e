// The command for projects that are archived every night with their media.
import type { Command } from 'commander';
import { type ProjectNight, projectNight, type Written } from '#core/nights/project-nights.ts';
import { exactTime, size } from '#core/wording/amounts.ts';
import { carrierRows } from '#server/archives/shelf.ts';
import type { Database } from '#server/db/connect.ts';
import { projectNights, setProjectNight } from '#server/archives/project-nights.ts';
import { Refused } from '#server/runtime/refused.ts';
import { named, projectNamed } from './names.ts';
import type { Out } from './shaping.ts';
import { table } from './table.ts';

interface Asked {
  on?: string;
  anew?: string;
  keep?: string;
  all?: string;
  weekly?: string;
  most?: string;
  off?: boolean;
  json?: boolean;
}

const takenWords = ({ anew, added }: Written): string[] => [
  String(anew.nights + added.nights),
  size(anew.bytes + added.bytes),
];

const keptWords = ({ allDays, weeklyDays, keepDays }: ProjectNight): string =>
  [
    allDays > 0 && `all ${allDays} days`,
    weeklyDays > 0 && `weekly ${weeklyDays} days`,
    keepDays > 0 ? `until ${keepDays} days` : 'until decided',
  ]
    .filter((words) => words !== false)
    .join(', ');

export function addNightlyCommands(command: Command, open: () => Database, out: Out): void {
  command
    .command('nightly')
    .description('projects in work that are archived every night with their media; with --on or --off one is changed')
    .argument('[project]', 'its name')
    .option('--on <carrier>', 'the carrier that it is written to')
    .option('--anew <days>', 'after so many days everything is written anew', '30')
    .option('--keep <days>', 'nights older than so many days are let go; 0: none by itself', '0')
    .option('--all <days>', 'every night of so many days stays, of older ones one a week; 0: every night', '0')
    .option('--weekly <days>', 'of nights older than so many days one a month stays; 0: none are thinned so far', '0')
    .option('--most <MB/s>', 'so many megabytes a second are written at most; 0: as fast as it goes', '0')
    .option('--off', 'not any more; what was archived stays')
    .option('--json', 'as JSON')
    .action((project: string | undefined, asked: Asked) => nightly(open(), out, { project, ...asked }));
}

async function nightly(db: Database, out: Out, asked: Asked & { project?: string }): Promise<void> {
  const project = asked.project === undefined ? null : await projectNamed(db, asked.project);
  if (asked.on !== undefined || asked.off) {
    if (!project || (asked.on !== undefined && asked.off))
      throw new Refused('Say which project, and either --on a carrier or --off. Nothing was saved.');
    const by = { who: process.env.USER ?? 'the command line', now: new Date() };
    const carrierId = asked.off ? null : named('carrier', await carrierRows(db), asked.on!).carrierId;
    const parsed = projectNight.safeParse({
      ...{ carrierId, anewDays: Number(asked.anew), keepDays: Number(asked.keep), mostMBps: Number(asked.most) },
      ...{ allDays: Number(asked.all), weeklyDays: Number(asked.weekly) },
    });
    if (carrierId !== null && !parsed.success)
      throw new Refused(
        'Days are whole numbers: from 1 to 365 until everything is written anew, up to 3650 that nights are kept or thinned; megabytes a second from 0 to 100000. Nothing was saved.',
      );
    await setProjectNight(db, { projectId: project.projectId, rule: carrierId === null ? null : parsed.data! }, by);
  }
  const all = await projectNights(db, project?.projectId);
  if (asked.json) return out(JSON.stringify(all, null, 2));
  if (all.length === 0) return out(`${project?.name ?? 'No project'} is ${project ? 'not ' : ''}archived at night.`);
  out(
    table([
      ['PROJECT', 'STATE', 'CARRIER', 'ALL ANEW AFTER', 'KEPT', 'NIGHTS', 'SIZE', 'LAST TRIED', 'WHAT CAME OF IT'],
      ...all.map((one) => [
        ...[one.project, one.state, one.carrier, `${one.anewDays} days`],
        ...[keptWords(one), ...takenWords(one.written)],
        one.ran ? exactTime(one.ran.atMs) : 'not yet',
        one.ran?.said ?? '',
      ]),
    ]),
  );
}
