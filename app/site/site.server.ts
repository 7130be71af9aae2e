// What the site route asks of the services, and what it changes through them.
import type { Route } from './+types/site';
import { KINDS } from '#core/model.ts';
import { decisions } from '#core/wording/decisions.ts';
import { siteSentence } from '#core/wording/lenses.ts';
import type { Forecast } from '#core/forecast/forecast.ts';
import { causesOfGrowth, forecasts } from '#server/readings/growth.ts';
import { allStrays, homesInTrouble } from '#server/projects/homes.ts';
import { ownerlessByVolume } from '#server/projects/ownership.ts';
import { projectRows } from '#server/projects/projects.ts';
import { chosenVolumes, rackVolumes } from '#server/site/rack.ts';
import { brokenDocuments } from '#server/projects/broken-documents.ts';
import { volumesAsked } from '../answer.server';
import { db } from '../db.server';

export async function loader({ request }: Route.LoaderArgs) {
  const all = await rackVolumes(db());
  const only = chosenVolumes(all, volumesAsked(request));
  const volumes = only.length > 0 ? all.filter((volume) => only.includes(volume.volumeId)) : all;
  const [projects, broken, strays, nobodys, homeless] = await Promise.all([
    projectRows(db(), only),
    brokenDocuments(db()),
    allStrays(db()),
    ownerlessByVolume(db()),
    homesInTrouble(db()),
  ]);
  const nowMs = Date.now();
  const today = Math.floor(nowMs / 86_400_000);
  const [growing, causes] = await Promise.all([
    forecasts(db(), volumes, today),
    causesOfGrowth(
      db(),
      volumes.map((v) => v.volumeId),
    ),
  ]);
  const forecastOf = new Map(growing.map((g) => [g.volumeId, g.forecast]));
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
        forecast: forecastOf.get(v.volumeId),
      })),
      cacheBytes: volumes.reduce((sum, volume) => sum + bytesOf(volume, 'cache'), 0),
      read: volumes.some((volume) => volume.readMs !== null),
    }),
    decisions: decisions({
      nowMs,
      volumes: volumes.map((v) => ({
        ...v,
        forecast: forecastOf.get(v.volumeId),
      })),
      projects: projects.map((p) => ({ ...p, sinceMs: p.stateSince.getTime() })),
      brokenDocuments: broken,
      ownerless: nobodys
        .filter((row) => volumes.some((volume) => volume.volumeId === row.volumeId))
        .map((row) => ({ ...row, volume: volumes.find((volume) => volume.volumeId === row.volumeId)!.name })),
      homeTroubles: homeless,
      strays: strays.map((stray) => ({ ...stray, volume: all.find((v) => v.volumeId === stray.volumeId)?.name ?? '' })),
    }),
    byKind,
    causes: causes.slice(0, 3),
    today,
    filling: growing
      .filter(
        (g) =>
          g.samples.length > 0 &&
          (g.forecast.says === 'fills' ||
            g.samples.at(-1)!.bytes > 0.1 * volumes.find((v) => v.volumeId === g.volumeId)!.capacityBytes),
      )
      .map((g) => ({
        ...g,
        name: volumes.find((v) => v.volumeId === g.volumeId)!.name,
        capacityBytes: volumes.find((v) => v.volumeId === g.volumeId)!.capacityBytes,
      }))
      .sort((a, b) => soonness(a.forecast) - soonness(b.forecast))
      .slice(0, 3),
    volumes: volumes.map((v) => ({ volumeId: v.volumeId, name: v.name })),
    projects: projects
      .filter((p) => p.bytes > 0 || only.length === 0)
      .map((p) => ({
        projectId: p.projectId,
        name: p.name,
        state: p.state,
        bytes: p.bytes,
        onVolumes: p.onVolumes.map((on) => ({
          ...on,
          strayBytes: strays
            .filter((s) => s.projectId === p.projectId && s.volumeId === on.volumeId)
            .reduce((sum, s) => sum + s.bytes, 0),
        })),
      })),
  };
}

/** For sorting: what fills first comes first, what does not fill last. */
function soonness(forecast: Forecast): number {
  if (forecast.says === 'full') return -1;
  return forecast.says === 'fills' ? forecast.days : Infinity;
}
