// Which clips of a project an address asks for: its page, its export and its report read the same words.
import type { Kind, ProjectId } from '#core/model.ts';
import { KINDS } from '#core/model.ts';
import { type ClipFilter, projectBins, type Show, SHOWS, timelinesAmong } from '#server/reach/clips.ts';
import { db } from '../db.server';

/** Clips that an address can name one by one. */
const MOST_CHOSEN = 500;

export async function clipsAsked(request: Request, projectId: ProjectId) {
  const search = new URL(request.url).searchParams;
  const { bins, loose, documentIds } = await projectBins(db(), projectId);
  const asked = search.get('bin');
  const first = bins.find((bin) => bin.clips > 0);
  const bin: ClipFilter['bin'] =
    asked === 'none'
      ? null
      : asked === 'all'
        ? 'all'
        : (bins.find((b) => b.binId === Number(asked))?.binId ?? first?.binId ?? 'all');
  const timelineIds = await timelinesAmong(db(), documentIds, (search.get('t') ?? '').split(',').map(Number));
  const show = (SHOWS as readonly string[]).includes(search.get('show') ?? '') ? (search.get('show') as Show) : 'all';
  const kind = (KINDS as readonly string[]).includes(search.get('kind') ?? '') ? (search.get('kind') as Kind) : null;
  const uses = search.get('uses') ?? '';
  const clipIds = (search.get('clips') ?? '')
    .split(',')
    .map(Number)
    .filter((id) => Number.isSafeInteger(id) && id > 0);
  const filter: ClipFilter & { clipIds: number[] } = {
    projectId,
    documentIds,
    bin,
    show: timelineIds.length !== 2 && ['first', 'second', 'both'].includes(show) ? 'all' : show,
    scope: {
      timelineIds,
      enabledOnly: uses === 'on',
      only: uses === 'picture' || uses === 'sound' ? uses : null,
    },
    text: (search.get('q') ?? '').trim().slice(0, 100),
    kind,
    clipIds: clipIds.slice(0, MOST_CHOSEN),
  };
  return { bins, loose, documentIds, filter };
}
