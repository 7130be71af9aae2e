// Ledger: a receipt for everything done, newest first, with its checksums; receipts that were changed from outside show.
import { Form, Link } from 'react-router';
import type { Route } from './+types/ledger';
import { ago, count, exactTime, size } from '#core/wording/amounts.ts';
import { useTo } from '../shell/links';
import { Choice } from '../ui/choice';
import { Chip, Empty, inputLook, Sentence } from '../ui/parts';
import { Scroll } from '../ui/scroll';

export { loader } from './ledger.server.ts';

type Data = Route.ComponentProps['loaderData'];

export default function Ledger({ loaderData: data }: Route.ComponentProps) {
  const { receipts, broken, sentence, more, isNarrowed, nowMs } = data;
  const to = useTo();
  return (
    <div className="grid gap-4">
      <Sentence>{sentence}</Sentence>
      <Find data={data} />
      <div className="card py-1">
        {receipts.length === 0 ? (
          <Empty>
            {isNarrowed ? (
              <>
                No receipt fits.{' '}
                <Link to="/ledger" className="text-accent underline">
                  Show every receipt
                </Link>
              </>
            ) : (
              'Run a plan, and its receipt is the first line here.'
            )}
          </Empty>
        ) : (
          <Scroll label="Receipts" isWide>
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
          </Scroll>
        )}
      </div>
      {more !== null && (
        <Link to={to({ before: String(more) })} className="text-accent underline">
          Older receipts
        </Link>
      )}
    </div>
  );
}

/** By what people remember of it: a word, a project, who did it, what was done, the day. */
function Find({ data: { asked, choices, isNarrowed } }: { data: Data }) {
  return (
    <Form
      key={JSON.stringify(asked)}
      method="get"
      role="search"
      aria-label="Receipts"
      className="flex flex-wrap items-center gap-2"
    >
      <input
        name="q"
        type="search"
        aria-label="Find a receipt"
        placeholder="A word of it"
        defaultValue={asked.words}
        maxLength={200}
        className={`${inputLook} h-8 !w-48 text-[13px]`}
      />
      <Choice
        name="project"
        label="Project"
        none="every project"
        values={choices.projects.map(({ projectId, name }) => [String(projectId), name] as const)}
        chosen={asked.project}
      />
      <Choice name="who" label="Person" none="everybody" values={choices.people} chosen={asked.who} />
      <Choice
        name="action"
        label="What was done"
        none="whatever was done"
        values={choices.actions}
        chosen={asked.action}
      />
      <input
        name="day"
        type="date"
        aria-label="Day"
        defaultValue={asked.day}
        onChange={(event) => event.currentTarget.form?.requestSubmit()}
        className={`${inputLook} h-8 !w-40 text-[13px]`}
      />
      {isNarrowed && (
        <Link to="/ledger" className="text-[13px] text-accent hover:underline">
          every receipt
        </Link>
      )}
    </Form>
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
      <td className="path text-ink-2" title={receipt.stepId === null ? undefined : receipt.itemsSha256}>
        {receipt.stepId === null ? '' : `${receipt.itemsSha256.slice(0, 12)}…`}
      </td>
    </tr>
  );
}
