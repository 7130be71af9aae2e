// Commands about what uses what: reach, missing, uses, relink.
import type { Command } from 'commander';
import { followersOf } from '#core/missing/followers.ts';
import type { ProjectId } from '#core/model.ts';
import { shareText } from '#core/reach/scope.ts';
import { count, counted, size } from '#core/wording/amounts.ts';
import type { Database } from '#server/db/connect.ts';
import { Refused } from '#server/runtime/refused.ts';
import { projectBins, projectClips, projectTimelines, type Show, WHOLE_PROJECT } from '#server/reach/clips.ts';
import { candidatesFor, missingMedia, oldFolder } from '#server/readings/missing.ts';
import { fileFacts } from '#server/projects/ownership.ts';
import { fileAtPath } from '#server/stores/places.ts';
import { projectRows } from '#server/projects/projects.ts';
import { addRelinking } from '#server/steps/relink.ts';
import { table } from './table.ts';

type Out = (text: string) => void;

async function projectNamed(db: Database, name: string): Promise<{ projectId: ProjectId; name: string }> {
  const rows = await projectRows(db);
  const project = rows.find((row) => row.name.toLowerCase() === name.toLowerCase());
  if (!project)
    throw new Refused(
      `There is no project named ${name}. Known are: ${rows.map((row) => row.name).join(', ') || 'none'}.`,
    );
  return project;
}

const several = (value: string, before: string[]) => [...before, value];

export function addReachCommands(command: Command, open: () => Database, out: Out): void {
  command
    .command('reach')
    .description('what the timelines of a project use of its media')
    .argument('<project>', 'its title')
    .option('--timeline <name>', 'only what this timeline reaches; may be given several times', several, [])
    .option('--show <which>', 'used, unused, missing, borrowed or lent', 'all')
    .option('--json', 'as JSON')
    .action((name: string, options: ReachOptions) => reach(open(), out, { ...options, name }));
  command
    .command('missing')
    .description('media that documents name and nobody finds, with what each may be')
    .argument('[project]', 'its title; all projects where none is given')
    .option('--json', 'as JSON')
    .action((name: string | undefined, { json }: { json?: boolean }) => missing(open(), out, { name, json }));
  command
    .command('uses')
    .description('what uses a file')
    .argument('<path>', 'its path, as any station writes it')
    .option('--json', 'as JSON')
    .action((path: string, { json }: { json?: boolean }) => uses(open(), out, { path, json }));
  command
    .command('relink')
    .description('gives missing clips their files, in new versions of the documents; the old ones stay')
    .argument('<project>', 'its title')
    .option('--take <clip=path>', 'this file for this clip; may be given several times', several, [])
    .option('--neighbours', 'clips of the same old folder follow into the same new one')
    .option('--yes', 'does it; without it only says what it would do')
    .option('--json', 'as JSON')
    .action((name: string, options: RelinkOptions) => relink(open(), out, { ...options, name }));
}

interface ReachOptions {
  timeline: string[];
  show: string;
  json?: boolean;
}

async function reach(db: Database, out: Out, asked: ReachOptions & { name: string }): Promise<void> {
  const shows = ['all', 'used', 'unused', 'missing', 'borrowed', 'lent'];
  if (!shows.includes(asked.show))
    throw new Refused(`"${asked.show}" cannot be shown. Give one of ${shows.join(', ')}.`);
  const { projectId } = await projectNamed(db, asked.name);
  const { documentIds } = await projectBins(db, projectId);
  const timelines = await projectTimelines(db, documentIds);
  const timelineIds = asked.timeline.map((wanted) => {
    const found = timelines.find((one) => one.name.toLowerCase() === wanted.toLowerCase());
    if (!found)
      throw new Refused(
        `It has no timeline named ${wanted}. Known are: ${timelines.map((one) => one.name).join(', ') || 'none'}.`,
      );
    return found.timelineId;
  });
  const rows = await projectClips(db, {
    projectId,
    documentIds,
    bin: 'all',
    show: asked.show as Show,
    scope: { ...WHOLE_PROJECT, timelineIds },
    text: '',
    kind: null,
  });
  if (asked.json) return out(JSON.stringify(rows, null, 2));
  if (rows.length === 0) return out('No clip is like that.');
  out(
    table([
      ['CLIP', 'STATE', 'USED', 'SIZE', 'TIMELINES', 'PLACE'],
      ...rows.map((row) => [
        row.name,
        row.state,
        shareText(row.used),
        row.bytes > 0 ? size(row.bytes) : '',
        row.timelines.map((one) => one.name).join(', '),
        `${row.where ?? ''}${row.borrowedFrom ? `, from ${row.borrowedFrom}` : ''}`,
      ]),
    ]),
  );
}

async function missing(db: Database, out: Out, asked: { name?: string; json?: boolean }): Promise<void> {
  const projectId = asked.name === undefined ? undefined : (await projectNamed(db, asked.name)).projectId;
  const items = await missingMedia(db, { projectId });
  const candidates = await candidatesFor(db, items);
  const rows = items.map((item) => ({
    project: item.project,
    document: item.document,
    clip: item.wanted.name,
    target: item.target,
    used: item.used,
    candidates: (candidates.get(item.mediaId) ?? []).map(({ fileId, name, where, verdict, points, evidence }) => ({
      fileId,
      name,
      where,
      verdict,
      points,
      evidence,
    })),
  }));
  if (asked.json) return out(JSON.stringify(rows, null, 2));
  if (rows.length === 0) return out('Nothing is missing.');
  out(
    table([
      ['PROJECT', 'CLIP', 'USED', 'IT MAY BE', 'WHERE'],
      ...rows.map((row) => {
        const [first, ...others] = row.candidates;
        const verdict = first
          ? `${first.verdict}${others.length > 0 ? `, of ${others.length + 1}` : ''}`
          : 'nothing like it';
        return [row.project, row.clip, row.used ? 'yes' : 'no', verdict, first ? `${first.where}/${first.name}` : ''];
      }),
    ]),
  );
}

async function uses(db: Database, out: Out, asked: { path: string; json?: boolean }): Promise<void> {
  const fileId = await fileAtPath(db, asked.path);
  const facts = fileId === null ? null : await fileFacts(db, fileId);
  if (!facts)
    throw new Refused(`No file is known at ${asked.path}. Read its volume, or give the path as a station writes it.`);
  if (asked.json) return out(JSON.stringify(facts, null, 2));
  out(
    `${facts.name}: ${facts.kind}, ${size(facts.bytes)}, ${facts.project ? `of ${facts.project.name}` : 'nobody’s'}, ${facts.reason}`,
  );
  if (facts.users.length === 0) return out('No document names it.');
  out(
    table([
      ['PROJECT', 'TIMELINES'],
      ...facts.users.map((user) => [user.name, user.names.join(', ') || 'in a bin, in no timeline']),
    ]),
  );
}

interface RelinkOptions {
  take: string[];
  neighbours?: boolean;
  yes?: boolean;
  json?: boolean;
}

async function relink(db: Database, out: Out, asked: RelinkOptions & { name: string }): Promise<void> {
  const { projectId } = await projectNamed(db, asked.name);
  const items = await missingMedia(db, { projectId });
  const candidates = await candidatesFor(db, items);
  const all = items.map((item) => ({
    ...item,
    oldFolder: item.target === null ? '' : oldFolder(item.target),
    candidates: candidates.get(item.mediaId) ?? [],
  }));
  const chosen = new Map<number, number>();
  for (const item of all)
    if (item.candidates[0]?.verdict === 'certain') chosen.set(item.mediaId, item.candidates[0].fileId);
  for (const take of asked.take) {
    const [clip = '', path = ''] = [take.slice(0, take.indexOf('=')), take.slice(take.indexOf('=') + 1)];
    const item = all.find((one) => one.wanted.name.toLowerCase() === clip.toLowerCase());
    if (!item) throw new Refused(`"${clip}" is no missing clip of ${asked.name}. Nothing was added.`);
    const fileId = await fileAtPath(db, path);
    if (fileId === null) throw new Refused(`No file is known at ${path}. Nothing was added.`);
    chosen.set(item.mediaId, fileId);
    if (asked.neighbours)
      for (const [mediaId, follows] of followersOf(all, { mediaId: item.mediaId, fileId }))
        if (!chosen.has(mediaId)) chosen.set(mediaId, follows);
  }
  const choices = [...chosen].map(([mediaId, fileId]) => ({ mediaId, fileId }));
  const rows = choices.map(({ mediaId, fileId }) => {
    const item = all.find((one) => one.mediaId === mediaId)!;
    const file = item.candidates.find((one) => one.fileId === fileId);
    return {
      clip: item.wanted.name,
      document: item.document,
      file: file ? `${file.where}/${file.name}` : `file ${fileId}`,
      verdict: file?.verdict ?? 'chosen',
    };
  });
  const added = asked.yes && choices.length > 0;
  if (added) await addRelinking(db, { projectId, choices, now: new Date() });
  if (asked.json) return out(JSON.stringify({ added, choices: rows }, null, 2));
  if (rows.length === 0)
    return out(
      `Nothing of its ${counted(items.length, 'missing clip')} can be told with certainty. Give --take CLIP=PATH.`,
    );
  out(table([['CLIP', 'DOCUMENT', 'FILE', ''], ...rows.map((row) => [row.clip, row.document, row.file, row.verdict])]));
  out(
    added
      ? 'Added to the plan. It is reviewed and run there, together with what else is in it.'
      : `This is what would be relinked, ${count(rows.length)} of ${count(items.length)}. With --yes it is added to the plan.`,
  );
}
