// Saltpan House, made up: two workstations, a shared store, a portable disk, two carriers, two projects. Written as
// plain files, as people would have left them; nothing in the product knows about it.
import { mkdirSync, rmSync } from 'node:fs';
import path from 'node:path';
import { pathToFileURL } from 'node:url';
import { type Chance, chance } from './chance.ts';
import { type Writer, writer } from './files.ts';
import { movHead } from './mov.ts';
import { type DemoBin, type DemoMedia, type DemoUse, document } from './otio.ts';
import { pictures } from './pictures.ts';
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
  caches(maker);
  oddments(maker);
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
  { station: 'Portable', role: 'portable', name: 'Carry 04', folder: 'carry-04', duty: 'source', quota: 80e9 },
] as const;

/** Paths that stations have to volumes of others. */
export const MOUNTS = [
  { volume: 'Ropewalk media', station: 'loft-1', path: '/mnt/ropewalk' },
  { volume: 'Ropewalk media', station: 'loft-2', path: 'R:\\' },
  { volume: 'Ropewalk projects', station: 'loft-1', path: '/Volumes/Projects' },
  { volume: 'Ropewalk projects', station: 'loft-2', path: '\\\\ropewalk\\projects' },
] as const;

export const CARRIERS = [
  { name: 'KD-0001', folder: 'carriers/kd-0001', place: 'Cabinet, top shelf', capacity: 400e9 },
  { name: 'KD-0002', folder: 'carriers/kd-0002', place: 'Cabinet, top shelf', capacity: 4e9 },
] as const;

/** Projects whose state the manager has set, by title. */
export const STATES = [
  { project: 'Lamp Keepers', state: 'in work', days: 68 },
  { project: 'Night Ferry', state: 'delivered', days: 41 },
] as const;

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
  camera(file: string, gigabytes: number, days: number): DemoMedia {
    const frames = Math.max(50, Math.round((gigabytes * 1e9) / FRAME_BYTES / this.out.shrink));
    const startFrame = this.luck.between(6 * 3600 * FPS, 18 * 3600 * FPS);
    const name = path.basename(file, path.extname(file));
    const { head, firstFrameAt, fileBytes } = movHead({
      frames,
      frameBytes: FRAME_BYTES,
      fps: FPS,
      width: 960,
      height: 540,
      startFrame,
      reel: name.slice(0, 4),
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
    return { name, url: this.urlOf(file), fps: FPS, startFrame, frames };
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

  text(file: string, text: string, days: number): void {
    const bytes = Buffer.from(text);
    this.put(file, [{ at: 0, bytes }], bytes.length, days);
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
  const lost: DemoMedia[] = ['keeper_portrait_07', 'chart_of_the_bay'].map((name) => ({
    name,
    url: maker.urlOf(`ropewalk-media/lamp-keepers/stills/${name}.mov`),
    fps: FPS,
    startFrame: 0,
    frames: 125,
  }));
  const music = ['lamp_winch_atmos', 'harbour_bell', 'sea_state_five'].map((name, i) =>
    maker.sound(`ropewalk-media/lamp-keepers/sound/${name}.wav`, 900 + i * 500, 55),
  );
  // Copied in a hurry to where nobody looks for it.
  const strayed = maker.camera('loft-1-system/Desktop/lamp-keepers/A015C001_0502.mov', 6.2, 9);
  const root: DemoBin = {
    name: 'Lamp Keepers',
    bins: [
      {
        name: 'Episode 3',
        bins: [
          { name: 'Interviews', clips: interviews },
          { name: 'Lantern room', clips: [...lantern, strayed, ...lost] },
          { name: 'Drone', clips: drone },
        ],
      },
      { name: 'Music and effects', clips: music },
      {
        name: 'Timelines',
        timelines: [
          {
            name: 'ep3 v11',
            fps: FPS,
            picture: maker.cuts([...interviews.slice(0, 8), ...lantern.slice(0, 9)]),
            sound: maker.cuts(music),
          },
          {
            name: 'ep3 v12',
            fps: FPS,
            picture: maker.cuts(
              [...interviews.slice(0, 7), ...lantern.slice(2, 12), strayed, lost[0]!, ...drone.slice(0, 3)],
              2,
            ),
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

/** Some 8,000 cache files of various ages, on every disk that people work on. */
function caches(maker: Maker): void {
  const { luck } = maker;
  const areas = [
    { folder: 'loft-1-scratch/cache/frames/lamp-keepers', files: 2600, megabytes: [8, 40], days: [0, 70] },
    { folder: 'loft-1-scratch/cache/frames/night-ferry', files: 1500, megabytes: [8, 40], days: [44, 130] },
    { folder: 'loft-1-scratch/cache/peaks', files: 1100, megabytes: [1, 3], days: [0, 200] },
    { folder: 'loft-2-scratch/cache/frames/night-ferry', files: 1300, megabytes: [8, 40], days: [42, 140] },
    { folder: 'loft-2-scratch/cache/thumbnails', files: 900, megabytes: [0.2, 1], days: [0, 300] },
    { folder: 'loft-1-system/Users/Shared/caches/audio', files: 500, megabytes: [4, 20], days: [20, 260] },
    { folder: 'ropewalk-media/lamp-keepers/cache', files: 140, megabytes: [10, 30], days: [30, 60] },
  ] as const;
  for (const area of areas)
    for (let i = 0; i < area.files; i++) {
      const shard = String(i % 7).padStart(2, '0');
      maker.plain(
        `${area.folder}/${shard}/${String(i).padStart(6, '0')}.frm`,
        luck.between(area.megabytes[0] * 1000, area.megabytes[1] * 1000) * 1000,
        luck.between(area.days[0], area.days[1]),
      );
    }
}

function oddments(maker: Maker): void {
  maker.plain('loft-1-system/System/bootstore.img', 21e9, 300);
  maker.camera('carry-04/handover/Übergabe – été 東京.mov', 5.1, 12);
  maker.text('ropewalk-projects/house/rates and terms.txt', 'As agreed.\n', 200);
  for (const n of numbered(3))
    maker.text(
      `ropewalk-projects/lamp-keepers/autosaves/lamp-keepers_ep3.${n}.otio`,
      document({ name: 'Lamp Keepers' }),
      Number(n),
    );
}
