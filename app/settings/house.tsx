// What the house is called, and the clock that its days and nights go by.
import { useState } from 'react';
import { clockIn, isZone } from '#core/house-time.ts';
import { Field, inputLook } from '../ui/parts';
import { RuleForm } from './rule-form';
import type { Route } from './+types/settings';

/** @param machine the clock of the server, where the house says nothing */
export function House({
  house,
  machine,
  nowMs,
  zones,
}: Pick<Route.ComponentProps['loaderData'], 'house' | 'machine' | 'nowMs' | 'zones'>) {
  const [zone, setZone] = useState(house.zone);
  const meant = zone.trim() === '' ? machine : zone.trim();
  return (
    <RuleForm title="The house" intent="house">
      <Field label="Name" hint="On every page, on labels, reports and in mails.">
        <input
          name="name"
          defaultValue={house.name}
          maxLength={120}
          className={inputLook}
          placeholder="Saltpan House"
        />
      </Field>
      <Field
        label="Time zone"
        hint={`Days, nights and every time that is shown go by it. Empty: the clock of the server, ${machine}.`}
      >
        <input
          name="zone"
          list="time-zones"
          value={zone}
          onChange={(event) => setZone(event.currentTarget.value)}
          maxLength={60}
          className={inputLook}
          placeholder="Europe/Lisbon"
          autoComplete="off"
        />
      </Field>
      <datalist id="time-zones">
        {zones.map((one) => (
          <option key={one} value={one} />
        ))}
      </datalist>
      <p role="status" className="text-[13px] text-ink-2">
        {isZone(meant) ? `There it is ${clockIn(meant, nowMs)} now.` : 'There is no time zone of that name.'}
      </p>
    </RuleForm>
  );
}
