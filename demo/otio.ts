// Writes the demo's project documents as OpenTimelineIO: nested collections as bins, timelines that use ranges of media.

export interface DemoMedia {
  name: string;
  url: string;
  fps: number;
  startFrame: number;
  frames: number;
}

export interface DemoUse {
  media: DemoMedia;
  start: number;
  frames: number;
}

export interface DemoTimeline {
  name: string;
  fps: number;
  picture: DemoUse[];
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

const clip = (media: DemoMedia, cut: { start: number; frames: number } | null) => ({
  OTIO_SCHEMA: 'Clip.2',
  metadata: {},
  name: media.name,
  source_range: cut ? range(cut.start, cut.frames, media.fps) : null,
  effects: [],
  markers: [],
  enabled: true,
  media_references: {
    DEFAULT_MEDIA: {
      OTIO_SCHEMA: 'ExternalReference.1',
      metadata: {},
      name: media.name,
      available_range: range(media.startFrame, media.frames, media.fps),
      target_url: media.url,
    },
  },
  active_media_reference_key: 'DEFAULT_MEDIA',
});

const track = (kind: string, uses: readonly DemoUse[]) => ({
  OTIO_SCHEMA: 'Track.1',
  metadata: {},
  name: kind,
  kind,
  source_range: null,
  effects: [],
  markers: [],
  enabled: true,
  children: uses.map((use) => clip(use.media, { start: use.start, frames: use.frames })),
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
