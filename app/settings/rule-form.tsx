// The form of a rule of the house: what is in it, saved by one press, and what came of that.
import { settingsForm } from '#contract/forms.ts';
import type { ReactNode } from 'react';
import { useFetcher } from 'react-router';
import { Form } from '../ui/form';
import { Button, Card, Said } from '../ui/parts';
import type { action } from './settings.server.ts';

/** @param intent which rule it is, as the contract calls it */
export function RuleForm({ title, intent, children }: { title: string; intent: string; children: ReactNode }) {
  const fetcher = useFetcher<typeof action>();
  return (
    <Card title={title}>
      <Form fetcher={fetcher} schema={settingsForm} method="post" className="grid gap-4">
        <input type="hidden" name="intent" value={intent} />
        {children}
        <div>
          <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
            Save
          </Button>
        </div>
        <Said answer={fetcher.data?.answer} />
      </Form>
    </Card>
  );
}
