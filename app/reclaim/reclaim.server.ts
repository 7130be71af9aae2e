// What the reclaim lens asks of the services, and what it adds to the plan through them.
import { z } from 'zod';
import type { Route } from './+types/reclaim';
import { compareForm, keepOtherForm, stageLinesForm } from '#contract/forms.ts';
import type { FolderId, Level, ProjectId, VolumeId } from '#core/model.ts';
import { cutDay } from '#core/reclaim/cuts.ts';
import { GROUPS } from '#core/reclaim/worth.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { goalSentence } from '#core/wording/reclaim.ts';
import { currentAssessment } from '#server/db/worth.ts';
import { projectNames } from '#server/projects/projects.ts';
import { asideTotal } from '#server/reclaim/aside.ts';
import { goalOn, YOUNGEST_DAYS } from '#server/reclaim/goal.ts';
import { groupSums, lines, type Scope } from '#server/reclaim/lines.ts';
import { wholeUnits } from '#server/reclaim/whole-units.ts';
import { askToCompare, otherNames, twinPairs } from '#server/reclaim/twins.ts';
import { foundFiles } from '#server/search/search.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { folderAt } from '#server/space/space.ts';
import { addChosen } from '#server/steps/chosen.ts';
import { addKeepOther } from '#server/steps/keep-other.ts';
import { answer, volumesAsked } from '../answer.server';
import { db, nameList } from '../db.server';
import { personOf } from '../person.server';

/** Lines that are shown. */
const MOST_LINES = 2000;
const MOST_PAIRS = 300;

export async function loader({ request }: Route.LoaderArgs) {
  const search = new URL(request.url).searchParams;
  const volumes = await rackVolumes(db());
  const only = volumesAsked(request, volumes);
  const { scope, project, projects, folder, find } = await scopeAsked(search, only);
  const isLeft = search.get('left') === '1';
  const now = Date.now();
  const cut = cutDay(now, YOUNGEST_DAYS);
  const group = GROUPS.find((one) => one === search.get('group')) ?? null;
  const goal = goalAsked(search, volumes);
  const [sums, left, aside, assessment] = await Promise.all([
    groupSums(db(), scope),
    groupSums(db(), { ...scope, finished: true }),
    asideTotal(db(), only),
    currentAssessment(db()),
  ]);
  const shown =
    goal && !goal.trouble
      ? await reached(scope, { ...goal, cut })
      : {
          lines:
            group || isLeft
              ? await lines(
                  db(),
                  { ...scope, finished: isLeft },
                  { group: group ?? undefined, cutDay: cutDay(now, 0), most: MOST_LINES },
                )
              : [],
          goal: null,
        };
  return {
    sums,
    left,
    isLeft,
    aside,
    assessedMs: assessment?.atMs ?? null,
    folder: folder && { name: folder.name, volume: folder.volume },
    find,
    project: project && { id: project.projectId, name: project.name },
    projects,
    inWork: scope.inWork,
    group,
    asked: goal,
    lines: shown.lines,
    pairs: group === 'same twice' && assessment ? await twinPairs(db(), assessment.run, MOST_PAIRS) : [],
    links: group === 'same twice' ? await otherNames(db()) : null,
    goal: shown.goal,
    cut: shown.goal ? cut : cutDay(now, 0),
    nowMs: now,
  };
}

/** What a search finds, with all that belongs to it. */
async function filesNamed(text: string) {
  const { ids, trouble } = await foundFiles(db(), text, nameList());
  return {
    ids: await wholeUnits(db(), ids),
    trouble,
    as: { key: 'find', value: text, words: `with “${text}” in the name` },
  };
}

/** Files that were chosen one by one, with all that belongs to them. */
async function filesPicked(ids: readonly number[]) {
  return {
    ids: await wholeUnits(db(), ids),
    trouble: null,
    as: { key: 'files', value: ids.join(','), words: 'that were chosen' },
  };
}

const MOST_PICKED = 1000;

const idsIn = (text: string | null): number[] =>
  (text ?? '')
    .split(',')
    .filter((one) => /^[1-9]\d{0,14}$/.test(one))
    .map(Number)
    .slice(0, MOST_PICKED);

const MOST_FOLDERS = 100;

/** `?folder=3,14`: null where none is asked for. A 404 where none of them is known: an old address must never mean all of the site. */
async function foldersAsked(text: string | null) {
  const ids = (text ?? '').split(',').filter((one) => /^[1-9]\d{0,14}$/.test(one));
  const found = await Promise.all(ids.slice(0, MOST_FOLDERS).map((id) => folderAt(db(), Number(id) as FolderId)));
  const known = found.filter((one) => one !== null);
  if (text === null || text === '') return null;
  if (known.length === 0)
    throw new Response('This address narrows to a folder that is not known any more, so nothing is shown.', {
      status: 404,
    });
  const volumes = [...new Set(known.map((one) => one.volume))];
  return {
    ids: known.map((one) => one.folderId),
    name: known.length === 1 ? known[0]!.path || known[0]!.volume : counted(known.length, 'folder'),
    volume: volumes.length === 1 ? volumes[0]! : `${volumes.length} volumes`,
  };
}

/** What the address narrows to: a project, a folder, what a search finds. */
async function scopeAsked(search: URLSearchParams, only: readonly VolumeId[]) {
  const projects = await projectNames(db());
  const projectId = Number(search.get('project') ?? 0);
  const project = projects.find((one) => one.projectId === projectId) ?? null;
  const folder = await foldersAsked(search.get('folder'));
  const text = (search.get('find') ?? '').trim().slice(0, 200);
  const picked = search.get('files');
  const found = text !== '' ? await filesNamed(text) : picked === null ? null : await filesPicked(idsIn(picked));
  const scope: Scope = {
    only: folder ? [] : only,
    projectId: project ? (project.projectId as ProjectId) : null,
    inWork: search.get('work') === '1',
    below: folder?.ids,
    among: found?.ids,
  };
  return {
    scope,
    project,
    projects,
    folder,
    find: found && { ...found.as, files: found.ids.length, trouble: found.trouble },
  };
}

interface Asked {
  free: string;
  volumeId: VolumeId;
  volume: string;
  wantedBytes: number;
  highest: Level;
  trouble: string | null;
}

/** `?free=60&on=3&level=1`: gigabytes, a volume, and the highest level that may be taken. */
function goalAsked(search: URLSearchParams, volumes: readonly { volumeId: VolumeId; name: string }[]): Asked | null {
  const free = search.get('free');
  if (free === null) return null;
  const gigabytes = Number(free.replace(',', '.'));
  const volume = volumes.find((one) => String(one.volumeId) === search.get('on'));
  const level = Number(search.get('level') ?? 1);
  const trouble = !volume
    ? 'That volume is not registered any more. Choose another.'
    : !(gigabytes > 0 && gigabytes <= 1e6)
      ? 'How much is to be freed is a number of gigabytes, for example 60.'
      : null;
  return {
    free,
    volumeId: volume?.volumeId ?? (0 as VolumeId),
    volume: volume?.name ?? '',
    wantedBytes: Math.round(gigabytes * 1e9),
    highest: ([0, 1, 2, 3] as const).find((one) => one === level) ?? 1,
    trouble,
  };
}

async function reached(scope: Scope, { cut, ...asked }: Asked & { cut: number }) {
  const found = await goalOn(db(), scope, { ...asked, cutDay: cut });
  const { chosen, rest, ...told } = found;
  return {
    lines: [...chosen, ...rest],
    goal: { ...told, sentence: goalSentence({ ...told, wantedBytes: asked.wantedBytes, volume: asked.volume }) },
  };
}

export async function action({ request }: Route.ActionArgs) {
  const who = await personOf(request);
  return answer(request, z.discriminatedUnion('intent', [stageLinesForm, compareForm, keepOtherForm]), async (form) => {
    const now = new Date();
    if (form.intent === 'compare') {
      await askToCompare(db(), { who, now });
      return 'Begun: files of one size are compared, first by their ends and then whole. What is the same shows here.';
    }
    if (form.intent === 'keep other') {
      const added = await addKeepOther(db(), { pairs: form.pairs, now });
      return `Added to the plan: ${counted(added.files, 'file')}, ${size(added.bytes)}, set aside so that the other stays. Both are read whole before it goes, and documents get new versions.`;
    }
    const { lines: keys, cutDay: cut, find, fileId } = form;
    const picked = fileId ? [fileId] : (form.fileIds ?? []);
    const among = picked.length > 0 ? await wholeUnits(db(), picked) : find ? (await filesNamed(find)).ids : null;
    // A day that has not come yet would take files written after the choice was made.
    const added = await addChosen(db(), { keys, cutDay: Math.min(cut, cutDay(now.getTime(), 0)), among, now });
    if (added.bytes === 0)
      return `Added ${counted(added.files, 'empty folder')} to the plan. Nothing goes before the plan is run.`;
    return `Added ${size(added.bytes)} in ${counted(added.files, 'file')} to the plan. Nothing goes before the plan is run.`;
  });
}
