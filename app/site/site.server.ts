// What the site route asks of the services, and what it changes through them.
import type { Route } from './+types/site';
import { KINDS } from '#core/model.ts';
import { decisions } from '#core/say/decisions.ts';
import { siteSentence } from '#core/say/lenses.ts';
import { projectRows } from '#server/services/projects.ts';
import { chosenVolumes, rackVolumes } from '#server/services/rack.ts';
import { brokenDocuments } from '#server/services/broken-documents.ts';
import { volumesAsked } from '../answer.server';
import { db } from '../db.server';

export async function loader({ request }: Route.LoaderArgs) {
  const all = await rackVolumes(db());
  const only = chosenVolumes(all, volumesAsked(request));
  const volumes = only.length > 0 ? all.filter((volume) => only.includes(volume.volumeId)) : all;
  const [projects, broken] = await Promise.all([projectRows(db(), only), brokenDocuments(db())]);
  const nowMs = Date.now();
  const bytesOf = (volume: (typeof all)[number], kind: string) =>
    volume.byKind.find((k) => k.kind === kind)?.bytes ?? 0;
  const byKind = KINDS.map((kind) => ({
    kind,
    bytes: volumes.reduce((sum, volume) => sum + bytesOf(volume, kind), 0),
  })).filter((row) => row.bytes > 0);
  return {
    sentence: siteSentence({
      volumes: volumes.map((v) => ({
        name: v.name,
        usedBytes: v.usedBytes,
        capacityBytes: v.capacityBytes,
        reachable: v.state === 'reachable' || v.state === 'not looked at',
      })),
      cacheBytes: volumes.reduce((sum, volume) => sum + bytesOf(volume, 'cache'), 0),
      read: volumes.some((volume) => volume.readMs !== null),
    }),
    decisions: decisions({
      nowMs,
      volumes: volumes.map((v) => ({ ...v, cacheBytes: bytesOf(v, 'cache'), sourceBytes: bytesOf(v, 'source') })),
      projects: projects.map((p) => ({ ...p, sinceMs: p.stateSince.getTime() })),
      brokenDocuments: broken,
    }),
    byKind,
    volumes: volumes.map((v) => ({ volumeId: v.volumeId, name: v.name })),
    projects: projects
      .filter((p) => p.bytes > 0 || only.length === 0)
      .map((p) => ({ projectId: p.projectId, name: p.name, state: p.state, bytes: p.bytes, onVolumes: p.onVolumes })),
  };
}
