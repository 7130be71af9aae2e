// How long an archive is kept, its legal hold, and letting it go: which erases nothing, and asks for its name to be typed.
import { archiveForm } from '#contract/forms.ts';
import { isoDay } from '#core/house-time.ts';
import { useFetcher } from 'react-router';
import { day, exactTime } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { Form } from '../ui/form';
import { Fold } from '../ui/fold';
import { Button, Card, Field, inputLook, Said } from '../ui/parts';
import { Select } from '../ui/select';
import type { Route } from './+types/archive';

type Data = Route.ComponentProps['loaderData'];

export function Keeping({ data: { archive, keeping } }: { data: Data }) {
  if (archive.state === 'let go')
    return (
      <Card title="Let go">
        It is no longer counted on, found or read back. What still lies on its carriers may be wiped, or taken in again.
      </Card>
    );
  if (archive.state !== 'sealed') return null;
  return (
    <Card title="How long it is kept">
      <div className="grid gap-3">
        <Rule keeping={keeping} />
        <Hold hold={keeping.hold} />
        <LetGo folder={archive.folder} holdsBack={keeping.holdsBack} />
      </div>
    </Card>
  );
}

type Kept = Data['keeping'];

function Rule({ keeping: { rule, untilMs } }: { keeping: Kept }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Form fetcher={fetcher} schema={archiveForm} method="post" className="grid gap-2">
      <input type="hidden" name="intent" value="keep" />
      <div className="grid gap-2" key={`${rule} ${untilMs}`}>
        <Field label="Keep it">
          <Select name="rule" defaultValue={rule} className={inputLook}>
            <option value="ask">until somebody decides</option>
            <option value="until">until a day</option>
            <option value="for ever">for ever</option>
          </Select>
        </Field>
        <Field label="Until">
          <input
            name="until"
            type="date"
            defaultValue={untilMs === null ? '' : isoDay(untilMs)}
            className={inputLook}
          />
        </Field>
      </div>
      <Said answer={fetcher.data} />
      <div>
        <Button type="submit" disabled={fetcher.state !== 'idle'}>
          Save how long
        </Button>
      </div>
    </Form>
  );
}

function Hold({ hold }: { hold: Kept['hold'] }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Form fetcher={fetcher} schema={archiveForm} method="post" className="grid gap-2 border-t border-line-soft pt-3">
      <input type="hidden" name="intent" value="hold" />
      {hold ? (
        <p className="text-[13px]">
          <b className="text-caution">Under legal hold</b> since{' '}
          <span title={exactTime(hold.sinceMs)}>{day(hold.sinceMs)}</span> by {hold.by}: {hold.reason}
        </p>
      ) : (
        <Field label="Legal hold" hint="Until it is lifted nobody lets it go.">
          <input name="reason" className={inputLook} maxLength={300} placeholder="Why, for example a dispute" />
        </Field>
      )}
      <Said answer={fetcher.data} />
      <div>
        <Button type="submit" name="lift" value={hold ? 'on' : ''} disabled={fetcher.state !== 'idle'}>
          {hold ? 'Lift the legal hold' : 'Put under legal hold'}
        </Button>
      </div>
    </Form>
  );
}

function LetGo({ folder, holdsBack }: { folder: string; holdsBack: string | null }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Fold
      className="border-t border-line-soft pt-3"
      line={<span className="text-[13px] font-medium">Letting it go</span>}
    >
      <div className="mt-2 grid gap-2">
        <p className="text-[13px] text-ink-2">
          Nothing is erased. It is no longer counted on, found or read back, and what lies on its carriers may be wiped.
          This page and its receipts stay.
        </p>
        {holdsBack !== null ? (
          <p className="text-[13px] text-caution">{holdsBack}</p>
        ) : (
          <Form fetcher={fetcher} schema={archiveForm} method="post" className="grid gap-2">
            <input type="hidden" name="intent" value="let go" />
            <Field label={`Type ${folder}`}>
              <input name="typed" className={`${inputLook} path`} autoComplete="off" maxLength={250} />
            </Field>
            <Said answer={fetcher.data} />
            <div>
              <Button type="submit" tone="loss" disabled={fetcher.state !== 'idle'}>
                Let it go
              </Button>
            </div>
          </Form>
        )}
      </div>
    </Fold>
  );
}
