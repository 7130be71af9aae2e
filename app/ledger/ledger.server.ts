// What the ledger route asks of the services, and what it changes through them.
import type { Route } from './+types/ledger';
import { ledgerSentence } from '#core/wording/lenses.ts';
import { ledgerSums, pageOfReceipts } from '#server/ledger/ledger.ts';
import { brokenReceipts } from '#server/runtime/receipts.ts';
import { db } from '../db.server';

const PAGE = 100;

export async function loader({ request }: Route.LoaderArgs) {
  const before = Number(new URL(request.url).searchParams.get('before')) || null;
  const [receipts, broken, sums] = await Promise.all([
    pageOfReceipts(db(), before, PAGE),
    brokenReceipts(db()),
    ledgerSums(db()),
  ]);
  return {
    receipts,
    broken,
    sentence: ledgerSentence({ ...sums, broken: broken.length }),
    more: receipts.length === PAGE ? receipts.at(-1)!.id : null,
    nowMs: Date.now(),
  };
}
