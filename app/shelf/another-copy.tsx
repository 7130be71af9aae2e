// One more copy of an archive, from those that are good: on which carriers, and then into the plan.
import { useState } from 'react';
import { useFetcher } from 'react-router';
import { size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { Button, Said } from '../ui/parts';
import type { Route } from './+types/archive';

export function AnotherCopy({ data: { archive, others } }: { data: Route.ComponentProps['loaderData'] }) {
  const fetcher = useFetcher<Answer>();
  const [chosen, setChosen] = useState<number[]>([]);
  const toggle = (id: number) => setChosen(chosen.includes(id) ? chosen.filter((one) => one !== id) : [...chosen, id]);
  return (
    <details className="mt-2 border-t border-line pt-2" open={archive.short !== null}>
      <summary className="cursor-pointer font-medium">Another copy</summary>
      {others.length === 0 ? (
        <p className="mt-1 text-[13px] text-ink-2">
          Every carrier that is registered holds a copy of it. Register another on the Storage page.
        </p>
      ) : (
        <fetcher.Form method="post" className="mt-1 grid gap-2">
          <input type="hidden" name="intent" value="copy" />
          <input type="hidden" name="carrierIds" value={chosen.join(',')} />
          <ul className="grid gap-0.5 text-[13px]" aria-label="Carriers for another copy">
            {others.map((carrier) => (
              <li key={carrier.carrierId}>
                <label className="flex cursor-pointer items-baseline gap-2">
                  <input
                    type="checkbox"
                    className="accent-accent"
                    checked={chosen.includes(carrier.carrierId)}
                    onChange={() => toggle(carrier.carrierId)}
                  />
                  <b className="path">{carrier.name}</b>
                  <span className="text-ink-2">
                    {carrier.place}, {size(carrier.freeBytes)} free
                    {carrier.state === 'reachable' ? '' : ', not in reach'}
                  </span>
                </label>
              </li>
            ))}
          </ul>
          <Said answer={fetcher.data} />
          <div>
            <Button type="submit" disabled={chosen.length === 0 || fetcher.state !== 'idle'}>
              Add a copy to the plan
            </Button>
            <span className="ml-3 text-[13px] text-ink-2">
              Read from a good copy, proven while it is copied, and read back.
            </span>
          </div>
        </fetcher.Form>
      )}
    </details>
  );
}
