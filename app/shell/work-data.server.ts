// Asking for volumes or single folders to be read, and for work to end early.
import type { Route } from './+types/work-data';
import { workForm } from '#contract/forms.ts';
import type { FolderId, JobId, VolumeId } from '#core/model.ts';
import { counted } from '#core/wording/amounts.ts';
import { answerQuestion } from '#server/runtime/questions.ts';
import { cancelJob } from '#server/runtime/queue.ts';
import { askToRead, askToReadFolder } from '#server/site/work.ts';
import { answer } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

export async function action({ request }: Route.ActionArgs) {
  const who = await personOf(request);
  return answer(request, workForm, async (form) => {
    switch (form.intent) {
      case 'read': {
        const put = await askToRead(db(), form.volumes as VolumeId[], { who, now: new Date() });
        return put === 0 ? 'They are being read already.' : `${counted(put, 'reading')} begun.`;
      }
      case 'read folder':
        await askToReadFolder(db(), form.folderId as FolderId, { who, now: new Date() });
        return 'It is being read; the tray shows how far.';
      case 'leave out':
      case 'try again':
        await answerQuestion(db(), {
          questionId: form.questionId,
          answer: form.intent,
          who,
          now: new Date(),
        });
        return form.intent === 'leave out'
          ? 'It stays out, which the archive and the receipt say. The work goes on from where it was.'
          : 'It is tried again. The work goes on from where it was.';
      case 'cancel':
        return (await cancelJob(db(), form.jobId as JobId)) === 'ended'
          ? 'It ended before it began. Nothing was changed.'
          : 'It ends early. What it had finished stays; the rest is left as it was.';
    }
  });
}
