// Documents of an archive as they are brought back: their references lead to where the media will lie. Called by the step that
// restores, with what it has built in its private folder.
import { eq } from 'drizzle-orm';
import { UNTITLED } from '#core/documents/formats/otio.ts';
import { referencesOf, type WrittenReference } from '#core/documents/formats/otio-references.ts';
import { pruneOtio } from '#core/documents/prune.ts';
import { type Named, type NamedStills, type Relinking, relinkOtio } from '#core/documents/relink.ts';
import { pathOfUrl, urlOfPath, writeTarget } from '#core/documents/targets.ts';
import { coverInRate } from '#core/time/rates.ts';
import { pathOn } from '#core/places/station-paths.ts';
import { folderOf, joinPath, liesIn, nameOf, resolveInside } from '#core/paths.ts';
import { readSmall } from '#disk/beside.ts';
import type { Root } from '#disk/root.ts';
import { replaceOwn } from '#disk/write.ts';
import type { Only } from '../archives/contents.ts';
import { Refused } from '../runtime/refused.ts';
import { stepItems, type steps } from '../db/schema/plans.ts';
import type { volumes } from '../db/schema/stores.ts';
import type { JobContext } from '../runtime/context.ts';
import { rangePath } from '../archives/ranges.ts';
import { partOfFile, partOfSequence, STAYED_OUT } from './archive-documents.ts';
import { placesOf, type Ranged, type Ranges } from './restored-ranges.ts';

/** What lies in the private folder, and where that will be. */
export interface Built {
  context: JobContext;
  step: typeof steps.$inferSelect;
  volume: typeof volumes.$inferSelect;
  folder: string;
  only: Only | null;
  ranges: Ranges;
  /** Where stills of sequences lie in the archive that do not come. */
  stillsOut: readonly string[];
  seenFrom: { mount: string } | null;
  root: Root | null;
}

/** Points the documents' references, relative inside the bag, to where the media will lie. */
export async function relinkDocuments(
  { context, step, volume, folder, only, ranges, stillsOut, seenFrom, root: on }: Built,
  built: string,
): Promise<void> {
  const root = on!;
  const rows = await context.db
    .select({ path: stepItems.path, id: stepItems.archiveFileId })
    .from(stepItems)
    .where(eq(stepItems.stepId, step.id));
  const inside = rows.flatMap(({ path, id }) => placesOf(ranges.get(id ?? 0), path));
  const ranged = new Map([...ranges.values()].map((one) => [one.payloadPath, one]));
  const there = new Set(inside);
  const below = writeTarget('file:', pathOn(seenFrom?.mount ?? volume.path, folder));
  const urlOf = (place: string) => `${below}/${urlOfPath(place)}`;
  for (const document of inside.filter((at) => folderOf(at) === 'documents' && /\.otio$/i.test(at))) {
    const at = joinPath(built, document);
    const text = readSmall(root, at);
    const to = (url: string) =>
      url === '' || url.startsWith('/') || /^[a-z]+:/i.test(url) ? null : resolveInside('documents', pathOfUrl(url));
    const original = there.has(`${document}.original`)
      ? readSmall(root, joinPath(built, `${document}.original`))
      : null;
    const were = placesBefore(original);
    const lead = (_written: string, place: string) => urlOf(place);
    const isWhole = ranges.size === 0 && stillsOut.length === 0;
    const stills = { out: stillsOut, inside };
    const part = isWhole ? null : partsOf(text, only?.timelines ?? [], { ranged, stills, to, lead, at });
    const relinked = relinkOtio(text, {
      part(place, named) {
        const found = part?.(place, named) ?? null;
        // The others are told by their turn.
        if (found) ('url' in named ? were.files : were.sequences).shift();
        return found;
      },
      file: (url) => {
        const [found, was] = [to(url), were.files.shift()];
        if (found !== null && there.has(found)) return urlOf(found);
        // What stayed out of the archive, or on it, may still lie where it was.
        return found !== null && (only || liesIn(found, STAYED_OUT)) ? (was ?? null) : null;
      },
      sequence: (base, prefix) => {
        const [found, was] = [to(base), were.sequences.shift()];
        if (found !== null && inside.some((file) => file.startsWith(`${found}/${prefix}`))) return `${urlOf(found)}/`;
        return found !== null && (only || liesIn(found, STAYED_OUT)) ? (was ?? null) : null;
      },
    });
    // A document that was asked for by itself is wanted as it is.
    const isNamed = only !== null && only.timelines.length + only.bins.length > 0;
    const kept = isNamed
      ? withoutRest(relinked.text, { only, here: new Set([...there].map(urlOf)), below })
      : relinked.text;
    if (kept === text) continue;
    // Written over only inside the private folder: the relative one is on the carrier, and the original lies beside it.
    const place = root.placeText(at);
    const temporary = (await context.names()).place(root, 'text', step.id);
    replaceOwn(place, kept, temporary);
  }
}

interface Parts {
  /** By where the whole lies in the archive. */
  ranged: ReadonlyMap<string, Ranged>;
  /** All that lies there, and the stills of the archive that do not come. */
  stills: { out: readonly string[]; inside: readonly string[] };
  to: (url: string) => string | null;
  lead: (written: string, place: string) => string;
  at: string;
}

type NamedFile = Extract<Named, { url: string }>;
/** References to one file that say the same of it. */
const mediaKey = (named: NamedFile): string => JSON.stringify([named.url, named.available()]);

/** What the asked timelines use of each media, by all of its references. */
function spansOf(text: string, references: ReturnType<typeof referencesOf>) {
  const found = new Map<string, NonNullable<WrittenReference['used']>[]>();
  relinkOtio(text, {
    part(place, named) {
      const used = references.get(place)?.used;
      if (used && 'url' in named) found.set(mediaKey(named), [...(found.get(mediaKey(named)) ?? []), used]);
      return null;
    },
    file: () => null,
    sequence: () => null,
  });
  return found;
}

/** Of media that came in ranges, which one each reference leads to. */
function partsOf(
  text: string,
  timelines: readonly string[],
  { ranged, stills, to, lead, at }: Parts,
): NonNullable<Relinking['part']> {
  const references = referencesOf(text, timelines);
  const spans = spansOf(text, references);
  return (place, named) => {
    const reference = references.get(place) ?? { used: null, usedByAll: null, isWhole: false };
    if (!('url' in named)) {
      const sequence = sequenceInParts(named, to(named.base), stills);
      return sequence && partOfSequence(sequence, { reference, at, lead: { to: lead }, written: `${named.base}x` });
    }
    const own = ranged.get(to(named.url) ?? '');
    if (!own) return null;
    const used = reference.used ?? reference.usedByAll;
    // What no timeline takes anything of is told as the other media that stayed.
    if (!used) return null;
    const said = named.available();
    const rate = said?.rate ?? used.rate;
    const all = spans.get(mediaKey(named)) ?? [used];
    const { start = null, duration = null } = said?.range ?? {};
    const use = {
      spans: all.map((one) => coverInRate(one.range, one.rate, rate)),
      rate,
      start,
      duration,
      relinks: true,
    };
    const parts = own.parts.map((part) => ({ ...part, payloadPath: rangePath(own.payloadPath, part.partFrom) }));
    const inParts = { file: own.file, use, parts, path: own.payloadPath };
    try {
      return partOfFile(inParts, { reference, at, lead: { to: lead }, written: named.url });
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      throw new Refused(
        `It stays open which frames ${nameOf(at)} takes of ${own.payloadPath}, so its used ranges cannot stand for it. Nothing was restored; the archive is as it was. Restore it with whole files.`,
      );
    }
  };
}

/** A sequence of which some stills came; null where all of them did, or none, or where the document does not say what there is of it. */
function sequenceInParts(named: NamedStills, folder: string | null, { out, inside }: Parts['stills']) {
  const said = named.available();
  if (folder === null || !said) return null;
  const { prefix, suffix, first, step } = named;
  const number = (place: string): number[] => {
    const name = nameOf(place);
    const digits = name.slice(prefix.length, name.length - suffix.length);
    const isOne = folderOf(place) === folder && name === `${prefix}${digits}${suffix}` && /^-?\d+$/.test(digits);
    const ord = (Number(digits) - first) / step;
    return isOne && Number.isInteger(ord) && ord >= 0 ? [ord] : [];
  };
  const [left, here] = [out.flatMap(number), inside.flatMap(number)];
  if (left.length === 0 || here.length === 0) return null;
  const { range, rate } = said;
  return {
    stills: { first, step, count: null },
    use: { rate, start: range.start, duration: range.duration },
    files: new Map([...here, ...left].sort((a, b) => a - b).map((ord) => [ord, ord])),
    ...{ folder, out: left },
  };
}

/** Of a document what was asked for: those timelines, and clips whose media came along. The untouched original lies beside it. */
function withoutRest(
  text: string,
  { only, here, below }: { only: Only; here: ReadonlySet<string>; below: string },
): string {
  const isHere = (url: string) => here.has(url) || (url.startsWith(`${below}/`) && url.endsWith('/'));
  return pruneOtio(text, {
    keepsTimeline: (name) => only.timelines.includes(name || UNTITLED),
    keepsClip: (targets) => targets.some(isHere),
  });
}

/** The references of the untouched original, in the order in which the relinked document has its own. */
function placesBefore(original: string | null): { files: string[]; sequences: string[] } {
  const were = { files: [] as string[], sequences: [] as string[] };
  if (original !== null)
    relinkOtio(original, {
      file: (url) => (were.files.push(url), null),
      sequence: (base) => (were.sequences.push(base), null),
    });
  return were;
}
