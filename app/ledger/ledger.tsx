// Ledger: a receipt for everything done, newest first, with its checksums; receipts that were changed from outside show.
import { Link } from 'react-router';
import type { Route } from './+types/ledger';
import { ago, count, exactTime, size } from '#core/wording/amounts.ts';
import { Chip, Empty, Sentence } from '../ui/parts';

export { loader } from './ledger.server.ts';

export default function Ledger({ loaderData: { receipts, broken, sentence, more, nowMs } }: Route.ComponentProps) {
  return (
    <div className="grid gap-4">
      <Sentence>{sentence}</Sentence>
      <div className="card py-1">
        {receipts.length === 0 ? (
          <Empty>Run a plan, and its receipt is the first line here.</Empty>
        ) : (
          <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Receipts">
            <table className="table">
              <thead>
                <tr>
                  <th>When</th>
                  <th>What</th>
                  <th>Who</th>
                  <th className="number">Files</th>
                  <th className="number">Size</th>
                  <th className="number">Held</th>
                  <th>Items, SHA-256</th>
                </tr>
              </thead>
              <tbody>
                {receipts.map((receipt) => (
                  <Line key={receipt.id} receipt={receipt} changed={broken.includes(receipt.id)} nowMs={nowMs} />
                ))}
              </tbody>
            </table>
          </div>
        )}
      </div>
      {more !== null && (
        <Link to={`?before=${more}`} className="text-accent underline">
          Older receipts
        </Link>
      )}
    </div>
  );
}

function heldWords(facts: Record<string, unknown>): string | undefined {
  const held = facts.held;
  if (typeof held !== 'object' || held === null) return undefined;
  return Object.entries(held)
    .map(([reason, n]) => `${reason}: ${String(n)}`)
    .join(', ');
}

interface LineProps {
  receipt: Route.ComponentProps['loaderData']['receipts'][number];
  changed: boolean;
  nowMs: number;
}

function Line({ receipt, changed, nowMs }: LineProps) {
  return (
    <tr className="h-11">
      <td title={exactTime(receipt.at.getTime())}>{ago(receipt.at.getTime(), nowMs)}</td>
      <td className="max-w-96 truncate" title={receipt.title}>
        <Link to={`/ledger/${receipt.id}`} className="font-medium hover:underline">
          {receipt.title}
        </Link>
        <span className="block text-[13px] text-ink-2">
          {receipt.action}
          {changed && (
            <>
              {' '}
              <Chip tone="loss">changed from outside</Chip>
            </>
          )}
        </span>
      </td>
      <td>{receipt.who}</td>
      <td className="number">{receipt.files > 0 ? count(receipt.files) : ''}</td>
      <td className="number font-semibold">{receipt.bytes > 0 ? size(receipt.bytes) : ''}</td>
      <td className="number" title={heldWords(receipt.facts)}>
        {receipt.held > 0 ? <Chip tone="caution">{count(receipt.held)}</Chip> : ''}
      </td>
      <td className="path text-ink-2" title={receipt.itemsSha256}>
        {receipt.itemsSha256.slice(0, 12)}…
      </td>
    </tr>
  );
}
