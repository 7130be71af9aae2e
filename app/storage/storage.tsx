// Storage: registering, changing and retiring volumes and carriers, and the path each volume has on other stations.
import { placesForm } from '#contract/forms.ts';
import { Link, useFetcher } from 'react-router';
import { useState } from 'react';
import type { Route } from './+types/storage';
import { DUTIES } from '#core/model.ts';
import { ago, counted, exactTime, size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { copyText } from '../lib/copy';
import { useFrame } from '../shell/use-frame';
import { Form } from '../ui/form';
import { Button, buttonLook, Card, Chip, Empty, Field, inputLook, Said, Sentence } from '../ui/parts';
import { type Column, Table } from '../ui/table';
import { Select } from '../ui/select';
import { FolderField } from './folder-field';
import { Scroll } from '../ui/scroll';

export { loader, action } from './storage.server.ts';

type Data = Route.ComponentProps['loaderData'];
type Volume = Data['volumes'][number];

const STATE_TONES = { reachable: 'ok', unreachable: 'caution', swapped: 'loss', 'not looked at': 'plain' } as const;

export default function Storage({ loaderData: data }: Route.ComponentProps) {
  const stations = new Set(data.volumes.map((volume) => volume.station));
  return (
    <div className="grid gap-4">
      <div className="flex items-start justify-between slim:flex-wrap gap-4">
        <Sentence>
          {data.volumes.length === 0
            ? 'No volume is registered yet. Register the first one.'
            : `${counted(data.volumes.length, 'volume')} on ${counted(stations.size, 'station')}, ${counted(data.carriers.length, 'carrier')}.`}
        </Sentence>
        <div className="flex shrink-0 slim:shrink slim:flex-wrap gap-2">
          <Link to="/settings" className={buttonLook()}>
            Settings
          </Link>
          <Link to="?edit=volume" className={buttonLook()}>
            Add a volume
          </Link>
          <Link to="?edit=carrier" className={buttonLook()}>
            Add a carrier
          </Link>
        </div>
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_330px] gap-4">
        <div className="grid content-start gap-4">
          <Card title="Volumes">
            {data.volumes.length === 0 ? <Empty>Nothing is registered.</Empty> : <Volumes data={data} />}
          </Card>
          {data.edit && data.reading && <Reading volume={data.edit.name} reading={data.reading} />}
          <Card title="Stations">
            {data.stations.length === 0 ? <Empty>No station is known.</Empty> : <Stations data={data} />}
          </Card>
          <Card title="Carriers">
            {data.carriers.length === 0 ? <Empty>No carrier is registered.</Empty> : <Carriers data={data} />}
          </Card>
        </div>
        <div className="grid content-start gap-4">
          {data.edit ? (
            <Edit
              key={data.edit.volumeId}
              volume={data.edit}
              mounts={data.mounts.filter((mount) => mount.volumeId === data.edit!.volumeId)}
              stations={[...stations]}
            />
          ) : data.adding === 'carrier' ? (
            <AddCarrier kinds={data.kinds} />
          ) : (
            <AddVolume stations={[...stations]} />
          )}
        </div>
      </div>
    </div>
  );
}

/** The end of a path tells disks apart; the whole is on hover. */
const tailOf = (path: string) => (path.split('/').length > 4 ? `…/${path.split('/').slice(-2).join('/')}` : path);

function Volumes({ data }: { data: Data }) {
  const fetcher = useFetcher<Answer>();
  const read = (volumeId: number) =>
    void fetcher.submit({ intent: 'read', volumes: String(volumeId) }, { method: 'post', action: '/work' });
  return (
    <>
      <Said answer={fetcher.data} />
      <Table<Volume>
        label="Volumes"
        rows={data.volumes}
        rowKey={(volume) => volume.volumeId}
        marked={(volume) => volume.volumeId === data.edit?.volumeId}
        columns={volumeColumns}
        actions={({ volumeId, path, name }) => [
          { name: 'Change it', letter: 'o', to: `?edit=${volumeId}` },
          { name: 'What lies on it', letter: 's', to: `/space?v=${volumeId}` },
          { name: 'What of it can go', letter: 'f', to: `/reclaim?v=${volumeId}` },
          { name: 'Read it again', letter: 'r', run: () => read(volumeId) },
          { name: 'Copy its path', letter: 'c', run: () => copyText(path) },
          { name: 'Copy its name', run: () => copyText(name) },
        ]}
      />
    </>
  );
}

/** What a volume is like, in words. */
const traitsOf = (volume: Volume): string[] => [
  ...(volume.systemDrive ? ['system drive'] : []),
  ...(volume.portable ? ['travels'] : []),
  ...(volume.shared ? ['shared'] : []),
  ...(volume.linkMbits === null ? [] : [`${volume.linkMbits} Mbit/s`]),
  ...(volume.disk === '' || volume.disk === volume.name ? [] : [`on ${volume.disk}`]),
];

/** What the last reading passed over or could not read, and why. */
function Reading({ volume, reading }: { volume: string; reading: NonNullable<Data['reading']> }) {
  const { nowMs } = useFrame();
  return (
    <Card
      title={`Last reading of ${volume}`}
      aside={<span title={exactTime(reading.startedMs)}>{ago(reading.startedMs, nowMs)}</span>}
    >
      <p className="text-ink-2">
        {counted(reading.looked, 'file')} looked at.{' '}
        {reading.total === 0 ? 'Everything was read.' : `${counted(reading.total, 'thing')} to know:`}
      </p>
      {reading.notices.length > 0 && (
        <Scroll label="What was not read" maxHeight={176} className="mt-1">
          <ul className="rows" aria-label="What was not read">
            {reading.notices.map((notice, i) => (
              <li key={i} className="flex justify-between gap-3 py-1">
                <span className="path truncate" title={notice.path}>
                  {notice.path || '(top)'}
                </span>
                <span className="shrink-0 text-[13px] text-ink-2" title={notice.detail}>
                  {notice.code}
                </span>
              </li>
            ))}
          </ul>
        </Scroll>
      )}
    </Card>
  );
}

function Stations({ data }: { data: Data }) {
  // One for all, so that the answer stays when its station is gone.
  const fetcher = useFetcher<Answer>();
  return (
    <div className="grid gap-2">
      <ul className="rows">
        {data.stations.map((station) => (
          <Station key={station.stationId} station={station} fetcher={fetcher} />
        ))}
      </ul>
      {fetcher.data && <Said answer={fetcher.data} />}
    </div>
  );
}

interface StationProps {
  station: Data['stations'][number];
  fetcher: ReturnType<typeof useFetcher<Answer>>;
}

function Station({ station, fetcher }: StationProps) {
  return (
    <li className="py-1.5">
      <Form
        fetcher={fetcher}
        schema={placesForm}
        method="post"
        className="grid grid-cols-[minmax(0,1fr)_130px_90px_auto_auto] items-center gap-2"
      >
        <input type="hidden" name="stationId" value={station.stationId} />
        <input
          name="name"
          aria-label="Name of the station"
          defaultValue={station.name}
          maxLength={60}
          className={inputLook}
        />
        <Select name="role" aria-label={`What ${station.name} is`} defaultValue={station.role} className={inputLook}>
          <option value="workstation">workstation</option>
          <option value="server">shared store</option>
          <option value="portable">portable disk</option>
        </Select>
        <span className="text-[13px] text-ink-2">{counted(station.volumes, 'volume')}</span>
        <Button type="submit" name="intent" value="change station" aria-label={`Save ${station.name}`}>
          Save
        </Button>
        <Button
          tone="loss"
          type="submit"
          name="intent"
          value="retire station"
          disabled={station.volumes > 0}
          title={station.volumes > 0 ? 'Volumes hang on it' : undefined}
          aria-label={`Retire ${station.name}`}
        >
          Retire
        </Button>
      </Form>
    </li>
  );
}

function Carriers({ data }: { data: Data }) {
  return (
    <Table
      label="Carriers"
      rows={data.carriers}
      rowKey={(carrier) => carrier.carrierId}
      columns={[
        {
          key: 'name',
          title: 'Carrier',
          sort: (carrier) => carrier.name,
          cell: (carrier) => <span className="path font-medium">{carrier.name}</span>,
        },
        { key: 'type', title: 'Type', cell: (carrier) => carrier.type },
        { key: 'place', title: 'Place', sort: (carrier) => carrier.place, cell: (carrier) => carrier.place },
        {
          key: 'capacity',
          title: 'Capacity',
          number: true,
          sort: (carrier) => carrier.capacityBytes,
          cell: (carrier) => size(carrier.capacityBytes),
        },
        {
          key: 'state',
          title: 'State',
          cell: (carrier) => <Chip tone={carrier.state === 'reachable' ? 'ok' : 'caution'}>{carrier.state}</Chip>,
        },
      ]}
    />
  );
}

function Fields({ volume }: { volume?: Volume }) {
  return (
    <>
      <Field label="Name">
        <input name="name" className={inputLook} defaultValue={volume?.name} maxLength={60} required />
      </Field>
      <FolderField name="path" label="Folder on this server" initial={volume?.path} />
      <div className="grid grid-cols-2 gap-3">
        <Field label="Duty">
          <Select name="duty" className={inputLook} defaultValue={volume?.duty ?? 'source'}>
            {DUTIES.map((duty) => (
              <option key={duty}>{duty}</option>
            ))}
          </Select>
        </Field>
        <Field label="Quota in GB">
          <input
            name="capacity"
            inputMode="decimal"
            className={inputLook}
            defaultValue={volume?.quota ? volume.capacityBytes / 1e9 : ''}
            placeholder="measured"
          />
        </Field>
      </div>
      <div className="grid grid-cols-2 gap-3">
        <Field label="Read every … hours">
          <input
            name="everyHours"
            inputMode="numeric"
            className={inputLook}
            defaultValue={volume ? (volume.readEveryHours ?? '') : 24}
            placeholder="only when asked"
          />
        </Field>
        <Field label="Link in Mbit/s">
          <input
            name="linkMbits"
            inputMode="numeric"
            className={inputLook}
            defaultValue={volume?.linkMbits ?? ''}
            placeholder="not known"
          />
        </Field>
      </div>
      <Field label="Disk or array it lies on">
        <input
          name="disk"
          className={inputLook}
          maxLength={120}
          defaultValue={volume?.disk ?? ''}
          placeholder="as the system says"
          title="Volumes of one disk are lost together. Say the same here of two shares of one server, as the system cannot tell."
        />
      </Field>
      <Traits volume={volume} />
    </>
  );
}

function AddVolume({ stations }: { stations: string[] }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Card title="Add a volume">
      <Form fetcher={fetcher} schema={placesForm} method="post" className="grid gap-3">
        <input type="hidden" name="intent" value="add volume" />
        <div className="grid grid-cols-2 gap-3">
          <Field label="Station">
            <input name="station" list="stations" className={inputLook} maxLength={60} required />
            <datalist id="stations">
              {stations.map((station) => (
                <option key={station} value={station} />
              ))}
            </datalist>
          </Field>
          <Field label="It is a">
            <Select name="role" className={inputLook}>
              <option value="workstation">workstation</option>
              <option value="server">shared store</option>
              <option value="portable">portable disk</option>
            </Select>
          </Field>
        </div>
        <Fields />
        <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
          Register and read it
        </Button>
        <Said answer={fetcher.data} />
        <p className="text-[13px] text-ink-2">
          It is given an identity in a folder named .keramion, so that another disk at its place is recognised.
        </p>
      </Form>
    </Card>
  );
}

function AddCarrier({ kinds }: { kinds: Data['kinds'] }) {
  const fetcher = useFetcher<Answer>();
  const [chosen, choose] = useState(kinds[0]?.kind ?? '');
  const kind = kinds.find((one) => one.kind === chosen);
  return (
    <Card title="Add a carrier">
      <Form fetcher={fetcher} schema={placesForm} method="post" className="grid gap-3">
        <input type="hidden" name="intent" value="add carrier" />
        <Field label="Name">
          <input name="name" className={inputLook} maxLength={60} required />
        </Field>
        <Field label="Kind">
          <Select name="kind" value={chosen} onChange={(event) => choose(event.target.value)} className={inputLook}>
            {kinds.map((one) => (
              <option key={one.kind} value={one.kind}>
                {one.name}
              </option>
            ))}
          </Select>
        </Field>
        <Field label="Where it is kept">
          <input name="place" className={inputLook} maxLength={60} required />
        </Field>
        {kind?.fields.map((field) =>
          field.isFolder ? (
            <FolderField key={field.name} name={`setting.${field.name}`} label={field.label} hint={field.hint} />
          ) : (
            <Field key={field.name} label={field.label} hint={field.hint}>
              <input
                name={`setting.${field.name}`}
                type={field.secret ? 'password' : 'text'}
                autoComplete="off"
                className={`${inputLook} path`}
                required={!field.optional}
              />
            </Field>
          ),
        )}
        <Field label="Capacity in GB">
          <input name="capacity" inputMode="decimal" className={inputLook} placeholder="measured" />
        </Field>
        <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
          {fetcher.state === 'idle' ? 'Register it' : 'Looking at it …'}
        </Button>
        <Said answer={fetcher.data} />
      </Form>
    </Card>
  );
}

interface EditProps {
  volume: Volume;
  mounts: Data['mounts'];
  stations: string[];
}

function Edit({ volume, mounts, stations }: EditProps) {
  const change = useFetcher<Answer>();
  const retire = useFetcher<Answer>();
  return (
    <>
      <Card title={volume.name} aside={volume.station}>
        <Form fetcher={change} schema={placesForm} method="post" className="grid gap-3">
          <input type="hidden" name="intent" value="change volume" />
          <input type="hidden" name="volumeId" value={volume.volumeId} />
          <Fields volume={volume} />
          <Button tone="first" type="submit" disabled={change.state !== 'idle'}>
            Save
          </Button>
          <Said answer={change.data} />
        </Form>
      </Card>
      <Mounts volume={volume} mounts={mounts} stations={stations} />
      <Card title="Retire it">
        <Form fetcher={retire} schema={placesForm} method="post" className="grid gap-2">
          <input type="hidden" name="intent" value="retire" />
          <input type="hidden" name="volumeId" value={volume.volumeId} />
          <p className="text-[13px] text-ink-2">
            It leaves the rack and is no longer read. What is known of it is kept, and nothing on it is touched.
          </p>
          <Button tone="loss" type="submit" disabled={retire.state !== 'idle'}>
            Retire {volume.name}
          </Button>
          <Said answer={retire.data} />
        </Form>
      </Card>
    </>
  );
}

const volumeColumns: Column<Volume>[] = [
  {
    key: 'name',
    title: 'Volume',
    sort: (volume) => volume.name,
    cell: (volume) => (
      <>
        <Link
          to={`?edit=${volume.volumeId}`}
          className="block max-w-48 truncate font-medium hover:underline"
          title={volume.name}
        >
          {volume.name}
        </Link>
        <span className="path block max-w-48 truncate text-ink-2" title={volume.path}>
          {tailOf(volume.path)}
        </span>
      </>
    ),
  },
  { key: 'station', title: 'Station', sort: (volume) => volume.station, cell: (volume) => volume.station },
  {
    key: 'duty',
    title: 'Duty',
    sort: (volume) => volume.duty,
    cell: (volume) => {
      const traits = traitsOf(volume);
      return (
        <>
          {volume.duty}
          {traits.length > 0 && (
            <span className="block text-[13px] whitespace-normal text-ink-2">{traits.join(', ')}</span>
          )}
        </>
      );
    },
  },
  {
    key: 'capacity',
    title: 'Capacity',
    number: true,
    sort: (volume) => volume.capacityBytes,
    cell: (volume) => <span title={volume.quota ? 'a quota' : 'measured'}>{size(volume.capacityBytes)}</span>,
  },
  {
    key: 'state',
    title: 'State',
    sort: (volume) => volume.state,
    cell: (volume) => (
      <span className="flex gap-1">
        <Chip tone={STATE_TONES[volume.state]}>{volume.state === 'swapped' ? 'another disk there' : volume.state}</Chip>
        {volume.readOnly && <Chip tone="caution">read-only</Chip>}
      </span>
    ),
  },
];

function Traits({ volume }: { volume?: Volume }) {
  return (
    <fieldset className="flex flex-wrap gap-x-4 gap-y-1">
      <legend className="sr-only">What it is like</legend>
      {(
        [
          ['systemDrive', 'system drive'],
          ['portable', 'travels'],
          ['shared', 'shared by stations'],
        ] as const
      ).map(([key, words]) => (
        <label key={key} className="flex min-h-6 items-center gap-1.5">
          <input type="checkbox" name={key} defaultChecked={volume?.[key]} className="accent-accent" />
          {words}
        </label>
      ))}
    </fieldset>
  );
}

function Mounts({ volume, mounts, stations }: EditProps) {
  const mount = useFetcher<Answer>();
  const others = stations.filter((station) => station !== volume.station);
  return (
    <Card title="Its path on other stations">
      <ul className="rows">
        {[...new Set([...mounts.map((m) => m.station), ...others])].map((station) => (
          <li key={station} className="py-2">
            <Form fetcher={mount} schema={placesForm} method="post" className="flex items-end gap-2">
              <input type="hidden" name="intent" value="mount" />
              <input type="hidden" name="volumeId" value={volume.volumeId} />
              <input type="hidden" name="station" value={station} />
              <div className="min-w-0 flex-1">
                <Field label={station}>
                  <input
                    name="path"
                    className={`${inputLook} path`}
                    defaultValue={mounts.find((m) => m.station === station)?.path}
                    placeholder="not mounted there"
                  />
                </Field>
              </div>
              <Button type="submit" aria-label={`Save the path on ${station}`}>
                Save
              </Button>
            </Form>
          </li>
        ))}
      </ul>
      <Said answer={mount.data} />
    </Card>
  );
}
