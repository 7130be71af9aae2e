// One more copy of an archive, from those that are good: on which carriers, and then into the plan.
import { archiveForm } from '#contract/forms.ts';
import { useState } from 'react';
import { useFetcher } from 'react-router';
import { listed, size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { Form } from '../ui/form';
import { Fold } from '../ui/fold';
import { Checkbox } from '../ui/checkbox';
import { Button, Said } from '../ui/parts';
import type { Route } from './+types/archive';

export function AnotherCopy({ data: { archive, others, repairable } }: { data: Route.ComponentProps['loaderData'] }) {
  const fetcher = useFetcher<Answer>();
  const [damaged] = repairable;
  const [chosen, setChosen] = useState<number[]>(damaged?.to ? [damaged.to] : []);
  const [isRepair, setRepair] = useState(damaged !== undefined);
  const instead = isRepair ? damaged : undefined;
  const toggle = (id: number) => setChosen(chosen.includes(id) ? chosen.filter((one) => one !== id) : [...chosen, id]);
  return (
    <Fold
      className="mt-2 border-t border-line pt-2"
      open={archive.short !== null || damaged !== undefined}
      line={<span className="font-medium">{damaged ? 'Repair, or another copy' : 'Another copy'}</span>}
    >
      {others.length === 0 ? (
        <p className="mt-1 text-[13px] text-ink-2">
          Every carrier that is registered holds a copy of it. Register another on the Storage page.
        </p>
      ) : (
        <Form fetcher={fetcher} schema={archiveForm} method="post" className="mt-1 grid gap-2">
          <input type="hidden" name="intent" value="copy" />
          <input type="hidden" name="carrierIds" value={chosen.join(',')} />
          {instead && <input type="hidden" name="instead" value={instead.copyId} />}
          {damaged && <Instead of={damaged.carriers} isOn={isRepair} onChange={setRepair} />}
          <ul className="grid gap-0.5 text-[13px]" aria-label="Carriers for another copy">
            {others.map((carrier) => (
              <li key={carrier.carrierId}>
                <label className="flex min-h-6 cursor-pointer items-center gap-2">
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
              {instead ? 'Add the repair to the plan' : 'Add a copy to the plan'}
            </Button>
            <span className="ml-3 text-[13px] text-ink-2">
              Read from a good copy, proven while it is copied, and read back.
            </span>
          </div>
        </Form>
      )}
    </Fold>
  );
}

function Instead({ of, isOn, onChange }: { of: readonly string[]; isOn: boolean; onChange: (on: boolean) => void }) {
  return (
    <label className="flex cursor-pointer items-center gap-2 text-[13px]">
      <Checkbox checked={isOn} onChange={onChange} label="Repair" />
      <span>
        Instead of the damaged copy on <b className="path">{listed(of)}</b>, which stays where it is
      </span>
    </label>
  );
}
