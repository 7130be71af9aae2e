// Writes the demo's project documents as OpenTimelineIO: nested collections as bins, timelines that use ranges of media.

export interface DemoMedia {
  name: string;
  url: string;
  fps: number;
  startFrame: number;
  frames: number;
  /** Stills: url names their folder, ending in '/'. */
  stills?: { prefix: string; ending: string; first: number; digits: number };
}

export interface DemoUse {
  media: DemoMedia;
  start: number;
  frames: number;
  /** Factor of time: 2 twice as fast, -1 backwards, 0 one frame held. */
  speed?: number;
  off?: boolean;
}

/** Part of another timeline, used like a clip. */
export interface DemoNest {
  nested: DemoTimeline;
  start: number;
  frames: number;
}

export interface DemoTimeline {
  name: string;
  fps: number;
  picture: (DemoUse | DemoNest)[];
  sound: DemoUse[];
}

export interface DemoBin {
  name: string;
  clips?: DemoMedia[];
  timelines?: DemoTimeline[];
  bins?: DemoBin[];
}

const time = (value: number, rate: number) => ({ OTIO_SCHEMA: 'RationalTime.1', rate, value });
const range = (start: number, duration: number, rate: number) => ({
  OTIO_SCHEMA: 'TimeRange.1',
  duration: time(duration, rate),
  start_time: time(start, rate),
});

const clip = (media: DemoMedia, cut: Omit<DemoUse, 'media'> | null) => ({
  OTIO_SCHEMA: 'Clip.2',
  metadata: {},
  name: media.name,
  source_range: cut ? range(cut.start, cut.frames, media.fps) : null,
  effects:
    cut?.speed === undefined
      ? []
      : cut.speed === 0
        ? [{ OTIO_SCHEMA: 'FreezeFrame.1', name: '', effect_name: 'FreezeFrame', time_scalar: 0, metadata: {} }]
        : [{ OTIO_SCHEMA: 'LinearTimeWarp.1', name: '', effect_name: '', time_scalar: cut.speed, metadata: {} }],
  markers: [],
  enabled: cut?.off !== true,
  media_references: {
    DEFAULT_MEDIA: media.stills
      ? {
          OTIO_SCHEMA: 'ImageSequenceReference.1',
          metadata: {},
          name: media.name,
          available_range: range(media.startFrame, media.frames, media.fps),
          target_url_base: media.url,
          name_prefix: media.stills.prefix,
          name_suffix: media.stills.ending,
          start_frame: media.stills.first,
          frame_step: 1,
          rate: media.fps,
          frame_zero_padding: media.stills.digits,
          missing_frame_policy: 'error',
        }
      : {
          OTIO_SCHEMA: 'ExternalReference.1',
          metadata: {},
          name: media.name,
          available_range: range(media.startFrame, media.frames, media.fps),
          target_url: media.url,
        },
  },
  active_media_reference_key: 'DEFAULT_MEDIA',
});

const nest = ({ nested, start, frames }: DemoNest): object => ({
  OTIO_SCHEMA: 'Stack.1',
  metadata: {},
  name: nested.name,
  source_range: range(start, frames, nested.fps),
  effects: [],
  markers: [],
  enabled: true,
  children: [track('Video', nested.picture), track('Audio', nested.sound)],
});

const track = (kind: string, uses: readonly (DemoUse | DemoNest)[]): object => ({
  OTIO_SCHEMA: 'Track.1',
  metadata: {},
  name: kind,
  kind,
  source_range: null,
  effects: [],
  markers: [],
  enabled: true,
  children: uses.map((use) => ('nested' in use ? nest(use) : clip(use.media, use))),
});

const timeline = (item: DemoTimeline) => ({
  OTIO_SCHEMA: 'Timeline.1',
  metadata: {},
  name: item.name,
  global_start_time: time(item.fps * 3600, item.fps),
  tracks: {
    OTIO_SCHEMA: 'Stack.1',
    metadata: {},
    name: 'tracks',
    source_range: null,
    effects: [],
    markers: [],
    enabled: true,
    children: [track('Video', item.picture), track('Audio', item.sound)],
  },
});

const collection = (bin: DemoBin): object => ({
  OTIO_SCHEMA: 'SerializableCollection.1',
  metadata: {},
  name: bin.name,
  children: [
    ...(bin.bins ?? []).map(collection),
    ...(bin.clips ?? []).map((media) => clip(media, null)),
    ...(bin.timelines ?? []).map(timeline),
  ],
});

export const document = (root: DemoBin): string => `${JSON.stringify(collection(root), null, 2)}\n`;
