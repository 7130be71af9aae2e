// What the ledger route asks of the services, and what it changes through them.
import type { Route } from './+types/ledger';
import { ledgerSentence } from '#core/wording/lenses.ts';
import { brokenAmong, brokenByNow } from '#server/ledger/chain.ts';
import { ledgerSums, pageOfReceipts, receiptChoices } from '#server/ledger/ledger.ts';
import { db } from '../db.server';

const PAGE = 100;

/** A day as YYYY-MM-DD; what is none asks for no day. */
function dayOf(text: string): number | null {
  const ms = /^\d{4}-\d{2}-\d{2}$/.test(text) ? Date.parse(`${text}T00:00:00Z`) : NaN;
  return Number.isNaN(ms) ? null : ms / 86_400_000;
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
