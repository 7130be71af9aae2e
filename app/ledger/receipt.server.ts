// One receipt: what was done, what was left and why, file by file.
import type { Route } from './+types/receipt';
import { HELD_WORDS, type HeldReason } from '#core/plan/plan.ts';
import { freedSentences } from '#core/wording/reclaim.ts';
import { itemsPage } from '#server/ledger/items.ts';
import { undoForm } from '#contract/forms.ts';
import { receiptOf, stayedOutOf } from '#server/ledger/ledger.ts';
import { canBeUndone, undoReceipt } from '#server/ledger/undo.ts';
import type { FreedFacts } from '#server/runtime/freed.ts';
import { brokenAmong } from '#server/ledger/chain.ts';
import { answer, idFrom } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

const PAGE = 500;

const textsIn = (told: unknown): string[] =>
  Array.isArray(told) ? told.filter((one): one is string => typeof one === 'string') : [];

export async function loader({ params, request }: Route.LoaderArgs) {
  const receipt = await receiptOf(db(), idFrom(params.receiptId, 'receipt'));
  if (!receipt) throw new Response('There is no such receipt.', { status: 404 });
  const search = new URL(request.url).searchParams;
  const after = Math.max(0, Number(search.get('after')) || 0);
  const heldOnly = search.get('show') === 'held';
  const items =
    receipt.stepId === null
      ? []
      : await itemsPage(db(), receipt.stepId, { after, most: PAGE, ...(heldOnly ? { state: 'held' as const } : {}) });
  const held = Object.entries((receipt.facts.held ?? {}) as Record<string, number>).map(([reason, files]) => ({
    words: HELD_WORDS[reason as HeldReason] ?? reason,
    files,
  }));
  const { trouble, reason, freed } = receipt.facts;
  return {
    receipt,
    held,
    trouble: typeof trouble === 'string' ? trouble : null,
    reason: typeof reason === 'string' ? reason : null,
    freed: freed ? freedSentences(receipt.bytes, freed as FreedFacts) : [],
    notReached: Number(receipt.facts.notReached ?? 0),
    thereAlready: Number(receipt.facts.thereAlready ?? 0),
    stayedOut: stayedOutOf(receipt.facts),
    newVersions: textsIn(receipt.facts.newVersions),
    notRelinked: textsIn(receipt.facts.notRelinked),
    canBeUndone: canBeUndone(receipt),
    isBroken: (await brokenAmong(db(), [receipt])).has(receipt.id),
    items: items.map((item) => ({ ...item, why: item.reason ? HELD_WORDS[item.reason] : null })),
    heldOnly,
    more: items.length === PAGE ? items.at(-1)!.id : null,
  };
}

export async function action({ request, params }: Route.ActionArgs) {
  return answer(request, undoForm, async () => {
    const by = { who: await personOf(request), now: new Date() };
    return `Undone: ${await undoReceipt(db(), idFrom(params.receiptId, 'receipt'), by)}.`;
  });
}
