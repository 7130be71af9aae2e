// What a carrier's page asks of the services, and what it changes through them.
import type { Route } from './+types/carrier';
import { carrierForm } from '#contract/forms.ts';
import type { CarrierId } from '#core/model.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { carrierSentence } from '#core/wording/archives.ts';
import { carrierRows } from '#server/archives/shelf.ts';
import { askToTakeIn } from '#server/archives/take-in.ts';
import { addCarrierCopies } from '#server/steps/copy-archive.ts';
import { carrierPage, moveCarrier } from '#server/stores/carrier-register.ts';
import { answer, idFrom } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';
import { labelOf } from './labels.server';

export async function loader({ params }: Route.LoaderArgs) {
  const carrier = await carrierPage(db(), idFrom(params.carrierId, 'carrier') as CarrierId);
  if (!carrier) throw new Response('There is no such carrier.', { status: 404 });
  const nowMs = Date.now();
  const others = (await carrierRows(db())).filter((one) => one.carrierId !== carrier.carrierId);
  return {
    ...{ carrier, sentence: carrierSentence(carrier, nowMs), label: await labelOf(carrier.name), nowMs },
    others: others.map(({ carrierId, name, freeBytes }) => ({ carrierId, name, freeBytes })),
  };
}

export async function action({ request, params }: Route.ActionArgs) {
  const who = await personOf(request);
  return answer(request, carrierForm, async (form) => {
    const carrierId = idFrom(params.carrierId, 'carrier') as CarrierId;
    if (form.intent === 'copy all') {
      const { archives, bytes, left } = await addCarrierCopies(db(), {
        ...{ carrierId, to: form.to as CarrierId, now: new Date() },
      });
      const rest = left.length === 0 ? '' : ` Not copied: ${left.join(' ')}`;
      return `Added ${counted(archives, 'copy', 'copies')} of ${size(bytes)} to the plan. Review the plan and run it.${rest}`;
    }
    if (form.intent === 'take in') {
      const { folder, name, client, year } = form;
      await askToTakeIn(db(), { carrierId, folder, name, client, year }, { who, now: new Date() });
      return `${folder} is read as soon as a worker reaches the carrier. What came of it is then in the ledger, and on the shelf.`;
    }
    const { place, lentTo, dueAt, since } = form;
    const said = await moveCarrier(db(), carrierId, { place, lentTo, dueAt, since }, { who, now: new Date() });
    return `${said}. The ledger has it.`;
  });
}
