// Every file of a step as comma-separated text (RFC 4180), before it runs and after: sent page by page, however many there are.
import type { Route } from './+types/items-data';
import { HELD_WORDS } from '#core/plan/plan.ts';
import { csvText } from '#core/wording/csv.ts';
import { type ItemRow, itemsPage } from '#server/ledger/items.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';

const HEAD = ['volume', 'path', 'bytes', 'state', 'why', 'detail', 'new path', 'xxh64'];
const PAGE = 5000;

export function loader({ params }: Route.LoaderArgs) {
  const stepId = idFrom(params.stepId, 'step');
  let after = 0;
  const encoder = new TextEncoder();
  const body = new ReadableStream<Uint8Array>({
    start: (controller) => controller.enqueue(encoder.encode(csvText(HEAD, []))),
    async pull(controller) {
      const rows = await itemsPage(db(), stepId, { after, most: PAGE });
      if (rows.length > 0) {
        after = rows.at(-1)!.id;
        controller.enqueue(encoder.encode(csvText([], rows.map(cells)).replace(/^\r\n/, '')));
      }
      if (rows.length < PAGE) controller.close();
    },
  });
  return new Response(body, {
    headers: {
      'Content-Type': 'text/csv; charset=utf-8',
      'Content-Disposition': `attachment; filename="step-${stepId}.csv"`,
    },
  });
}

const cells = (item: ItemRow): string[] => [
  item.volume ?? '',
  item.path,
  String(item.sizeBytes),
  item.state,
  item.reason ? HELD_WORDS[item.reason] : '',
  item.detail ?? '',
  item.targetPath ?? '',
  item.xxh64 ?? '',
];
