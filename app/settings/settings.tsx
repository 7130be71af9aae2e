// Settings: the rules by which files get their kinds, with what a change of them would do shown before it is saved; the
// templates that new projects get their homes from; and what removing files may rely on.
import { settingsForm } from '#contract/forms.ts';
import { useState } from 'react';
import { useFetcher, useSearchParams } from 'react-router';
import type { Route } from './+types/settings';
import { placesOf } from '#core/snapshots/snapshots.ts';
import { hoursWords } from '#core/nights/hours.ts';
import { KINDS_WITH_HOMES } from '#core/homes/homes.ts';
import type { Kind } from '#core/model.ts';
import { count, listed } from '#core/wording/amounts.ts';
import { type SettingsFacts, settingsSentence } from '#core/wording/settings.ts';
import { Form } from '../ui/form';
import {
  Button,
  Card,
  Empty,
  Field,
  inputLook,
  KindDot,
  NumberField,
  Said,
  Sentence,
  VolumeOptions,
} from '../ui/parts';
import { Select } from '../ui/select';
import { Views } from '../ui/views';
import { Rules } from './kind-rules';
import { RuleForm } from './rule-form';
import { Hours } from './hours';
import { House } from './house';
import { OwnBackup } from './own-backup';
import { Post } from './post';
import { Snapshots } from './snapshots';
import type { action } from './settings.server.ts';

export { loader, action } from './settings.server.ts';

type Data = Route.ComponentProps['loaderData'];

export default function Settings({ loaderData }: Route.ComponentProps) {
  const [search] = useSearchParams();
  const show = VIEWS.find((view) => view.key === search.get('show'))?.key ?? 'kinds';
  // Held here, because the rules below are made anew once they are saved and their answer must outlive that.
  const fetcher = useFetcher<typeof action>();
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-3">
      <Sentence>{settingsSentence(show, factsOf(loaderData))}</Sentence>
      <Views label="Settings" views={VIEWS.map((view) => ({ ...view, to: `?show=${view.key}` }))} shown={show}>
        {show === 'templates' && (
          <div className="max-w-[720px]">
            <Templates data={loaderData} />
          </div>
        )}
        {show === 'removing' && (
          <div className="max-w-[720px]">
            <Removing removing={loaderData.removing} />
          </div>
        )}
        {show === 'backup' && (
          <div className="max-w-[720px]">
            <OwnBackup data={loaderData} />
          </div>
        )}
        {show === 'post' && (
          <div className="max-w-[720px]">
            <Post data={loaderData} />
          </div>
        )}
        {show === 'house' && (
          <div className="max-w-[720px]">
            <House {...loaderData} />
          </div>
        )}
        {show === 'hours' && (
          <div className="max-w-[720px]">
            <Hours hours={loaderData.hours} />
          </div>
        )}
        {show === 'snapshots' && (
          <div className="max-w-[720px]">
            <Snapshots data={loaderData} />
          </div>
        )}
        {show === 'kinds' && <Rules key={JSON.stringify(loaderData.rules)} data={loaderData} fetcher={fetcher} />}
      </Views>
    </div>
  );
}

const listedOrNull = (names: readonly string[]): string | null => (names.length === 0 ? null : listed(names));

const factsOf = ({
  house,
  hours,
  machine,
  rules,
  templates,
  removing,
  snapshots,
  backup,
  post,
  volumes,
}: Data): SettingsFacts => ({
  ...{ house: house.name, zone: house.zone || machine },
  ...{ nights: hoursWords(hours.night), ownHours: Object.keys(hours.own).length },
  ...{ rules: rules.length, templates: templates.length, ...removing.copies },
  readBackMonths: removing.shelf.readBackMonths,
  snapshotsOn: listedOrNull(
    placesOf(snapshots).flatMap((id) => volumes.find((volume) => volume.volumeId === id)?.name ?? []),
  ),
  everyMinutes: snapshots.everyMinutes,
  backupFolder: backup.folder,
  mailTo: post.rule.host === '' ? [] : post.rule.to,
  posts: post.rule.webhook !== '',
});

const VIEWS = [
  { key: 'kinds', words: 'Kinds of files' },
  { key: 'templates', words: 'Templates' },
  { key: 'removing', words: 'Removing and archives' },
  { key: 'hours', words: 'Hours' },
  { key: 'snapshots', words: 'Snapshots' },
  { key: 'backup', words: 'Own backup' },
  { key: 'post', words: 'Mail and posting' },
  { key: 'house', words: 'The house' },
] as const;

/** What a removal may rely on beside what it sees itself: nothing, unless the house says so here. */
function Removing({ removing }: { removing: Data['removing'] }) {
  return (
    <RuleForm title="What removing files may rely on, and what archives are to have" intent="removing">
      <Field
        label="Hours for which an earlier read-back counts"
        hint="0: each original is read back from its archived copy in the step that removes it. This takes as long as reading the copy."
      >
        <input
          name="readBackHours"
          inputMode="numeric"
          defaultValue={removing.readBackHours}
          className={`${inputLook} w-28`}
          required
        />
      </Field>
      <label className="flex items-start gap-2">
        <input
          type="checkbox"
          name="trustUnseen"
          defaultChecked={removing.trustUnseen}
          className="mt-1 accent-accent"
        />
        <span>
          Remove files although there are programs whose open files cannot be seen
          <span className="block text-[13px] text-ink-2">
            The worker sees the programs of its own user alone, unless it runs as root. Off: files are left where they
            are while it cannot tell.
          </span>
        </span>
      </label>
      <AsideAtNight rule={removing.aside} />
      <WantedCopies rule={removing.copies} />
      <KeptWhole rule={removing.shelf} />
    </RuleForm>
  );
}

/** Below it, it is said wherever an archive is shown. */
function WantedCopies({ rule }: { rule: Data['removing']['copies'] }) {
  return (
    <fieldset className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-4">
      <legend className="mb-1 font-medium">What an archive is to have</legend>
      <NumberField
        name="copies"
        label="Good copies"
        hint="One copy is none when its carrier fails."
        value={rule.copies}
      />
      <NumberField
        name="places"
        label="Places that they lie in"
        hint="As carriers say where they are: on site and off site are two."
        value={rule.places}
      />
    </fieldset>
  );
}

/** What is done for archives, and told of carriers, without anybody asking. */
function KeptWhole({ rule }: { rule: Data['removing']['shelf'] }) {
  return (
    <fieldset className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-4">
      <legend className="mb-1 font-medium">How the shelf is kept whole</legend>
      <NumberField
        name="readBackMonths"
        label="Read every copy back after so many months"
        hint="0: only when asked. At night, those in reach, the longest unread first; what is not in reach is asked for."
        value={rule.readBackMonths}
      />
      <NumberField
        name="carrierYears"
        label="Years that a carrier is used"
        hint="0: no limit. Older ones are told, to be copied to fresh ones."
        value={rule.carrierYears}
      />
    </fieldset>
  );
}

/** When what is set aside goes without anybody pressing anything. */
function AsideAtNight({ rule }: { rule: Data['removing']['aside'] }) {
  return (
    <fieldset className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-4">
      <legend className="mb-1 font-medium">What is set aside goes at night by itself</legend>
      <Field
        label="After so many days"
        hint="0: never. Only what has a copy, and that copy is read first; the only copies wait for a person."
      >
        <input name="asideDays" inputMode="numeric" defaultValue={rule.days} className={`${inputLook} w-28`} />
      </Field>
      <Field
        label="On volumes with fewer GB free than"
        hint="0: however full they are. The oldest goes first, until so much is free."
      >
        <input
          name="asideShortGb"
          inputMode="numeric"
          defaultValue={rule.shortBytes / 1e9}
          className={`${inputLook} w-28`}
        />
      </Field>
    </fieldset>
  );
}

function Templates({ data }: { data: Data }) {
  const fetcher = useFetcher<typeof action>();
  const [chosen, setChosen] = useState<string>(data.templates[0]?.name ?? '');
  const template = data.templates.find((one) => one.name === chosen);
  return (
    <Card title="Templates" aside={count(data.templates.length)}>
      {data.templates.length === 0 ? (
        <Empty>A template says where each kind of file of a new project belongs.</Empty>
      ) : (
        <Field label="Change">
          <Select className={inputLook} value={chosen} onChange={(event) => setChosen(event.target.value)}>
            {data.templates.map((one) => (
              <option key={one.name}>{one.name}</option>
            ))}
            <option value="">a new one</option>
          </Select>
        </Field>
      )}
      <Template key={`${chosen} ${JSON.stringify(template)}`} data={data} template={template} fetcher={fetcher} />
    </Card>
  );
}

interface TemplateProps {
  data: Data;
  template: Data['templates'][number] | undefined;
  fetcher: ReturnType<typeof useFetcher<typeof action>>;
}

function Template({ data, template, fetcher }: TemplateProps) {
  const [homes, setHomes] = useState(() =>
    KINDS_WITH_HOMES.map((kind) => {
      const home = template?.homes.find((one) => one.kind === kind);
      return { kind, volumeId: home?.volumeId ?? 0, folder: home?.folder ?? '' };
    }),
  );
  const set = (kind: Kind, to: Partial<(typeof homes)[number]>) =>
    setHomes((all) => all.map((home) => (home.kind === kind ? { ...home, ...to } : home)));
  const kept = homes.filter((home) => home.volumeId > 0);
  return (
    <Form fetcher={fetcher} schema={settingsForm} method="post" className="mt-3 grid gap-3">
      <input type="hidden" name="intent" value="template" />
      <input type="hidden" name="homes" value={JSON.stringify(kept)} />
      <Field label="Name">
        <input name="name" className={inputLook} defaultValue={template?.name} maxLength={120} required />
      </Field>
      <ul className="grid gap-1.5">
        {homes.map((home) => (
          <li key={home.kind} className="grid grid-cols-[100px_minmax(0,1fr)_minmax(0,1.4fr)] items-center gap-2">
            <span className="flex items-center gap-1.5">
              <KindDot kind={home.kind} /> {home.kind}
            </span>
            <Select
              aria-label={`Volume for ${home.kind}`}
              className={inputLook}
              value={home.volumeId}
              onChange={(event) => set(home.kind, { volumeId: Number(event.target.value) as never })}
            >
              <option value={0}>no home</option>
              <VolumeOptions volumes={data.volumes} />
            </Select>
            <input
              aria-label={`Folder for ${home.kind}`}
              className={`${inputLook} path`}
              placeholder="{project}"
              value={home.folder}
              disabled={home.volumeId === 0}
              onChange={(event) => set(home.kind, { folder: event.target.value })}
            />
          </li>
        ))}
      </ul>
      <p className="text-[13px] text-ink-2">
        {'{project}'} stands for the project’s short name, {'{year}'} for its year. Without any home the template is
        taken away.
      </p>
      <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
        {kept.length === 0 && template ? 'Take the template away' : 'Save the template'}
      </Button>
      <Said answer={fetcher.data?.preview ? undefined : fetcher.data?.answer} />
    </Form>
  );
}
