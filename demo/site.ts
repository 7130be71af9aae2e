// Saltpan House, made up: two workstations, a shared store, two portable disks, eleven carriers, thirteen projects. Written as
// plain files, as people would have left them; nothing in the product knows about it.
import { createHash } from 'node:crypto';
import { mkdirSync, readFileSync, rmSync } from 'node:fs';
import path from 'node:path';
import { pathToFileURL } from 'node:url';
import { strToU8, zipSync } from 'fflate';
import type { ArchiveScope } from '#core/archive/selection.ts';
import { fileUrlOf } from '#core/documents/targets.ts';
import { type Chance, chance } from './chance.ts';
import { type Writer, writer } from './files.ts';
import { movHead } from './mov.ts';
import { type DemoBin, type DemoMedia, type DemoUse, document } from './otio.ts';
import { film, pictures } from './pictures.ts';
import { edl, session } from './other-documents.ts';
import { wavHead, WAV_BYTES_A_SECOND } from './wav.ts';

export interface DemoSite {
  shrink: number;
  files: number;
  bytes: number;
}

const DAY_MS = 86_400_000;
const FPS = 25;
const FRAME_BYTES = 1_200_000;

/** Makes the site's files below `root`, ages counted back from `today`. */
export function makeSite(root: string, today: Date, seed = 20): DemoSite {
  rmSync(root, { recursive: true, force: true });
  for (const folder of [...VOLUMES.map((v) => v.folder), ...CARRIERS.map((c) => c.folder)])
    mkdirSync(path.join(root, folder), { recursive: true });
  const maker = new Maker(root, today, chance(seed));
  lampKeepers(maker);
  nightFerry(maker);
  otherProjects(maker);
  gannetRock(maker);
  caches(maker);
  oddments(maker);
  archivedOnes(maker);
  oldDisk(maker);
  return { shrink: maker.out.shrink, files: maker.files, bytes: maker.bytes };
}

export const VOLUMES = [
  {
    station: 'Ropewalk',
    role: 'server',
    name: 'Ropewalk media',
    folder: 'ropewalk-media',
    duty: 'source',
    quota: 480e9,
  },
  {
    station: 'Ropewalk',
    role: 'server',
    name: 'Ropewalk projects',
    folder: 'ropewalk-projects',
    duty: 'documents',
    quota: 40e9,
  },
  {
    station: 'loft-1',
    role: 'workstation',
    name: 'loft-1 scratch',
    folder: 'loft-1-scratch',
    duty: 'renders',
    quota: 116e9,
  },
  {
    station: 'loft-1',
    role: 'workstation',
    name: 'loft-1 system',
    folder: 'loft-1-system',
    duty: 'none',
    quota: 60e9,
  },
  {
    station: 'loft-2',
    role: 'workstation',
    name: 'loft-2 scratch',
    folder: 'loft-2-scratch',
    duty: 'renders',
    quota: 90e9,
  },
  {
    station: 'Ropewalk',
    role: 'server',
    name: 'Ropewalk library',
    folder: 'ropewalk-library',
    duty: 'library',
    quota: 60e9,
  },
  {
    station: 'loft-2',
    role: 'workstation',
    name: 'loft-2 system',
    folder: 'loft-2-system',
    duty: 'none',
    quota: 60e9,
  },
  { station: 'Portable', role: 'portable', name: 'Carry 04', folder: 'carry-04', duty: 'source', quota: 80e9 },
  { station: 'Portable', role: 'portable', name: 'Carry 07', folder: 'carry-07', duty: 'backups', quota: 40e9 },
] as const;

/** Disks a station boots from. */
export const SYSTEM_DRIVES: readonly string[] = ['loft-1 system', 'loft-2 system'];
/** Out of the house: read once, then disconnected. */
export const AWAY = 'Carry 07';

/** Paths that stations have to volumes of others. */
export const MOUNTS = [
  { volume: 'Ropewalk media', station: 'loft-1', path: '/Volumes/Ropewalk' },
  { volume: 'Ropewalk media', station: 'loft-2', path: 'R:\\' },
  { volume: 'Ropewalk library', station: 'loft-2', path: '\\\\ropewalk\\library' },
  { volume: 'Ropewalk projects', station: 'loft-1', path: '/Volumes/Projects' },
  { volume: 'Ropewalk projects', station: 'loft-2', path: '\\\\ropewalk\\projects' },
] as const;

/** `years`: since when each is in use. */
export const CARRIERS = [
  { name: 'KD-0001', folder: 'carriers/kd-0001', place: 'Cabinet, top shelf', capacity: 400e9, years: 4 },
  { name: 'KD-0002', folder: 'carriers/kd-0002', place: 'Cabinet, top shelf', capacity: 4e9, years: 2 },
  { name: 'KD-0003', folder: 'carriers/kd-0003', place: 'Bank, box 12', capacity: 4e9, years: 2 },
  { name: 'KD-0004', folder: 'carriers/kd-0004', place: 'Cabinet, top shelf', capacity: 4e9, years: 1 },
  { name: 'Stick 01', folder: 'carriers/stick-01', place: 'Drawer, blue box', capacity: 160e6, years: 1 },
  { name: 'Stick 02', folder: 'carriers/stick-02', place: 'Drawer, blue box', capacity: 160e6, years: 1 },
] as const;

/** In the house's tape library; `years` as above. */
export const TAPES = [
  { name: 'KD-0005', barcode: 'KD0005L8', years: 4 },
  { name: 'KD-0006', barcode: 'KD0006L8', years: 3 },
  { name: 'KD-0007', barcode: 'KD0007L8', years: 2 },
  { name: 'KD-0008', barcode: 'KD0008L8', years: 0 },
] as const;
/** In it too, and never written. */
export const BLANK_TAPES = ['KD0009L8', 'KD0010L8'];
export const LIBRARY_PLACE = 'Tape library';

/** A copy in which a byte is not what it was. */
export const ROTTEN = { carrier: 'KD-0003', file: 'carriers/kd-0003/undertow.tar', archive: 'undertow' } as const;

/** Asked for, and waiting for the carrier that was lent. */
export const WAITING = { archive: 'undertow', volume: 'loft-2 scratch', folder: 'undertow for the trailer' } as const;

/** Rented, and kept cold. */
export const FAR = {
  ...{
    name: 'Far shore',
    place: 'Rented, off site',
    bucket: 'saltpan',
    accessKey: 'saltpan',
    secretKey: 'for the demo',
  },
  ...{ rentedGb: '2000', storageClass: 'DEEP', thawHours: '12', costPerGbMonth: '0.002', costPerGbBack: '0.02' },
} as const;

/** A further copy that somebody took along. */
export const LENT = { carrier: 'KD-0004', archive: 'undertow', to: 'Jon Vik, grading', days: 6 } as const;

/** Projects whose state the manager has set, by title. */
export const STATES = [
  { project: 'Lamp Keepers', state: 'in work', days: 68 },
  { project: 'Night Ferry', state: 'delivered', days: 41 },
  { project: 'Tide Tables', state: 'finishing', days: 12 },
  { project: 'Harbour Lights', state: 'in work', days: 20 },
  { project: 'Gannet Rock', state: 'finishing', days: 19 },
  { project: 'Winter Pilots', state: 'finishing', days: 6 },
] as const;

/** Written small and archived for real while the demo is set up: one of each sort. */
export const ARCHIVED: readonly DemoArchive[] = [
  {
    ...{ project: 'Brine Road', carriers: ['KD-0001'], folder: 'brine-road', since: 310, released: true },
    work: {
      client: 'Haff & Söhne',
      year: 2025,
      people: 'Tove Ahrens, cut',
      comments: 'The long version, with the storm.',
    },
  },
  {
    ...{ project: 'Undertow', carriers: ['KD-0001', 'KD-0003'], folder: 'undertow', since: 420, released: true },
    work: { client: 'Küstenfunk', year: 2024, people: 'Mara Lindqvist, cut', comments: '' },
    scope: { pack: 'tar' },
  },
  // On no one of them it would fit.
  {
    project: 'Velvet Crab',
    carriers: ['Stick 01', 'Stick 02'],
    folder: 'velvet-crab',
    since: 560,
    released: true,
  },
  {
    ...{ project: 'Winter Pilots', carriers: ['KD-0002'], folder: 'winter-pilots_reel-1' },
    scope: { timelines: ['reel 1'] },
  },
  {
    ...{ project: 'Winter Pilots', carriers: ['KD-0003'], folder: 'winter-pilots_before-the-mix' },
    base: 'winter-pilots_reel-1',
  },
  {
    ...{ project: 'Winter Pilots', carriers: ['KD-0003'], folder: 'winter-pilots_used-ranges' },
    scope: { handles: { value: 4, unit: 'frames', gapSeconds: 0 }, parts: [] },
  },
];

/** The same, years ago: on tapes and far away. */
export const LONG_AGO: readonly DemoArchive[] = [
  {
    ...{
      project: 'Wrack Line',
      carriers: ['KD-0005', 'KD-0006'],
      folder: 'wrack-line',
      since: 1350,
      released: true,
    },
    work: { client: 'Küstenfunk', year: 2022, people: 'Tove Ahrens, cut', comments: '' },
  },
  {
    ...{
      project: 'Yawl Letters',
      carriers: ['KD-0006', 'Far shore'],
      folder: 'yawl-letters',
      since: 980,
      released: true,
    },
    work: { client: 'Fernweh Stiftung', year: 2023, people: 'Mara Lindqvist, cut\nIlyas Okon, sound', comments: '' },
  },
  {
    ...{ project: 'Zinc Shore', carriers: ['KD-0007', 'Far shore'], folder: 'zinc-shore', since: 700, released: true },
    work: { client: 'Haff & Söhne', year: 2024, people: 'Tove Ahrens, cut', comments: 'Three parts of ten minutes.' },
  },
];

export interface DemoArchive {
  /** What is known of the work. */
  work?: { client: string; year: number; people: string; comments: string };
  project: string;
  carriers: readonly string[];
  folder: string;
  scope?: Partial<ArchiveScope>;
  /** The folder of the archive it builds on. */
  base?: string;
  /** Delivered so many days ago. */
  since?: number;
  /** Its originals were removed. */
  released?: boolean;
}

/** Handed over for real as well. */
export const HANDED_OVER = {
  ...{ project: 'Winter Pilots', volume: 'Carry 04', folder: 'winter-pilots_for-the-mix' },
  ...{ toWhom: 'Ida Brandt, mix', timeline: 'reel 2' },
} as const;

/** Where new projects of the house belong. */
export const TEMPLATE = {
  name: 'Documentary',
  homes: [
    { kind: 'source', volume: 'Ropewalk media', folder: '{project}/camera' },
    { kind: 'audio', volume: 'Ropewalk media', folder: '{project}/sound' },
    { kind: 'document', volume: 'Ropewalk projects', folder: '{project}' },
    { kind: 'render', volume: 'loft-1 scratch', folder: 'renders/{project}' },
    { kind: 'cache', volume: 'loft-1 scratch', folder: 'cache/frames/{project}' },
  ],
} as const;
/** Registered from the template, before anything is shot. */
export const PLANNED = { name: 'Salt Wind', client: 'Fernweh Stiftung', year: 2026 } as const;

class Maker {
  readonly out: Writer;
  files = 0;
  bytes = 0;
  private readonly frames = pictures();

  constructor(
    readonly root: string,
    private readonly today: Date,
    readonly luck: Chance,
  ) {
    this.out = writer(root);
  }

  daysAgo(days: number): Date {
    return new Date(this.today.getTime() - days * DAY_MS - this.luck.between(0, 20_000_000));
  }

  put(file: string, parts: { at: number; bytes: Buffer }[], bytes: number, days: number): void {
    this.out.put(file, parts, bytes, this.daysAgo(days));
    this.files++;
    this.bytes += bytes;
  }

  /** A camera file of about `gigabytes`, with a picture in its first and its middle frame. */
  camera(
    file: string,
    gigabytes: number,
    days: number,
    { fps = FPS, reel, least = 50 }: { fps?: number; reel?: string; least?: number } = {},
  ): DemoMedia {
    const frames = Math.max(least, Math.round((gigabytes * 1e9) / FRAME_BYTES / this.out.shrink));
    const startFrame = this.luck.between(6 * 3600 * fps, 18 * 3600 * fps);
    const name = path.basename(file, path.extname(file));
    const { head, firstFrameAt, fileBytes } = movHead({
      frames,
      frameBytes: FRAME_BYTES,
      fps,
      width: 960,
      height: 540,
      startFrame,
      reel: reel ?? name.slice(0, 4),
    });
    const picture = this.luck.pick(this.frames);
    const middle = firstFrameAt + Math.floor(frames / 2) * FRAME_BYTES;
    this.put(
      file,
      [
        { at: 0, bytes: head },
        { at: firstFrameAt, bytes: picture },
        { at: middle, bytes: picture },
      ],
      fileBytes,
      days,
    );
    return { name, url: this.urlOf(file), fps, startFrame, frames };
  }

  /** What was delivered, true to its last frame. */
  film(file: string, days: number): void {
    const bytes = film();
    // Without luck: what is drawn after it stays as it is.
    this.out.put(file, [{ at: 0, bytes }], bytes.length, new Date(this.today.getTime() - days * DAY_MS));
    this.files++;
    this.bytes += bytes.length;
  }

  sound(file: string, seconds: number, days: number): DemoMedia {
    const length = Math.max(4, Math.round(seconds / this.out.shrink));
    const start = this.luck.between(0, 86_000);
    const head = wavHead(length * WAV_BYTES_A_SECOND, path.basename(file), start * 48_000);
    const noise = Buffer.from(Array.from({ length: 4096 }, () => this.luck.between(0, 255)));
    this.put(
      file,
      [
        { at: 0, bytes: head },
        { at: head.length, bytes: noise },
      ],
      head.length + length * WAV_BYTES_A_SECOND,
      days,
    );
    return {
      name: path.basename(file, '.wav'),
      url: this.urlOf(file),
      fps: FPS,
      startFrame: start * FPS,
      frames: length * FPS,
    };
  }

  /** A sequence of stills, but for the frames in `lost`, counted from its first. */
  stills(shot: string, frames: number, lost: readonly number[]): DemoMedia {
    const folder = `ropewalk-media/tide-tables/shots/${shot}/plate`;
    for (let i = 0; i < frames; i++)
      if (!lost.includes(i)) this.plain(`${folder}/${shot}_plate.${1001 + i}.exr`, 12.4e6, 30);
    return {
      name: `${shot}_plate`,
      url: `${this.urlOf(folder)}/`,
      fps: FPS,
      startFrame: 1001,
      frames,
      stills: { prefix: `${shot}_plate.`, ending: '.exr', first: 1001, digits: 4 },
    };
  }

  /** The same bytes once more, somewhere else. */
  again(file: string, copy: string): void {
    this.out.copy(file, copy);
    this.files++;
    this.bytes += this.out.sizeOf(copy);
  }

  /** Another name for a file of the same volume. */
  link(file: string, name: string): void {
    this.out.link(file, name);
    this.files++;
    this.bytes += this.out.sizeOf(name);
  }

  zip(file: string, entries: Record<string, string>, days: number): void {
    const mtime = new Date('2026-01-01T00:00:00');
    const bytes = Buffer.from(
      zipSync(Object.fromEntries(Object.entries(entries).map(([name, text]) => [name, strToU8(text)])), { mtime }),
    );
    this.put(file, [{ at: 0, bytes }], bytes.length, days);
  }

  text(file: string, text: string, days: number): void {
    const bytes = Buffer.from(text);
    this.put(file, [{ at: 0, bytes }], bytes.length, days);
  }

  /** A file of no special form and no contents: nothing but a hole. */
  hollow(file: string, bytes: number, days: number): void {
    this.put(file, [], Math.max(64, Math.round(bytes / this.out.shrink)), days);
  }

  /** A file of no special form: a few bytes and a hole. */
  plain(file: string, bytes: number, days: number): void {
    const length = Math.max(64, Math.round(bytes / this.out.shrink));
    this.put(file, [{ at: 0, bytes: Buffer.from(path.basename(file).padEnd(48).slice(0, 48)) }], length, days);
  }

  urlOf(file: string): string {
    return pathToFileURL(path.join(this.root, file)).href;
  }

  /** Cuts of a clip in the order of the list, each a few seconds. */
  cuts(media: readonly DemoMedia[], each = 1): DemoUse[] {
    return media.flatMap((item) =>
      Array.from({ length: each }, () => {
        const frames = Math.min(item.frames, this.luck.between(40, 260));
        return { media: item, start: item.startFrame + this.luck.between(0, item.frames - frames), frames };
      }),
    );
  }
}

const numbered = (count: number, first = 1) =>
  Array.from({ length: count }, (_, i) => String(i + first).padStart(3, '0'));

function lampKeepers(maker: Maker): void {
  const { luck } = maker;
  const day = (folder: string, reel: string, count: number, age: number) =>
    numbered(count).map((n) =>
      maker.camera(
        `ropewalk-media/lamp-keepers/${folder}/${reel}C${n}_0427.mov`,
        luck.between(20, 80) / 10,
        age + luck.between(0, 6),
      ),
    );
  const interviews = day('interviews', 'A012', 20, 62);
  const lantern = day('lantern room', 'A014', 22, 48);
  const drone = day('drone', 'D003', 10, 40);
  // Moved to another folder since; of one there are two by now.
  const lost = ['keeper_portrait_07', 'chart_of_the_bay', 'lighthouse_model_02'].map((name) => ({
    ...maker.camera(`ropewalk-media/lamp-keepers/from the museum/${name}.mov`, 0.15, 33),
    url: maker.urlOf(`ropewalk-media/lamp-keepers/stills/${name}.mov`),
  }));
  maker.again(
    'ropewalk-media/lamp-keepers/from the museum/lighthouse_model_02.mov',
    'carry-04/handover/lighthouse_model_02.mov',
  );
  const slow = maker.camera('ropewalk-media/lamp-keepers/drone/D003C060_0427.mov', 2.4, 40, { fps: 50 });
  const music = ['lamp_winch_atmos', 'harbour_bell', 'sea_state_five'].map((name, i) =>
    maker.sound(`ropewalk-media/lamp-keepers/sound/${name}.wav`, 900 + i * 500, 55),
  );
  // One file under two names: the mix wanted it in a folder of its own.
  maker.link(
    'ropewalk-media/lamp-keepers/sound/harbour_bell.wav',
    'ropewalk-media/lamp-keepers/sound/to the mix/harbour_bell.wav',
  );
  // Copied in a hurry to where nobody looks for it.
  const strayed = maker.camera('loft-1-system/Desktop/lamp-keepers/A015C001_0502.mov', 6.2, 9);
  const titles = {
    name: 'opening titles',
    fps: FPS,
    picture: [
      ...maker.cuts(lost.slice(1)),
      { media: slow, start: slow.startFrame + 100, frames: 120, speed: 0.5 },
      { media: drone[4]!, start: drone[4]!.startFrame + 50, frames: 60, speed: -1 },
      { media: lantern[20]!, start: lantern[20]!.startFrame + 75, frames: 40, speed: 0 },
    ],
    sound: maker.cuts(music.slice(2)),
  };
  const root: DemoBin = {
    name: 'Lamp Keepers',
    bins: [
      {
        name: 'Episode 3',
        bins: [
          { name: 'Interviews', clips: interviews },
          { name: 'Lantern room', clips: [...lantern, strayed, ...lost] },
          { name: 'Drone', clips: [...drone, slow] },
        ],
      },
      { name: 'Music and effects', clips: music },
      {
        name: 'Timelines',
        timelines: [
          titles,
          {
            name: 'ep3 v11',
            fps: FPS,
            picture: maker.cuts([...interviews.slice(0, 8), ...lantern.slice(0, 9)]),
            sound: maker.cuts(music),
          },
          {
            name: 'ep3 v12',
            fps: FPS,
            picture: [
              { nested: titles, start: 30, frames: 330 },
              ...maker.cuts(
                [...interviews.slice(0, 7), ...lantern.slice(2, 12), strayed, lost[0]!, ...drone.slice(0, 3)],
                2,
              ),
              { ...maker.cuts(interviews.slice(12, 13))[0]!, off: true },
            ],
            sound: maker.cuts(music, 2),
          },
          {
            name: 'teaser 30s',
            fps: FPS,
            picture: maker.cuts(drone.slice(0, 2)),
            sound: maker.cuts(music.slice(0, 1)),
          },
        ],
      },
    ],
  };
  maker.text('ropewalk-projects/lamp-keepers/lamp-keepers_ep3.otio', document(root), 0);
  maker.zip(
    'ropewalk-projects/lamp-keepers/lamp-keepers mix.dawproject',
    session(
      'Lamp Keepers',
      music.map((item, i) => ({
        track: ['Winch', 'Bell', 'Sea'][i]!,
        path: new URL(item.url).pathname,
        clips: [
          { time: 4 + i * 8, seconds: 12, from: 30 * (i + 1) },
          { time: 60 + i * 5, seconds: 25, from: 200 + 40 * i },
        ],
        seconds: item.frames / FPS,
      })),
    ),
    4,
  );
  maker.text('ropewalk-projects/lamp-keepers/notes for the mix.txt', 'Bell before the second title.\n', 3);
  for (const n of numbered(6))
    maker.camera(
      `loft-1-scratch/renders/lamp-keepers/ep3_titles_${n}.mov`,
      luck.between(8, 30) / 10,
      luck.between(2, 30),
    );
}

function nightFerry(maker: Maker): void {
  const { luck } = maker;
  const camera = (n: string, gigabytes: number) =>
    maker.camera(`ropewalk-media/night-ferry/camera/B007C${n}_0311.mov`, gigabytes, luck.between(120, 150));
  const deck = numbered(8).map((n) => camera(n, luck.between(25, 45) / 100));
  const engine = numbered(5, 9).map((n) => camera(n, luck.between(25, 50) / 100));
  const unused = numbered(22, 30).map((n) => camera(n, luck.between(20, 60) / 10));
  // Two files of one name, from two cards.
  const twin = maker.camera('carry-04/night-ferry/card-2/B007C001_0311.mov', 0.3, 118);
  const sound = ['ferry_engine_low', 'deck_wind'].map((name) =>
    maker.sound(`ropewalk-media/night-ferry/sound/${name}.wav`, 800, 122),
  );
  const root: DemoBin = {
    name: 'Night Ferry',
    bins: [
      {
        name: 'Reels',
        bins: [
          { name: 'Deck', clips: [...deck, twin, ...unused.slice(0, 12)] },
          { name: 'Engine room', clips: [...engine, ...unused.slice(12)] },
        ],
      },
      { name: 'Sound', clips: sound },
      {
        name: 'Locked',
        timelines: [
          { name: 'Reel 1 locked', fps: FPS, picture: maker.cuts([...deck, twin], 2), sound: maker.cuts(sound) },
          {
            name: 'Reel 2 locked',
            fps: FPS,
            picture: maker.cuts([...engine, ...deck.slice(0, 3)], 2),
            sound: maker.cuts(sound),
          },
          {
            name: 'Trailer 60s',
            fps: FPS,
            picture: maker.cuts([deck[0]!, engine[0]!, twin]),
            sound: maker.cuts(sound.slice(0, 1)),
          },
        ],
      },
    ],
  };
  maker.text('ropewalk-projects/night-ferry/night-ferry_final.otio', document(root), 43);
  for (const n of numbered(5))
    maker.camera(
      `loft-2-scratch/renders/night-ferry/reel_graded_${n}.mov`,
      luck.between(30, 70) / 10,
      luck.between(45, 60),
    );
  maker.camera('ropewalk-media/night-ferry/deliveries/night-ferry_master.mov', 7.9, 42);
  for (const n of numbered(10)) maker.camera(`loft-2-scratch/proxies/night-ferry/B007C${n}_0311.mov`, 0.3, 119);
}

/** Four more: one with stills and borrowed media, one cut by titles of its own, one small and old, one only planned. */
function otherProjects(maker: Maker): void {
  const { luck } = maker;
  const library = ['tide_bed', 'brass_low', 'gulls_far', 'rain_on_tin'].map((name, i) =>
    maker.sound(`ropewalk-library/music/${name}.wav`, 180 + i * 40, 400),
  );
  // Each station writes the paths it has itself.
  const written = (media: DemoMedia, folder: string, as: string): DemoMedia => ({
    ...media,
    url: as + decodeURIComponent(media.url.split(`/${folder}/`)[1]!).replaceAll('/', as.includes('\\') ? '\\' : '/'),
  });
  const onDrive = (media: DemoMedia) => written(media, 'ropewalk-media', 'R:\\');
  const onShare = (media: DemoMedia) => written(media, 'ropewalk-library', '\\\\ropewalk\\library\\');
  const onVolumes = (media: DemoMedia) => ({
    ...media,
    url: `file:///Volumes/Ropewalk/${media.url.split('/ropewalk-media/')[1]}`,
  });
  // Bought by the hundred, and never converted.
  for (const n of numbered(36)) maker.plain(`ropewalk-library/atmos/quayside ${n}.mp3`, 7.4e6, 380);
  for (const n of numbered(14)) maker.plain(`ropewalk-library/titles/house_title_${n}.mov`, 40e6, 380);
  const shots = ['tt_010', 'tt_020', 'tt_030'].map((shot, i) =>
    maker.stills(shot, 160 + i * 80, i === 1 ? [57, 58, 121] : []),
  );
  const plates = numbered(9).map((n) =>
    maker.camera(
      `ropewalk-media/tide-tables/camera/A021C${n}_0112.mov`,
      luck.between(8, 30) / 10,
      luck.between(40, 60),
      { fps: n < '004' ? 24 : FPS },
    ),
  );
  for (const n of numbered(3)) {
    maker.text(`ropewalk-media/tide-tables/camera/A021C${n}_0112.xml`, `<take number="${n}"/>\n`, 50);
    // One recording that the camera cut by size.
    maker.plain(`ropewalk-media/tide-tables/camera/long take/B003C001_${n}.mxf`, n === '003' ? 1.3e9 : 4e9, 45);
  }
  // Made for Lamp Keepers, and used here too.
  const borrowed = maker.camera('ropewalk-media/lamp-keepers/drone/D003C050_0427.mov', 2.2, 41);
  const tide: DemoBin = {
    name: 'Tide Tables',
    bins: [
      { name: 'Plates', clips: [...plates.map(onDrive), borrowed] },
      { name: 'Shots', clips: shots },
      { name: 'House music', clips: library.map(onShare) },
      {
        name: 'Cuts',
        timelines: [
          {
            name: 'tide tables picture lock',
            fps: FPS,
            picture: maker.cuts([...plates.slice(0, 6).map(onDrive), borrowed, ...shots]),
            sound: maker.cuts(library.map(onShare)),
          },
          {
            name: 'tide tables social',
            fps: FPS,
            picture: maker.cuts(plates.slice(0, 2).map(onDrive)),
            sound: maker.cuts(library.slice(0, 1).map(onShare)),
          },
          {
            name: 'tide tables stills reel',
            fps: FPS,
            picture: maker.cuts(shots),
            sound: maker.cuts(library.slice(1, 2).map(onShare)),
          },
        ],
      },
    ],
  };
  maker.text('ropewalk-projects/tide-tables/tide-tables.otio', document(tide), 2);
  // Renders beside the source, where a default put them.
  for (const n of numbered(4))
    maker.camera(`ropewalk-media/tide-tables/renders/tt_grade_${n}.mov`, 1.4, luck.between(3, 11));

  const quay = numbered(12).map((n) =>
    onVolumes(maker.camera(`ropewalk-media/harbour-lights/day 1/H001C${n}_0302.mov`, luck.between(10, 35) / 10, 18)),
  );
  const pickups = numbered(2).map((n) =>
    maker.camera(`loft-2-system/Downloads/harbour-lights/H009C${n}_0319.mov`, 1.7, 4),
  );
  const lights: DemoBin = {
    name: 'Harbour Lights',
    bins: [
      { name: 'Day 1', clips: quay },
      { name: 'Pickups', clips: pickups },
      {
        name: 'Cuts',
        timelines: [
          {
            name: 'assembly',
            fps: FPS,
            picture: maker.cuts([...quay, ...pickups]),
            sound: maker.cuts(library.slice(2)),
          },
          { name: 'two minutes', fps: FPS, picture: maker.cuts(quay.slice(0, 5)), sound: [] },
          { name: 'titles test', fps: FPS, picture: maker.cuts(quay.slice(3, 4)), sound: [] },
        ],
      },
    ],
  };
  maker.text('ropewalk-projects/harbour-lights/quayside cut.otio', document(lights), 1);
  // Saved half, when a disk filled up.
  maker.text('ropewalk-projects/harbour-lights/quayside cut old.otio', document(lights).slice(0, 2400), 6);
  for (const n of numbered(6)) maker.plain(`carry-07/harbour-lights/backup ${n}.tar`, 900e6, 9);

  const brine = numbered(4).map((n) => maker.camera(`ropewalk-media/brine-road/K001C${n}_1108.mov`, 0.07, 330));
  // Taken out for a trailer of something else, under another name: its archive has it.
  maker.again('ropewalk-media/brine-road/K001C002_1108.mov', 'loft-1-system/Desktop/for the trailer/winch_pull.mov');
  maker.text(
    'ropewalk-projects/brine-road/brine-road.otio',
    document({
      name: 'Brine Road',
      bins: [
        { name: 'Reels', clips: brine },
        {
          name: 'Final',
          timelines: [
            { name: 'brine road final', fps: FPS, picture: maker.cuts(brine), sound: [] },
            { name: 'brine road trailer', fps: FPS, picture: maker.cuts(brine.slice(0, 2)), sound: [] },
            { name: 'brine road poster frames', fps: FPS, picture: maker.cuts(brine.slice(2)), sound: [] },
          ],
        },
      ],
    }),
    320,
  );
}

/** Small ones, that were archived: two that are long over, and one that goes on. */
/** On a disk of the shelf, from before there was a catalogue: with sums that somebody made then, one of which does not match any more. */
export const OLD = { carrier: 'KD-0001', folder: 'Slack Water 2019' } as const;

function oldDisk(maker: Maker): void {
  const top = `${CARRIERS[0].folder}/${OLD.folder}`;
  const clips = ['H001C001', 'H001C002', 'H001C003'].map((name) => ({
    ...maker.camera(`${top}/Camera/${name}.mov`, 0.002, 2500, { least: 10 }),
    // As that house had it then.
    url: fileUrlOf(`/Volumes/Old RAID/Slack Water/Camera/${name}.mov`),
  }));
  const sums = clips.map(({ name }, i) => {
    const sum = createHash('md5').update(readFileSync(path.join(maker.root, top, 'Camera', `${name}.mov`)));
    return `${i === 2 ? sum.update('as it was').digest('hex') : sum.digest('hex')}  ${name}.mov\n`;
  });
  maker.text(`${top}/Camera/Camera.md5`, sums.join(''), 2500);
  const picture = clips.map((media) => ({ media, start: media.startFrame + 1, frames: 8 }));
  const bins = [
    { name: 'Camera', clips },
    { name: 'Cuts', timelines: [{ name: 'slack water final', fps: FPS, picture, sound: [] }] },
  ];
  maker.text(`${top}/Cut/slack-water.otio`, document({ name: 'Slack Water', bins }), 2490);
}

function archivedOnes(maker: Maker): void {
  const reel = (project: string, letter: string, clips: number, days: number) =>
    numbered(clips).map((n) => maker.camera(`ropewalk-media/${project}/${letter}001C${n}.mov`, 0.06, days));
  const cut = (name: string, clips: readonly DemoMedia[]) => ({
    ...{ name, fps: FPS, sound: [] },
    picture: clips.map((media) => ({ media, start: media.startFrame + 10, frames: 24 })),
  });
  const write = (project: string, name: string, days: number, bins: DemoBin[]) =>
    maker.text(`ropewalk-projects/${project}/${project}.otio`, document({ name, bins }), days);
  const cuts = (name: string, clips: readonly DemoMedia[]) => [
    cut(`${name} final`, clips),
    cut(`${name} trailer`, clips.slice(0, 1)),
    cut(`${name} poster frames`, clips.slice(1)),
  ];
  const undertow = reel('undertow', 'U', 2, 440);
  write('undertow', 'Undertow', 430, [
    { name: 'Market day', clips: undertow },
    { name: 'Final', timelines: cuts('undertow', undertow) },
  ]);
  for (const [project, title, letter, days] of [
    ['wrack-line', 'Wrack Line', 'R', 1370],
    ['yawl-letters', 'Yawl Letters', 'Y', 1000],
    ['zinc-shore', 'Zinc Shore', 'Z', 720],
  ] as const) {
    // As little as can be: what lies on tape and far away keeps no holes on its way.
    const clip = maker.camera(`ropewalk-media/${project}/${letter}001C001.mov`, 0.01, days, { least: 10 });
    const final = {
      ...{ fps: FPS, sound: [] },
      picture: [{ media: clip, start: clip.startFrame + 1, frames: 8 }],
    };
    write(project, title, days - 10, [
      { name: 'Rushes', clips: [clip] },
      {
        name: 'Final',
        timelines: ['final', 'trailer', 'teaser'].map((cutOf) => ({
          ...final,
          name: `${title.toLowerCase()} ${cutOf}`,
        })),
      },
    ]);
  }
  maker.film('ropewalk-media/undertow/deliveries/undertow_master.mp4', 428);
  const crab = reel('velvet-crab', 'V', 4, 580);
  write('velvet-crab', 'Velvet Crab', 570, [
    { name: 'Dives', clips: crab },
    { name: 'Final', timelines: cuts('velvet crab', crab) },
  ]);
  const pilots = reel('winter-pilots', 'W', 4, 26);
  write('winter-pilots', 'Winter Pilots', 3, [
    { name: 'On the ice', clips: pilots },
    {
      name: 'Cuts',
      timelines: [cut('reel 1', pilots.slice(0, 2)), cut('reel 2', pilots.slice(2)), cut('both reels', pilots)],
    },
  ]);
}

/** Cut somewhere else: an edit list is all there is. */
function gannetRock(maker: Maker): void {
  const reels = numbered(8).map((n) =>
    maker.camera(`ropewalk-media/gannet-rock/camera/G004C${n}.mov`, 0.4, 75, { reel: `G004C${n}` }),
  );
  maker.text(
    'ropewalk-projects/gannet-rock/gannet rock cut 3.edl',
    edl('Gannet Rock', maker.cuts(reels.slice(0, 6)), FPS),
    20,
  );
}

/** Some 36,000 cache files of various ages, on every disk that people work on. */
function caches(maker: Maker): void {
  const { luck } = maker;
  const areas = [
    { folder: 'loft-1-scratch/cache/frames/lamp-keepers', files: 12_400, megabytes: [2, 8], days: [0, 70] },
    { folder: 'loft-1-scratch/cache/frames/night-ferry', files: 6500, megabytes: [2, 9], days: [44, 130] },
    { folder: 'loft-1-scratch/cache/peaks', files: 5400, megabytes: [0.2, 0.6], days: [0, 200] },
    { folder: 'loft-2-scratch/cache/frames/night-ferry', files: 5300, megabytes: [2, 10], days: [42, 140] },
    { folder: 'loft-2-scratch/cache/thumbnails', files: 6900, megabytes: [0.02, 0.1], days: [0, 300] },
    { folder: 'loft-1-system/Users/Shared/caches/audio', files: 2500, megabytes: [1, 4], days: [20, 260] },
    { folder: 'ropewalk-media/lamp-keepers/cache', files: 140, megabytes: [10, 30], days: [30, 60] },
  ] as const;
  for (const area of areas)
    for (let i = 0; i < area.files; i++) {
      const shard = String(i % 16).padStart(2, '0');
      maker.hollow(
        `${area.folder}/${shard}/${String(i).padStart(6, '0')}.frm`,
        luck.between(area.megabytes[0] * 1000, area.megabytes[1] * 1000) * 1000,
        luck.between(area.days[0], area.days[1]),
      );
    }
}

function oddments(maker: Maker): void {
  maker.plain('loft-1-system/System/bootstore.img', 21e9, 300);
  maker.plain('loft-2-system/System/bootstore.img', 19e9, 300);
  // Left by somebody, wanted by nobody.
  for (const n of numbered(5))
    maker.camera(`loft-2-system/Downloads/phone clips/VID_20260${n}.mp4`, 0.6, 70 + Number(n));
  for (const n of numbered(4)) maker.camera(`loft-2-system/Downloads/lens tests/LENS_${n}.mov`, 0.8, 130 + Number(n));
  // A folder so deep that no explorer shows it whole.
  maker.plain(
    `loft-1-scratch/renders/lamp-keepers/${Array.from({ length: 14 }, (_, i) => `pass ${i + 1}`).join('/')}/matte.mov`,
    90e6,
    15,
  );
  maker.camera('carry-04/handover/Übergabe – été 東京.mov', 5.1, 12);
  maker.text('ropewalk-projects/house/rates and terms.txt', 'As agreed.\n', 200);
  // Exported once more than was needed.
  for (const n of numbered(2)) maker.camera(`loft-2-system/Downloads/old exports/ferry_try_${n}.mov`, 1.2, 95);
  // Looks that a colourist left with a film that is delivered.
  for (const look of ['harbour', 'night', 'engine room'])
    maker.plain(`ropewalk-projects/night-ferry/looks/${look}.cube`, 38e6, 52);
  // A program saved every ten minutes, and never took one away.
  for (const n of numbered(40))
    maker.plain(`ropewalk-projects/night-ferry/autosaves/night-ferry_final.${n}.otio`, 24e6, 43 + Number(n) / 140);
  // A program saved every hour it was open, and never took one away.
  for (const n of numbered(64))
    maker.plain(
      `ropewalk-projects/lamp-keepers/autosaves/lamp-keepers_ep3.${n}.otio`,
      18e6,
      n <= '003' ? Number(n) : 3 + (Number(n) - 3) / 6,
    );
}
