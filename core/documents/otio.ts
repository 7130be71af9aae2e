// Reads an OpenTimelineIO document (.otio, JSON) into the project model: collections become bins, timelines their uses.
// What is not understood is passed over; what is wrong stops the reading and says where. Called by the worker.
// Source: OpenTimelineIO file format specification and serialized schema list.
import { type ParseError, parse as parseTolerant, printParseErrorCode } from 'jsonc-parser';
import { coverInRate, type FrameRange, type Rate, rateFromNumber } from '../time/rates.ts';
import type { Bin, Clip, DocumentModel, DocumentReading, DocumentTrouble, MediaRef, Timeline, Use } from './model.ts';

type Json = Record<string, unknown>;
interface TimeRange {
  range: FrameRange;
  rate: Rate;
}

const DEEPEST = 100;
const LONGEST_SEQUENCE = 1_000_000;

class Trouble extends Error {
  constructor(readonly trouble: DocumentTrouble) {
    super(trouble.detail);
  }
}

/** Reads the text of a document. Never throws for what the text says: bad text is a trouble with its place. */
export function readOtio(text: string): DocumentReading {
  let root: unknown;
  try {
    root = JSON.parse(text);
  } catch {
    return { ok: false, trouble: whereBroken(text) };
  }
  try {
    return { ok: true, document: new Reader().read(root) };
  } catch (error) {
    if (error instanceof Trouble) return { ok: false, trouble: error.trouble };
    throw error;
  }
}

/** Line and column of the first place where the text stops being JSON. */
function whereBroken(text: string): DocumentTrouble {
  const errors: ParseError[] = [];
  parseTolerant(text, errors, { disallowComments: true, allowTrailingComma: false });
  const first = errors[0];
  const offset = Math.min(first?.offset ?? 0, text.length);
  const line = text.slice(0, offset).split('\n');
  return {
    code: 'not_json',
    where: `line ${line.length}, column ${(line.at(-1) ?? '').length + 1}`,
    detail: first ? wordsOf(printParseErrorCode(first.error)) : 'the text is not JSON',
  };
}

const wordsOf = (code: string) => code.replace(/([a-z])([A-Z])/g, '$1 $2').toLowerCase();
const isObject = (value: unknown): value is Json =>
  typeof value === 'object' && value !== null && !Array.isArray(value);
const schemaOf = (value: Json) => String(value.OTIO_SCHEMA ?? '').split('.')[0];

/** One reading: collects bins, media, clips and timelines while it walks the tree. */
class Reader {
  private readonly bins: Bin[] = [];
  private readonly clips: Clip[] = [];
  private readonly media: MediaRef[] = [];
  private readonly mediaByTarget = new Map<string, MediaRef>();
  private readonly timelines: Timeline[] = [];

  read(root: unknown): DocumentModel {
    if (!isObject(root) || typeof root.OTIO_SCHEMA !== 'string')
      throw new Trouble({ code: 'not_otio', where: '$', detail: 'the document has no OTIO_SCHEMA at its top' });
    this.member(root, null, '$', 0);
    if (this.timelines.length === 0 && this.clips.length === 0)
      throw new Trouble({ code: 'not_otio', where: '$', detail: 'the document has no timeline and no clip' });
    const name = typeof root.name === 'string' ? root.name : '';
    return { name, bins: this.bins, media: this.media, clips: this.clips, timelines: this.timelines };
  }

  /** A member of a collection: a bin, a timeline or a clip. */
  private member(value: unknown, bin: number | null, where: string, depth: number): void {
    const object = this.object(value, where, depth);
    switch (schemaOf(object)) {
      case 'SerializableCollection': {
        // The outermost collection is the document itself, not a bin in it.
        const key = depth === 0 ? null : this.addBin(object, bin);
        for (const [i, child] of this.list(object.children, `${where}.children`).entries())
          this.member(child, key, `${where}.children[${i}]`, depth + 1);
        return;
      }
      case 'Timeline':
        this.timelines.push(this.timeline(object, bin, where));
        return;
      case 'Clip': {
        const reference = this.activeReference(object, where);
        this.clips.push({ bin, name: this.name(object), media: reference?.key ?? null });
        return;
      }
      default:
        return;
    }
  }

  private addBin(object: Json, parent: number | null): number {
    const key = this.bins.length;
    this.bins.push({ key, parent, name: this.name(object) || 'untitled bin' });
    return key;
  }

  private timeline(object: Json, bin: number | null, where: string): Timeline {
    const uses: Use[] = [];
    const tracks = this.object(object.tracks, `${where}.tracks`, 1);
    const durations: TimeRange[] = [];
    for (const [i, track] of this.list(tracks.children, `${where}.tracks.children`).entries())
      durations.push(this.composition(track, uses, `${where}.tracks.children[${i}]`, 2));
    const rate = durations.find((d) => d.range.duration > 0)?.rate ?? { num: 24, den: 1 };
    const longest = Math.max(0, ...durations.map((d) => coverInRate(d.range, d.rate, rate).duration));
    return { bin, name: this.name(object) || 'untitled timeline', durationFrames: longest, rate, uses };
  }

  /** Walks a track or stack and gives its own length. Every clip below counts as used over its whole source range. */
  private composition(value: unknown, uses: Use[], where: string, depth: number): TimeRange {
    const object = this.object(value, where, depth);
    const schema = schemaOf(object);
    const stacked = schema === 'Stack';
    let length: TimeRange | null = null;
    for (const [i, child] of this.list(object.children, `${where}.children`).entries()) {
      const at = `${where}.children[${i}]`;
      const item = this.item(child, uses, at, depth + 1);
      if (!item) continue;
      if (!length) length = { range: { start: 0, duration: item.range.duration }, rate: item.rate };
      else {
        const more = coverInRate({ start: 0, duration: item.range.duration }, item.rate, length.rate).duration;
        length.range.duration = stacked ? Math.max(length.range.duration, more) : length.range.duration + more;
      }
    }
    const trimmed = this.timeRange(object.source_range, `${where}.source_range`);
    return trimmed ?? length ?? { range: { start: 0, duration: 0 }, rate: { num: 24, den: 1 } };
  }

  private item(value: unknown, uses: Use[], where: string, depth: number): TimeRange | null {
    const object = this.object(value, where, depth);
    switch (schemaOf(object)) {
      case 'Clip':
        return this.clipUse(object, uses, where);
      case 'Stack':
      case 'Track':
        return this.composition(object, uses, where, depth);
      case 'Timeline':
        return this.composition(
          this.object(object.tracks, `${where}.tracks`, depth),
          uses,
          `${where}.tracks`,
          depth + 1,
        );
      case 'Gap':
        return this.timeRange(object.source_range, `${where}.source_range`);
      default:
        return null;
    }
  }

  private clipUse(object: Json, uses: Use[], where: string): TimeRange | null {
    const media = this.activeReference(object, where);
    const cut = this.timeRange(object.source_range, `${where}.source_range`) ?? media?.available ?? null;
    if (media) {
      const used = this.usedRange(object, cut, media);
      uses.push({ media: media.key, clipName: this.name(object) || media.name, range: used.range, rate: used.rate });
    }
    return cut;
  }

  /** A clip whose time is bent uses, for this count, everything its media has: too much is safe, too little is not. */
  private usedRange(object: Json, cut: TimeRange | null, media: MediaRef): TimeRange {
    const whole = media.available ?? { range: { start: 0, duration: 0 }, rate: { num: 24, den: 1 } };
    const effects = Array.isArray(object.effects) ? object.effects : [];
    const bent = effects.some(
      (effect) => isObject(effect) && ['LinearTimeWarp', 'FreezeFrame', 'TimeEffect'].includes(schemaOf(effect) ?? ''),
    );
    return !cut || (bent && media.available) ? whole : cut;
  }

  /** The media reference that counts: Clip.1 has one, Clip.2 several with a key for the active one. */
  private activeReference(clip: Json, where: string): MediaRef | null {
    let reference: unknown = clip.media_reference;
    let at = `${where}.media_reference`;
    if (isObject(clip.media_references)) {
      const key =
        typeof clip.active_media_reference_key === 'string' ? clip.active_media_reference_key : 'DEFAULT_MEDIA';
      reference = clip.media_references[key];
      at = `${where}.media_references.${key}`;
    }
    if (!isObject(reference)) return null;
    const available = this.timeRange(reference.available_range, `${at}.available_range`);
    const named = this.name(reference) || this.name(clip);
    switch (schemaOf(reference)) {
      case 'ExternalReference': {
        if (typeof reference.target_url !== 'string')
          throw new Trouble({
            code: 'bad_value',
            where: `${at}.target_url`,
            detail: 'the place of the media is not a text',
          });
        return this.addMedia(named, [reference.target_url], available);
      }
      case 'ImageSequenceReference':
        return this.addMedia(named, this.sequenceTargets(reference, available, at), available);
      case 'MissingReference':
        return this.addMedia(named, [], available);
      default:
        return null;
    }
  }

  private sequenceTargets(reference: Json, available: TimeRange | null, where: string): string[] {
    const number = (key: string, fallback: number) => {
      const value = reference[key] ?? fallback;
      if (typeof value !== 'number' || !Number.isFinite(value))
        throw new Trouble({ code: 'bad_value', where: `${where}.${key}`, detail: 'a number was expected' });
      return Math.trunc(value);
    };
    const step = Math.max(1, number('frame_step', 1));
    const start = number('start_frame', 1);
    const rate = rateFromNumber(number('rate', 24)) ?? { num: 24, den: 1 };
    const frames = available ? coverInRate(available.range, available.rate, rate).duration : 0;
    const count = Math.floor((frames + step - 1) / step);
    if (count > LONGEST_SEQUENCE)
      throw new Trouble({
        code: 'too_large',
        where,
        detail: `a sequence of ${count} stills is longer than ${LONGEST_SEQUENCE}`,
      });
    const text = (key: string) => (typeof reference[key] === 'string' ? (reference[key] as string) : '');
    const padding = Math.min(20, Math.max(0, number('frame_zero_padding', 0)));
    const base = text('target_url_base');
    const folder = base === '' || base.endsWith('/') ? base : `${base}/`;
    return Array.from({ length: count }, (_, i) => {
      const frame = String(start + i * step).padStart(padding, '0');
      return `${folder}${text('name_prefix')}${frame}${text('name_suffix')}`;
    });
  }

  private addMedia(name: string, targets: string[], available: TimeRange | null): MediaRef {
    const identity =
      targets.length === 0
        ? `missing ${name}`
        : targets.length === 1
          ? targets[0]!
          : `${targets[0]} +${targets.length}`;
    let media = this.mediaByTarget.get(identity);
    if (!media) {
      media = { key: this.media.length, name: name || identity.split('/').at(-1)!, targets, available };
      this.media.push(media);
      this.mediaByTarget.set(identity, media);
    } else media.available ??= available;
    return media;
  }

  private timeRange(value: unknown, where: string): TimeRange | null {
    if (value === null || value === undefined) return null;
    const object = this.object(value, where, 0);
    const start = this.rationalTime(object.start_time, `${where}.start_time`);
    const duration = this.rationalTime(object.duration, `${where}.duration`);
    if (duration.value < 0)
      throw new Trouble({ code: 'bad_value', where: `${where}.duration.value`, detail: 'a duration below zero' });
    const begin = coverInRate({ start: start.value, duration: 0 }, start.rate, duration.rate).start;
    return { range: { start: begin, duration: Math.ceil(duration.value) }, rate: duration.rate };
  }

  private rationalTime(value: unknown, where: string): { value: number; rate: Rate } {
    const object = this.object(value, where, 0);
    const rate = typeof object.rate === 'number' ? rateFromNumber(object.rate) : null;
    if (!rate) throw new Trouble({ code: 'bad_value', where: `${where}.rate`, detail: 'no frame rate' });
    if (typeof object.value !== 'number' || !Number.isFinite(object.value) || Math.abs(object.value) > 1e15)
      throw new Trouble({ code: 'bad_value', where: `${where}.value`, detail: 'no frame number' });
    return { value: object.value, rate };
  }

  private object(value: unknown, where: string, depth: number): Json {
    if (depth > DEEPEST)
      throw new Trouble({ code: 'too_deep', where: shorten(where), detail: `nested deeper than ${DEEPEST}` });
    if (!isObject(value))
      throw new Trouble({ code: 'bad_value', where: shorten(where), detail: 'an object was expected' });
    return value;
  }

  private list(value: unknown, where: string): unknown[] {
    if (value === undefined || value === null) return [];
    if (!Array.isArray(value))
      throw new Trouble({ code: 'bad_value', where: shorten(where), detail: 'a list was expected' });
    return value;
  }

  private name(object: Json): string {
    return typeof object.name === 'string' ? object.name : '';
  }
}

const shorten = (where: string) => (where.length > 200 ? `${where.slice(0, 100)} … ${where.slice(-90)}` : where);
