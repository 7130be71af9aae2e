// What a carrier's page asks of the services, and what it changes through them.
import type { Route } from './+types/carrier';
import { carrierForm } from '#contract/forms.ts';
import type { CarrierId } from '#core/model.ts';
import { carrierSentence } from '#core/wording/archives.ts';
import { carrierPage, moveCarrier } from '#server/stores/carrier-register.ts';
import { answer, idFrom } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';
import { labelOf } from './labels.server';

export async function loader({ params }: Route.LoaderArgs) {
  const carrier = await carrierPage(db(), idFrom(params.carrierId, 'carrier') as CarrierId);
  if (!carrier) throw new Response('There is no such carrier.', { status: 404 });
  const nowMs = Date.now();
  return { carrier, sentence: carrierSentence(carrier, nowMs), label: await labelOf(carrier.name), nowMs };
}

export async function action({ request, params }: Route.ActionArgs) {
  const who = await personOf(request);
  return answer(request, carrierForm, async ({ place, lentTo, dueAt, since }) => {
    const carrierId = idFrom(params.carrierId, 'carrier') as CarrierId;
    const said = await moveCarrier(db(), carrierId, { place, lentTo, dueAt, since }, { who, now: new Date() });
    return `${said}. The ledger has it.`;
  });
}
