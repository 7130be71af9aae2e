// A project in work that is archived every night with its media: where to, how often everything anew, and what came of the last.
import { snapshotForm } from '#contract/forms.ts';
import { useState } from 'react';
import { Link, useFetcher } from 'react-router';
import { ago, capital, counted, exactTime, size } from '#core/wording/amounts.ts';
import { bytesOfDays, type Written } from '#core/nights/project-nights.ts';
import type { Answer } from '../lib/answer';
import { Form } from '../ui/form';
import { Button, Card, Field, inputLook, NumberField, Said } from '../ui/parts';
import { Select } from '../ui/select';

interface Night {
  carrierId: number;
  carrier: string;
  anewDays: number;
  keepDays: number;
  allDays: number;
  weeklyDays: number;
  mostMBps: number;
  written: Written;
  ran: { atMs: number; said: string } | null;
}

interface AtNightProps {
  project: { state: string };
  night: Night | null;
  carriers: readonly { carrierId: number; name: string; place: string; freeBytes: number; isHere: boolean }[];
  nowMs: number;
}

const USUAL_DAYS = 30;

export function AtNight({ project, night, carriers, nowMs }: AtNightProps) {
  const fetcher = useFetcher<Answer>();
  const [intent, setIntent] = useState<'each night' | 'not at night'>(night ? 'each night' : 'not at night');
  if (carriers.length === 0) return <NoCarrier />;
  return (
    <Card title="Every night, with its media">
      <Form fetcher={fetcher} schema={snapshotForm} method="post" className="grid gap-3">
        <Field
          label="Archived at night"
          hint="Each night builds on the one before: only what is new or changed is written."
        >
          <Select
            name="intent"
            value={intent}
            onChange={(event) => setIntent(event.target.value as typeof intent)}
            className={`${inputLook} !w-auto`}
          >
            <option value="not at night">no</option>
            <option value="each night">each night, while it is in work</option>
          </Select>
        </Field>
        {intent === 'each night' && <Rule night={night} carriers={carriers} />}
        {night && <LastNight night={night} state={project.state} nowMs={nowMs} />}
        <div>
          <Button type="submit" disabled={fetcher.state !== 'idle'}>
            Save the nightly archive
          </Button>
        </div>
        <Said answer={fetcher.data} />
      </Form>
    </Card>
  );
}

function Rule({ night, carriers }: Pick<AtNightProps, 'night' | 'carriers'>) {
  return (
    <>
      <Field label="Written to the carrier">
        <Select name="carrierId" defaultValue={night?.carrierId} className={`${inputLook} !w-auto`}>
          {carriers.map(({ carrierId, name, place, freeBytes, isHere }) => (
            <option key={carrierId} value={carrierId}>
              {name}, {place}, {size(freeBytes)} free
              {isHere ? '' : ', not here now'}
            </option>
          ))}
        </Select>
      </Field>
      <NumberField
        name="anewDays"
        label="Days until everything is written anew"
        hint="The nights of one stretch need each other. A longer one takes less room."
        value={night?.anewDays ?? USUAL_DAYS}
      />
      <NumberField
        name="keepDays"
        label="Days that nights are kept"
        hint={`0: until somebody decides. Older ones that no younger one needs are let go; nothing is erased.${night ? costWords(night) : ''}`}
        value={night?.keepDays ?? 0}
      />
      <NumberField
        name="allDays"
        label="Days in which every night stays"
        hint="0: every night stays. Of older ones the last of each week does, and what it needs."
        value={night?.allDays ?? 0}
      />
      <NumberField
        name="weeklyDays"
        label="Days in which one night a week stays"
        hint="0: as long as nights are kept. Of older ones the last of each month stays, and what it needs."
        value={night?.weeklyDays ?? 0}
      />
      <NumberField
        name="mostMBps"
        label="Megabytes a second at most"
        hint="0: as fast as it goes. A store that others work on at night is spared."
        value={night?.mostMBps ?? 0}
      />
    </>
  );
}

/** What its nights have taken so far, and what that says of more of them. */
function costWords({ written, anewDays }: Night): string {
  const { anew, added } = written;
  const nights = anew.nights + added.nights;
  if (nights === 0) return '';
  const more = bytesOfDays(written, { anewDays }, SOME_DAYS);
  return ` ${capital(counted(nights, 'night'))} ${nights === 1 ? 'takes' : 'take'} ${size(anew.bytes + added.bytes)}${more === null ? '' : `; ten more days need up to ${size(more)}`}.`;
}
const SOME_DAYS = 10;

const NoCarrier = () => (
  <Card title="Every night, with its media">
    <p className="text-ink-2">
      There is no carrier to write to yet.{' '}
      <Link to="/shelf" className="text-accent underline">
        Register one on the Shelf
      </Link>
    </p>
  </Card>
);

function LastNight({ night: { ran, carrier }, state, nowMs }: { night: Night; state: string; nowMs: number }) {
  return (
    <p className="text-[13px] text-ink-2">
      {state !== 'in work' ? `It is ${state}, so that nothing is written at night. ` : ''}
      {ran ? (
        <span title={exactTime(ran.atMs)}>
          {capital(ago(ran.atMs, nowMs))}, to {carrier}: {ran.said}
        </span>
      ) : (
        'No night has come yet.'
      )}
    </p>
  );
}
