// What the shelf route asks of the services, and what it changes through them.
import type { Route } from './+types/shelf';
import { shelfForm } from '#contract/forms.ts';
import { provenMs } from '#core/archive/copies.ts';
import type { ArchiveId, ProjectId, VolumeId } from '#core/model.ts';
import { listed, size } from '#core/wording/amounts.ts';
import { shelfSentence } from '#core/wording/lenses.ts';
import { addRestore } from '#server/steps/restore.ts';
import { archiveRows, type CarrierRow, carrierRows, factsOfWork, type WorkFacts } from '#server/archives/shelf.ts';
import { askToReadBackAll, readBackWords } from '#server/archives/read-back.ts';
import { insideArchives } from '#server/search/search.ts';
import { STORED_KINDS } from '#server/search/where.ts';
import { answer } from '../answer.server';
import { db, nameList } from '../db.server';
import { personOf } from '../person.server';

type Archive = Awaited<ReturnType<typeof archiveRows>>[number];

/** Archives by words of their names, people and notes, by client, by year, or those that are short of something. */
async function archivesAsked(
  archives: readonly Archive[],
  search: URLSearchParams,
  {
    facts,
    project,
    here,
  }: { facts: ReadonlyMap<ProjectId, WorkFacts>; project: ProjectId | null; here: ReadonlySet<string> | null },
) {
  const words = (search.get('q') ?? '').trim().slice(0, 200);
  const [client, year] = [search.get('client') ?? '', search.get('year') ?? ''];
  const isShort = search.get('short') === '1';
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const of = ({ projectId }: Archive) => facts.get(projectId);
  const isAmong = (archive: Archive): boolean => {
    const own = of(archive);
    return (
      (client === '' || own?.client === client) &&
      (year === '' || String(own?.year ?? '') === year) &&
      (project === null || archive.projectId === project) &&
      (here === null || archive.copies.some((copy) => copy.carriers.some(({ name }) => here.has(name)))) &&
      (!isShort || archive.short !== null || archive.copies.some((copy) => copy.state === 'damaged'))
    );
  };
  const isNamed = (archive: Archive): boolean => {
    const text = `${archive.name}\n${archive.folder}\n${of(archive)?.said ?? ''}`.toLowerCase();
    return wanted.every((word) => text.includes(word));
  };
  const among = archives.filter(isAmong);
  const told = <T>(values: (T | undefined | null | '')[]) => [...new Set(values.filter(Boolean))] as T[];
  return {
    archives: among.filter(isNamed),
    /** All that were chosen, whatever they are called: what lies in them is looked for by its own name. */
    amongIds: among.map((archive) => archive.archiveId as number),
    asked: { words, client, year, isShort },
    clients: told(archives.map((archive) => of(archive)?.client)).sort(),
    years: told(archives.map((archive) => of(archive)?.year)).sort((a, b) => b - a),
  };
}

const MOST_INSIDE = 50;

/** What lies in these archives by that name; null where no name was asked for. */
async function insideAsked(
  search: URLSearchParams,
  { words, archiveIds, place }: { words: string; archiveIds: readonly number[]; place: string | null },
) {
  if (words === '') return null;
  const kind = STORED_KINDS.find((one) => one === search.get('kind'));
  const only = { archiveIds, ...(place === null ? {} : { place }), ...(kind ? { kind } : {}) };
  const found = await insideArchives(db(), { text: words, only, most: MOST_INSIDE + 1, names: nameList() });
  return {
    kind: kind ?? '',
    kinds: [...STORED_KINDS],
    rows: found.slice(0, MOST_INSIDE),
    isMore: found.length > MOST_INSIDE,
  };
}

/** Of which something should be done: a damaged copy, no room, or somebody has it. */
const isWorry = ({ layers, freeBytes, capacityBytes, lentTo }: CarrierRow): boolean =>
  lentTo !== null || layers.some((layer) => layer.state === 'damaged') || freeBytes < capacityBytes / 50;

function placesOf(carriers: readonly CarrierRow[]) {
  const counts = new Map<string, number>();
  for (const { place } of carriers) counts.set(place, (counts.get(place) ?? 0) + 1);
  return [...counts].map(([place, n]) => ({ place, carriers: n })).sort((a, b) => (a.place < b.place ? -1 : 1));
}

export async function loader({ request }: Route.LoaderArgs) {
  const search = new URL(request.url).searchParams;
  const [archives, carriers] = await Promise.all([archiveRows(db()), carrierRows(db())]);
  const nowMs = Date.now();
  const sealed = archives.filter((archive) => archive.state === 'sealed');
  const readBacks = sealed.flatMap((archive) => archive.copies.map((copy) => copy.readBackMs));
  const sentence = shelfSentence(
    {
      archives: sealed.length,
      carriers: carriers.length,
      holding: carriers.filter((carrier) => carrier.layers.length > 0).length,
      damaged: archives.flatMap((archive) => archive.copies).filter((copy) => copy.state === 'damaged').length,
      oldestReadBackMs:
        readBacks.length > 0 && readBacks.every((ms) => ms !== null) ? Math.min(...readBacks.map(Number)) : null,
    },
    nowMs,
  );
  const places = placesOf(carriers);
  const facts = await factsOfWork(db(), [...new Set(archives.map((archive) => archive.projectId))]);
  const held = new Set(carriers.flatMap(({ layers }) => layers.map((layer) => layer.projectId)));
  const kept = [...facts].filter(([id]) => held.has(id)).map(([id, { name }]) => [String(id), name] as const);
  const project = ([...held].find((id) => String(id) === search.get('project')) ?? null) satisfies ProjectId | null;
  const place = places.find((one) => one.place === search.get('place'))?.place ?? null;
  const isWorried = search.get('worry') === '1';
  const here =
    place === null ? null : new Set(carriers.filter((one) => one.place === place).map((carrier) => carrier.name));
  const { amongIds: archiveIds, ...asked } = await archivesAsked(archives, search, { facts, project, here });
  return {
    ...asked,
    inside: await insideAsked(search, { words: asked.asked.words, archiveIds, place }),
    ...{ total: archives.length, sentence, nowMs, places, place, isWorried },
    projects: kept.sort(([, a], [, b]) => (a < b ? -1 : 1)),
    project,
    isNarrowed: place !== null || isWorried || project !== null,
    worried: carriers.filter(isWorry).length,
    carriers: carriers
      .filter((one) => (place === null || one.place === place) && (!isWorried || isWorry(one)))
      .filter(({ layers }) => project === null || layers.some((layer) => layer.projectId === project))
      .map((one) => ({ ...one, provenMs: provenMs(one.layers) })),
  };
}

export async function action({ request }: Route.ActionArgs) {
  return answer(request, shelfForm, async (form) => {
    const now = new Date();
    if (form.intent === 'read back') {
      const on = await askToReadBackAll(db(), form.archiveId, { who: await personOf(request), now });
      const dear = await readBackWords(db(), form.archiveId);
      return `Reading back what is on ${listed(on)} begins as soon as a worker reaches it${dear}. The ledger will say how it is.`;
    }
    const added = await addRestore(db(), {
      archiveId: form.archiveId as ArchiveId,
      copyId: form.copyId,
      volumeId: form.volumeId as VolumeId,
      folder: form.folder,
      now,
    });
    return `Added the restore of ${size(added.bytes)} to the plan. Review the plan and run it.`;
  });
}
