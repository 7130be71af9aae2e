// Keramion's own backup: where the catalogue goes each night, how many are kept, how the last was, and one now.
import { settingsForm } from '#contract/forms.ts';
import { useFetcher } from 'react-router';
import { ago, count, exactTime, size } from '#core/wording/amounts.ts';
import { Form } from '../ui/form';
import { Button, Card, Chip, Field, inputLook, Said } from '../ui/parts';
import { RuleForm } from './rule-form';
import { KeptFor } from './kept-for';
import type { action, loader } from './settings.server.ts';

type Data = Awaited<ReturnType<typeof loader>>;

export function OwnBackup({ data }: { data: Data }) {
  const { backup } = data;
  return (
    <div className="grid gap-4">
      <Last data={data} />
      <RuleForm title="Where it goes, and for how long" intent="backup">
        <Field
          label="Folder on the server where a worker runs"
          hint="On another disk than the database. Empty: no backup is made by itself."
        >
          <input name="folder" defaultValue={backup.folder} className={`${inputLook} path`} maxLength={4000} />
        </Field>
        <KeptFor legend="What is kept" rule={backup} />
        <p className="text-[13px] text-ink-2">
          Catalogue, ledger and settings, whole at one moment. Every week the newest is read into a database of its own
          and checked there. With KERAMION_BACKUP_PASSPHRASE set for the worker it is locked. keramion restore-catalogue
          brings one back.
        </p>
      </RuleForm>
    </div>
  );
}

/** How the last one was, and one now. */
function Last({ data: { backup, lastBackup: last, nowMs } }: { data: Data }) {
  const fetcher = useFetcher<typeof action>();
  return (
    <Card title="The last backup of the catalogue">
      <div className="flex flex-wrap items-center gap-2">
        {last === null || last.atMs === 0 ? (
          <Chip tone="caution">none was made yet</Chip>
        ) : (
          <>
            <Chip tone="ok" title={exactTime(last.atMs)}>
              {ago(last.atMs, nowMs)}
            </Chip>
            <span>
              {size(last.bytes)}, {count(last.kept)} kept
            </span>
            {last.provenMs !== null && last.wrong.length === 0 && (
              <Chip tone="ok" title={exactTime(last.provenMs)}>
                proven {ago(last.provenMs, nowMs)}
              </Chip>
            )}
            {last.wrong.length > 0 && <Chip tone="loss">does not check out</Chip>}
          </>
        )}
        {last?.trouble && <Chip tone="loss">the last try failed</Chip>}
      </div>
      {last !== null && last.file !== '' && <p className="path mt-2 break-all text-ink-2">{last.file}</p>}
      {last?.trouble && <p className="mt-2 text-[13px]">{last.trouble}</p>}
      {last?.wrong[0] && <p className="mt-2 text-[13px]">{last.wrong[0]}</p>}
      <Form fetcher={fetcher} schema={settingsForm} method="post" className="mt-3 flex items-center gap-3">
        <input type="hidden" name="intent" value="back up now" />
        <Button type="submit" disabled={fetcher.state !== 'idle' || backup.folder === ''}>
          Back up now
        </Button>
        <Said answer={fetcher.data?.answer} />
      </Form>
    </Card>
  );
}
