// What the site route asks of the services, and what it changes through them.
import type { Route } from './+types/site';
import { houseDay } from '#core/house-time.ts';
import { KINDS } from '#core/model.ts';
import { siteSentence } from '#core/wording/lenses.ts';
import type { Forecast } from '#core/forecast/forecast.ts';
import { causesOfGrowth } from '#server/readings/growth.ts';
import { bringBack, postpone, postponedNow } from '#server/site/postponed.ts';
import { firstSteps } from '#server/site/first-steps.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { siteForm } from '#contract/forms.ts';
import { answer, volumesAsked } from '../answer.server';
import { personOf } from '../person.server';
import { db } from '../db.server';
import {
  bytesOf,
  decisionsOf,
  type Growing,
  knownOf,
  type Projects,
  type Strays,
  type Volumes,
} from '#server/nights/decisions.ts';

export async function loader({ request }: Route.LoaderArgs) {
  const all = await rackVolumes(db());
  const only = volumesAsked(request, all);
  const volumes = only.length > 0 ? all.filter((volume) => only.includes(volume.volumeId)) : all;
  const ids = volumes.map((volume) => volume.volumeId);
  const today = houseDay(Date.now());
  const known = knownOf(db(), { all, volumes, only, today });
  const [{ projects, strays, growing, forecastOf }, every, causes, steps, later] = await Promise.all([
    known,
    decisionsOf(db(), { all, volumes }, known),
    causesOfGrowth(db(), ids),
    firstSteps(db()),
    postponedNow(db(), new Date()),
  ]);
  const decisions = every.filter(({ key }) => !later.has(key));
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
      decisions: decisions.length,
    }),
    decisions,
    steps,
    // What is put off and no longer true is not told.
    later: every.flatMap(({ key, what }) => (later.has(key) ? [{ ...later.get(key)!, what }] : [])),
    nowMs: Date.now(),
    byKind: KINDS.map((kind) => ({
      kind,
      bytes: volumes.reduce((sum, volume) => sum + bytesOf(volume, kind), 0),
    })).filter((row) => row.bytes > 0),
    causes: causes.slice(0, 3),
    today,
    filling: fillingFirst(volumes, growing),
    volumes: volumes.map((v) => ({ volumeId: v.volumeId, name: v.name })),
    projects: placesOf(projects, strays, only.length === 0),
  };
}

export async function action({ request }: Route.ActionArgs) {
  const who = await personOf(request);
  return answer(request, siteForm, async (form) => {
    const by = { who, now: new Date() };
    if (form.intent === 'bring back') return `${await bringBack(db(), form.key, by)}.`;
    const { key, what, until, reason } = form;
    return `${await postpone(db(), { key, what, until, reason }, by)}.`;
  });
}

/** The volumes that fill, the soonest first: three of them. */
function fillingFirst(volumes: Volumes, growing: Growing) {
  return growing
    .flatMap((g) => {
      const { name, capacityBytes } = volumes.find((v) => v.volumeId === g.volumeId)!;
      const holds = g.samples.at(-1)?.bytes ?? 0;
      const tells = g.samples.length > 0 && (g.forecast.says === 'fills' || holds > 0.1 * capacityBytes);
      return tells ? [{ ...g, name, capacityBytes }] : [];
    })
    .sort((a, b) => soonness(a.forecast) - soonness(b.forecast))
    .slice(0, 3);
}

/** Where each project lies, with what of it has strayed there. */
function placesOf(projects: Projects, strays: Strays, whole: boolean) {
  return projects
    .filter((p) => p.bytes > 0 || whole)
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
    }));
}

/** For sorting: what fills first comes first, what does not fill last. */
function soonness(forecast: Forecast): number {
  if (forecast.says === 'full') return -1;
  return forecast.says === 'fills' ? forecast.days : Infinity;
}
