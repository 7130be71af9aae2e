// What Keramion tells by itself: the morning by mail, what cannot wait for it, and every receipt to a program that listens. What was sent
// last, and a test of each.
import { settingsForm } from '#contract/forms.ts';
import { useFetcher } from 'react-router';
import { ago, exactTime } from '#core/wording/amounts.ts';
import { Form } from '../ui/form';
import { Button, Card, Chip, Field, inputLook, NumberField, Said } from '../ui/parts';
import { Select } from '../ui/select';
import { RuleForm } from './rule-form';
import type { action, loader } from './settings.server.ts';

type Data = Awaited<ReturnType<typeof loader>>;

export function Post({ data }: { data: Data }) {
  return (
    <div className="grid gap-4">
      <Last data={data} />
      <Rule rule={data.post.rule} />
    </div>
  );
}

const ENCRYPTIONS = [
  ['starttls', 'STARTTLS, refused where the server has none'],
  ['tls', 'TLS from the first byte'],
  ['none', 'none: only within the house'],
] as const;

function Rule({ rule }: { rule: Data['post']['rule'] }) {
  return (
    <RuleForm title="What is told, how, and whom" intent="post">
      <MailFields rule={rule} />
      <label className="flex items-start gap-2">
        <input type="checkbox" name="alerts" defaultChecked={rule.alerts} className="mt-1 accent-accent" />
        <span>
          At once, what cannot wait: a volume full within a day, a damaged copy, another disk where a volume belongs, no
          worker, snapshots or the own backup that fail. Once each; put off on the site, it is not told.
        </span>
      </label>
      <Field
        label="Address of Keramion, for links"
        hint="As people open it, for example https://keramion.house.example"
      >
        <input name="address" defaultValue={rule.address} className={inputLook} maxLength={500} />
      </Field>
      <Field
        label="Post every receipt, alert and morning to"
        hint="Empty: nowhere. Signed (RFC 9421) with KERAMION_WEBHOOK_SECRET; what is not taken is tried again for two days."
      >
        <input name="webhook" defaultValue={rule.webhook} className={`${inputLook} path`} maxLength={1000} />
      </Field>
    </RuleForm>
  );
}

function MailFields({ rule }: { rule: Data['post']['rule'] }) {
  return (
    <fieldset className="grid gap-3">
      <legend className="mb-1 font-medium">One mail a morning</legend>
      <div className="grid grid-cols-[minmax(0,1fr)_auto] gap-3">
        <Field label="Mail server" hint="Empty: no mails are sent.">
          <input name="host" defaultValue={rule.host} className={inputLook} maxLength={255} />
        </Field>
        <NumberField name="port" label="Port" value={rule.port} />
      </div>
      <Field label="Encryption">
        <Select name="encryption" defaultValue={rule.encryption} className={inputLook}>
          {ENCRYPTIONS.map(([value, words]) => (
            <option key={value} value={value}>
              {words}
            </option>
          ))}
        </Select>
      </Field>
      <Field
        label="Who signs in there"
        hint="Empty: nobody. The password is KERAMION_MAIL_PASSWORD in the environment of the interface and the workers."
      >
        <input name="user" defaultValue={rule.user} className={inputLook} maxLength={255} autoComplete="off" />
      </Field>
      <div className="grid grid-cols-2 gap-3">
        <Field label="From">
          <input name="from" type="email" defaultValue={rule.from} className={inputLook} maxLength={320} />
        </Field>
        <Field label="To" hint="Several: with a comma between.">
          <input name="to" defaultValue={rule.to.join(', ')} className={inputLook} maxLength={2000} />
        </Field>
      </div>
      <NumberField name="hour" label="After this hour of the day" value={rule.hour} />
    </fieldset>
  );
}

const TONES = { sent: 'ok', waits: 'caution', 'given up': 'loss' } as const;

function Last({ data: { post, nowMs } }: { data: Data }) {
  const isOff = post.rule.host === '' && post.rule.webhook === '';
  return (
    <Card title="What was sent last">
      {post.last.length === 0 ? (
        <p className="text-[13px] text-ink-2">
          {isOff ? 'Nothing is sent by itself. Say below what is told, and whom.' : 'Nothing was sent yet.'}
        </p>
      ) : (
        <ul className="rows" aria-label="Messages">
          {post.last.map((one) => (
            <li key={one.id} className="grid grid-cols-[minmax(0,1fr)_auto_auto] items-baseline gap-x-3 py-1.5">
              <span className="min-w-0 break-words">{one.subject}</span>
              <span className="text-[13px] text-ink-2" title={exactTime(one.madeMs)}>
                {one.by === 'mail' ? 'mail' : 'posted'}, {ago(one.madeMs, nowMs)}
              </span>
              <Chip tone={TONES[one.state]}>{one.state}</Chip>
              {one.trouble && <span className="col-span-3 text-[13px] text-ink-2">{one.trouble}</span>}
            </li>
          ))}
        </ul>
      )}
      {!isOff && (
        <div className="mt-3 grid gap-2">
          {post.rule.host !== '' && <Test by="mail" words="Send a test mail" />}
          {post.rule.webhook !== '' && <Test by="webhook" words="Post a test" />}
        </div>
      )}
    </Card>
  );
}

function Test({ by, words }: { by: 'mail' | 'webhook'; words: string }) {
  const fetcher = useFetcher<typeof action>();
  return (
    <Form fetcher={fetcher} schema={settingsForm} method="post" className="flex items-center gap-3">
      <input type="hidden" name="intent" value="test post" />
      <input type="hidden" name="by" value={by} />
      <Button type="submit" disabled={fetcher.state !== 'idle'}>
        {words}
      </Button>
      <Said answer={fetcher.data?.answer} />
    </Form>
  );
}
