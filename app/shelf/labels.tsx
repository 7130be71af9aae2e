// Labels of carriers, to be printed and stuck on them.
import { Link } from 'react-router';
import type { Route } from './+types/labels';
import { counted, size } from '#core/wording/amounts.ts';
import { useLens } from '../shell/links';
import { Button, buttonLook, Empty, Sentence } from '../ui/parts';
import { Code } from './code';

export { loader } from './labels.server.ts';

export default function Labels({ loaderData: { labels, site } }: Route.ComponentProps) {
  const lens = useLens();
  return (
    <div className="grid gap-4">
      <div className="flex items-end justify-between slim:flex-wrap gap-4 print:hidden">
        <Sentence
          above={
            <Link to={lens('/shelf')} className="hover:underline">
              Shelf
            </Link>
          }
        >
          Labels for {counted(labels.length, 'carrier')}.
        </Sentence>
        <div className="flex gap-2">
          <Link to={lens('/shelf')} className={buttonLook('plain')}>
            Back
          </Link>
          <Button tone="first" type="button" onClick={() => window.print()} disabled={labels.length === 0}>
            Print
          </Button>
        </div>
      </div>
      {labels.length === 0 ? (
        <div className="card">
          <Empty>No carrier is registered yet.</Empty>
        </div>
      ) : (
        <ul
          aria-label="Labels"
          className="grid grid-cols-[repeat(auto-fill,minmax(260px,1fr))] gap-3 print:grid-cols-2 print:gap-2"
        >
          {labels.map((label) => (
            <li
              key={label.carrierId}
              className="card flex break-inside-avoid items-center gap-3 print:border print:border-black"
            >
              <Code code={label.code} name={label.name} className="size-20 shrink-0" />
              <span className="min-w-0">
                <b className="path block truncate text-lg">{label.name}</b>
                <span className="block truncate text-[13px] text-ink-2">{site}</span>
                <span className="block truncate text-[13px] text-ink-2">
                  {label.type}, {size(label.capacityBytes)}
                </span>
              </span>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
