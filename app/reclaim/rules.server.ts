// Rules for caches: looked at over the last weeks before they are saved.
import type { Route } from './+types/rules';
import { ruleOf, rulesForm } from '#contract/forms.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import type { CacheRule } from '#core/reclaim/rules.ts';
import { ruleWords } from '#core/wording/reclaim.ts';
import { projectNames } from '#server/projects/projects.ts';
import { dropRule, keptRules, replayOf, saveRule } from '#server/reclaim/cache-rules.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { answer } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

export async function loader({ request }: Route.LoaderArgs) {
  const search = new URL(request.url).searchParams;
  const [rules, volumes, projects] = await Promise.all([keptRules(db()), rackVolumes(db()), projectNames(db())]);
  const asked = search.has('by') ? ruleOf.safeParse(Object.fromEntries(search)) : null;
  return {
    rules,
    projects,
    given: Object.fromEntries([...search].filter(([key]) => key !== 'v')),
    looked: asked?.success ? await lookedAt(asked.data, volumes, projects) : null,
    trouble: asked && !asked.success ? (asked.error.issues[0]?.message ?? 'The rule could not be understood.') : null,
    nowMs: Date.now(),
  };
}

type Asked = ReturnType<typeof ruleOf.parse>;

const coreRule = (asked: Asked): CacheRule =>
  asked.by === 'age' ? { by: 'age', days: asked.days } : { by: 'cap', capBytes: asked.cap };

async function lookedAt(
  asked: Asked,
  volumes: readonly { volumeId: VolumeId; name: string }[],
  projects: readonly { projectId: ProjectId; name: string }[],
) {
  const rule = coreRule(asked);
  const volume = volumes.find((one) => one.volumeId === asked.volumeId);
  if (!volume) return null;
  const project = projects.find((one) => one.projectId === asked.projectId) ?? null;
  const projectId = project?.projectId ?? null;
  return {
    words: ruleWords(rule, { volume: volume.name, project: project?.name ?? null }),
    ...(await replayOf(db(), { volumeId: volume.volumeId, projectId, rule })),
  };
}

export async function action({ request }: Route.ActionArgs) {
  const who = await personOf(request);
  return answer(request, rulesForm, async (form) => {
    const now = new Date();
    if (form.intent === 'drop') {
      await dropRule(db(), form.ruleId, { who, now });
      return 'The rule is gone. What it removed is in the ledger.';
    }
    const { except, mostBytes, atNight } = {
      except: form.except,
      mostBytes: form.most,
      atNight: form.atNight === 'on',
    };
    const volumeId = form.volumeId as VolumeId;
    const projectId = form.projectId as ProjectId | null;
    await saveRule(db(), { volumeId, projectId, rule: coreRule(form), except, atNight, mostBytes }, { who, now });
    return atNight
      ? 'The rule is saved. It runs at night, in the hours of Settings, and says here what came of it.'
      : 'The rule is saved. It does not run by itself.';
  });
}
