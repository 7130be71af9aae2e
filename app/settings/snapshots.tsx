// Snapshots of documents: where they go, how often, and how long they stay.
import { Field, inputLook, NumberField, VolumeOptions } from '../ui/parts';
import { Select } from '../ui/select';
import { RuleForm } from './rule-form';
import { KeptFor } from './kept-for';
import type { loader } from './settings.server.ts';

type Data = Awaited<ReturnType<typeof loader>>;

export function Snapshots({ data }: { data: Data }) {
  const { snapshots, volumes } = data;
  return (
    <RuleForm title="Snapshots of documents" intent="snapshots">
      <Field
        label="Volume that they go to"
        hint="Another disk than the documents’: what lies on it itself gets no snapshots there."
      >
        <Select name="volumeId" defaultValue={snapshots.volumeId ?? ''} className={inputLook}>
          <option value="">none: no snapshots are made</option>
          <VolumeOptions volumes={volumes} />
        </Select>
      </Field>
      <Field
        label="A second place"
        hint="On another disk again: each place has its own line, and goes on without the other."
      >
        <Select name="alsoVolumeId" defaultValue={snapshots.alsoVolumeId ?? ''} className={inputLook}>
          <option value="">none</option>
          <VolumeOptions volumes={volumes} />
        </Select>
      </Field>
      <NumberField
        name="everyMinutes"
        label="Minutes between two of one document, at least"
        value={snapshots.everyMinutes}
      />
      <KeptFor legend="What is kept of each document" rule={snapshots} />
      <p className="text-[13px] text-ink-2">
        A document of a project in work is kept when it changed and nobody writes it; only whole ones count. They lie in
        the folder .keramion/snapshots of each volume, by project and document, and can be opened from there by hand.
      </p>
    </RuleForm>
  );
}
