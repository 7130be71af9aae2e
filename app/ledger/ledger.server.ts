// What the ledger route asks of the services, and what it changes through them.
import type { Route } from './+types/ledger';
import { dayAfter, startOfDay } from '#core/house-time.ts';
import { ledgerSentence } from '#core/wording/lenses.ts';
import { brokenAmong, brokenByNow } from '#server/ledger/chain.ts';
import { ledgerSums, pageOfReceipts, receiptChoices } from '#server/ledger/ledger.ts';
import { db } from '../db.server';

const PAGE = 100;

/** A day of the house as YYYY-MM-DD; what is none asks for no day. */
function dayOf(text: string): { from: Date; to: Date } | null {
  const from = startOfDay(text);
  return Number.isNaN(from.getTime()) ? null : { from, to: dayAfter(from) };
}

export async function loader({ request }: Route.LoaderArgs) {
  const search = new URL(request.url).searchParams;
  const asked = {
    words: (search.get('q') ?? '').trim().slice(0, 200),
    project: search.get('project') ?? '',
    ...{ who: search.get('who') ?? '', action: search.get('action') ?? '', day: search.get('day') ?? '' },
  };
  const of = {
    ...{ who: asked.who, action: asked.action, projectId: Math.floor(Number(asked.project)) || null },
    ...{ words: asked.words.split(/\s+/).filter(Boolean), day: dayOf(asked.day) },
  };
  const receipts = await pageOfReceipts(db(), Math.floor(Number(search.get('before'))) || null, { size: PAGE, of });
  const nowMs = Date.now();
  const [shown, broken, sums, choices] = await Promise.all([
    brokenAmong(db(), receipts),
    brokenByNow(db(), nowMs),
    ledgerSums(db()),
    receiptChoices(db()),
  ]);
  return {
    receipts,
    broken: [...shown],
    asked,
    choices,
    isNarrowed: Object.values(asked).some((value) => value !== ''),
    sentence: ledgerSentence({ ...sums, broken: new Set([...broken, ...shown]).size }),
    more: receipts.length === PAGE ? receipts.at(-1)!.id : null,
    nowMs,
  };
}
