// What the settings route asks of the services, and what it changes through them.
import { data } from 'react-router';
import type { z } from 'zod';
import type { Route } from './+types/settings';
import { settingsForm } from '#contract/forms.ts';
import { machineZone } from '#core/house-time.ts';
import type { VolumeId } from '#core/model.ts';
import { counted, listed } from '#core/wording/amounts.ts';
import { currentRules, type KindChange, markOf, previewRules, saveRules } from '#server/readings/kinds.ts';
import { askToBackUp, lastOwnBackup, ownBackupRule, setOwnBackupRule } from '#server/backup/own-backup.ts';
import { lastMessages, postState } from '#server/post/outbox.ts';
import { postRuleOf, sendsMail, setPostRule } from '#server/post/post-rule.ts';
import { sendTest } from '#server/post/telling.ts';
import { Refused } from '#server/runtime/refused.ts';
import { setSnapshotRule, snapshotRuleOf } from '#server/snapshots/rule.ts';
import { houseRules, setHouseRules } from '#server/site/house-rules.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { nightHours, setNightHours } from '#server/site/night-hours.ts';
import { houseOf, setHouse } from '#server/site/site.ts';
import { saveTemplate, templateRows } from '#server/projects/register-project.ts';
import type { Answer } from '../lib/answer';
import { answer } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

const ZONES = Intl.supportedValuesOf('timeZone');

export interface Preview {
  mark: string;
  changes: KindChange[];
}

export async function loader() {
  const [house, hours, rules, templates, volumes, removing, backup, lastBackup, snapshots, post, posted, lastPosted] =
    await Promise.all([
      houseOf(db()),
      nightHours(db()),
      currentRules(db()),
      templateRows(db()),
      rackVolumes(db()),
      houseRules(db()),
      ownBackupRule(db()),
      lastOwnBackup(db()),
      snapshotRuleOf(db()),
      postRuleOf(db()),
      postState(db()),
      lastMessages(db(), 8),
    ]);
  return {
    house,
    hours,
    machine: machineZone(),
    // As the server knows them, so that both draw the same.
    zones: ZONES,
    rules,
    templates,
    removing,
    backup,
    lastBackup,
    snapshots,
    post: {
      rule: post,
      ...posted,
      last: lastPosted.map(({ id, by, subject, madeAt, sentAt, gaveUpAt, trouble }) => ({
        ...{ id, by, subject, trouble, madeMs: madeAt.getTime() },
        state: sentAt ? ('sent' as const) : gaveUpAt ? ('given up' as const) : ('waits' as const),
      })),
    },
    nowMs: Date.now(),
    volumes: volumes.map(({ volumeId, name }) => ({ volumeId, name })),
  };
}

export async function action({ request }: Route.ActionArgs) {
  const by = { who: await personOf(request), now: new Date() };
  let preview: Preview | null = null;
  const answered = await answer(request, settingsForm, async (form) => {
    switch (form.intent) {
      case 'preview': {
        preview = { mark: markOf(form.rules), changes: await previewRules(db(), form.rules) };
        return preview.changes.length === 0 ? 'No file would change its kind.' : 'Nothing was saved yet.';
      }
      case 'save':
        await saveRules(db(), form, by);
        return `${counted(form.rules.length, 'rule')} saved. Known files get their kinds now; the tray shows how far.`;
      case 'removing':
        await setHouseRules(
          db(),
          {
            readBackHours: form.readBackHours,
            trustUnseen: form.trustUnseen,
            aside: { days: form.asideDays, shortBytes: form.asideShortGb * 1e9 },
            copies: { copies: form.copies, places: form.places },
            shelf: { readBackMonths: form.readBackMonths, carrierYears: form.carrierYears },
          },
          by,
        );
        return form.readBackHours === 0 && !form.trustUnseen
          ? 'Saved. Every original is read back from its copy before it goes.'
          : 'Saved. The ledger has what it was before.';
      case 'house':
      case 'hours':
        return saveHouse(form, by);
      case 'backup':
        return saveBackup(form, by);
      case 'snapshots': {
        const { intent: _intent, ...rule } = form;
        await setSnapshotRule(db(), rule, by);
        return rule.volumeId === null
          ? 'Saved. No snapshots are made.'
          : 'Saved. The first are taken within a minute or two.';
      }
      case 'post':
      case 'test post':
        return post(form, by);
      case 'back up now':
        await askToBackUp(db(), by);
        return 'The backup begins. The tray shows how far it is, and the ledger what came of it.';
      case 'template':
        await saveTemplate(
          db(),
          { name: form.name, homes: form.homes.map((home) => ({ ...home, volumeId: home.volumeId as VolumeId })) },
          by,
        );
        return form.homes.length === 0 ? `Template ${form.name} is taken away.` : `Template ${form.name} is saved.`;
    }
  });
  return data<{ answer: Answer; preview: Preview | null }>(
    { answer: answered.data, preview },
    answered.init ?? undefined,
  );
}

async function saveHouse(
  form: Extract<z.infer<typeof settingsForm>, { intent: 'house' | 'hours' }>,
  by: { who: string; now: Date },
): Promise<string> {
  if (form.intent === 'hours') {
    await setNightHours(db(), form.hours, by);
    return 'Saved. What happens by itself goes by them from now on; Tonight shows when.';
  }
  await setHouse(db(), { name: form.name, zone: form.zone }, by);
  return 'Saved. Every page goes by it from now on, and so do the nights.';
}

async function saveBackup(
  { intent: _intent, ...rule }: Extract<z.infer<typeof settingsForm>, { intent: 'backup' }>,
  by: { who: string; now: Date },
): Promise<string> {
  await setOwnBackupRule(db(), rule, by);
  return rule.folder === ''
    ? 'Saved. No backup is made by itself.'
    : `Saved. The next goes to ${rule.folder} when its hours come.`;
}

type PostForm = Extract<z.infer<typeof settingsForm>, { intent: 'post' | 'test post' }>;

/** What is told by itself: saved, or one message sent to see whether it arrives. */
async function post(form: PostForm, by: { who: string; now: Date }): Promise<string> {
  if (form.intent === 'test post') {
    await sendTest(db(), form.by, by).catch((error: unknown) => {
      throw new Refused(`The test did not arrive: ${(error as Error).message}`);
    });
    return form.by === 'mail' ? 'The mail server took the test.' : 'The test was posted.';
  }
  const { intent: _intent, ...rule } = form;
  if (rule.host !== '' && (rule.from === '' || rule.to.length === 0))
    throw new Refused('Say from which address mails come, and who gets them. Nothing was saved.');
  await setPostRule(db(), rule, by);
  if (sendsMail(rule)) return `Saved. The morning goes to ${listed(rule.to)} after ${rule.hour}:00.`;
  return rule.webhook === '' ? 'Saved. Nothing is sent by itself.' : 'Saved. From now on every receipt is posted.';
}
