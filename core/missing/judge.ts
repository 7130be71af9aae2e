// Which file a clip that lost its media may mean: every candidate with the evidence for and against it. Nothing is ever
// taken without being certain, and certain means: nothing speaks against it, enough speaks for it, and no other file is
// as good. Used by the missing page, the command line, and for documents that write no paths at all.
import { count, counted, size } from '../wording/amounts.ts';
import type { PictureSize } from '../documents/model.ts';
import { foldPath } from '../homes/moves.ts';
import { type FrameRange, isSameRate, perSecond, type Rate } from '../time/rates.ts';
import { labelsPerSecond, labelText } from '../time/timecode.ts';

/** What the document says of the media it misses. */
export interface Wanted {
  /** Name of the file, or of the clip where the document writes no path. */
  name: string;
  reel: string | null;
  /** Its picture in pixels; null where the document says nothing of it. */
  picture?: PictureSize | null;
  /** The smallest picture of the document's other media, where nothing tells how large its own was. */
  leastPicture?: PictureSize | null;
  rate: Rate | null;
  /** First frame and length as the document has them; null where it says nothing. */
  startFrame: number | null;
  durationFrames: number | null;
  /** What timelines use; null for the whole. Counted as `startFrame` is, or as timecode where there is none. */
  used: readonly FrameRange[] | null;
  /** Its rate is told by whole labels alone: 24 may be 23.976. */
  isNominal?: boolean;
  /** The file it was, where it was read before it went; the document itself says nothing of its bytes. */
  was: { sizeBytes: number; fingerprint: string | null } | null;
}

/** One file that may be it, with what its own structure says; null where it says nothing. */
export interface Suspect {
  fileId: number;
  name: string;
  rate: Rate | null;
  startFrame: number | null;
  dropFrame: boolean;
  durationFrames: number | null;
  reel: string | null;
  picture?: PictureSize | null;
  /** Other media of the same old folder that are found, or would be, in this file's folder. */
  neighbours: number;
  /** Its kind is a proxy: it stands for the recording and is not it. */
  isProxy?: boolean;
  /** Sound alone: its rate is that of its samples, and it is compared in the document's rate. */
  sampled: boolean;
  /** It cannot be opened as media: what is wrong with it. */
  damaged: string | null;
  sizeBytes: number;
  /** Of its size and some of its bytes; null where they were not read. */
  fingerprint: string | null;
}

export type EvidenceCode =
  | 'name'
  | 'stem'
  | 'size'
  | 'fingerprint'
  | 'duration'
  | 'start'
  | 'rate'
  | 'reel'
  | 'picture'
  | 'covers'
  | 'neighbours'
  | 'structure'
  | 'kind'
  | 'stills';

export interface Evidence {
  code: EvidenceCode;
  /** Speaks for it, or against it. */
  fits: boolean;
  says: string;
  /** It is so of others as well, though it fits: it proves nothing of which recording it is. */
  proves?: false;
}

export interface Candidate {
  fileId: number;
  points: number;
  evidence: Evidence[];
  verdict: 'certain' | 'likely' | 'possible' | 'unlikely';
}

const POINTS: Record<EvidenceCode, [fits: number, not: number]> = {
  name: [4, 0],
  stem: [2, 0],
  size: [2, -3],
  fingerprint: [4, -6],
  duration: [3, -4],
  start: [3, -4],
  rate: [1, -4],
  reel: [2, -3],
  picture: [1, -4],
  covers: [2, -6],
  neighbours: [2, 0],
  structure: [0, -6],
  kind: [0, -4],
  stills: [6, 0],
};

/**
 * What only the recording itself can tell, and how much of it proves which one it is: two is enough beside its very name.
 * Size proves nothing: takes of one length and a constant rate share it. Nor do a length beside a name, since cameras use
 * their names again, or a start that many share.
 */
const PROOF: Partial<Record<EvidenceCode, number>> = {
  duration: 1,
  start: 1,
  reel: 1,
  covers: 1,
  fingerprint: 2,
  stills: 1,
};

/** That it holds what is used follows from its length or its start, where those are known to fit. */
function proofOf(evidence: readonly Evidence[]): number {
  const fits = new Set(evidence.filter((one) => one.fits && one.proves !== false).map((one) => one.code));
  if (fits.has('duration') || fits.has('start')) fits.delete('covers');
  return [...fits].reduce((sum, code) => sum + (PROOF[code] ?? 0), 0);
}

/** All candidates, the best first. */
export function judge(wanted: Wanted, suspects: readonly Suspect[]): Candidate[] {
  return ranked(suspects.map((suspect) => ({ fileId: suspect.fileId, evidence: evidenceFor(wanted, suspect) })));
}

/** A folder in which stills of a sequence lie, under the names that the document writes. */
export interface StillsFolder {
  /** One of them: the sequence's first where that is there. */
  fileId: number;
  stills: number;
  /** Of the sequence's first still; null where it is not there. */
  first: Pick<Suspect, 'sizeBytes' | 'fingerprint'> | null;
}

/**
 * The same for a sequence of stills, which lies in one folder or another. Names prove little: every shot may have a
 * plate.1001. Its first still, where it was read before it went, tells.
 */
export function judgeStills(
  wanted: { stills: number; was: Wanted['was'] },
  folders: readonly StillsFolder[],
): Candidate[] {
  return ranked(
    folders.map(({ fileId, stills, first }) => {
      const all = stills >= wanted.stills;
      const says = all
        ? `all ${count(wanted.stills)} stills lie there`
        : `${count(stills)} of ${count(wanted.stills)} stills lie there`;
      const evidence: Evidence[] = [
        { code: 'name', fits: true, says: 'the same names' },
        { code: 'stills', fits: all, says },
      ];
      if (first)
        bytes(wanted, first, (code, fits, told) => evidence.push({ code, fits, says: `its first still: ${told}` }));
      return { fileId, evidence };
    }),
  );
}

function ranked(found: readonly Omit<Judged, 'points'>[]): Candidate[] {
  const all = found.map((one) => ({
    ...one,
    points: one.evidence.reduce((sum, { code, fits }) => sum + POINTS[code][fits ? 0 : 1], 0),
  }));
  all.sort((a, b) => b.points - a.points || a.fileId - b.fileId);
  const clean = all.filter(({ evidence }) => evidence.every((one) => one.fits));
  return all.map((one) => ({ ...one, verdict: verdictOf(one, clean, all[0]!.points) }));
}

type Judged = Omit<Candidate, 'verdict'>;

function verdictOf(one: Judged, clean: readonly Judged[], most: number): Candidate['verdict'] {
  const has = (code: EvidenceCode) => one.evidence.some((each) => each.code === code && each.fits);
  if (!clean.includes(one)) return one.points >= 4 ? 'possible' : 'unlikely';
  // Two independent things that only the recording itself can tell, or one and the company it keeps.
  const own = proofOf(one.evidence);
  const named = has('name') || has('stem');
  // Of another ending it is another file: a proxy, or what it was made from.
  const proved = has('name') && (own >= 2 || (own === 1 && !has('duration') && has('neighbours')));
  // Another file that nothing speaks against, and that is of the same name or has as much for it, leaves a choice.
  const rivals = clean.filter((other) => other !== one && (isProved(other) || other.points >= one.points));
  if (proved && rivals.length === 0 && one.points === most) return 'certain';
  return named && own >= 1 ? 'likely' : 'possible';
}

function isProved({ evidence }: Judged): boolean {
  return proofOf(evidence) >= 2 && evidence.some((each) => each.code === 'name');
}

const stemOf = (name: string) => foldPath(name.replace(/\.[^.]+$/, ''));
const rateText = (rate: Rate) => String(Math.round(perSecond(rate) * 1000) / 1000);

const pictureText = ({ width, height }: PictureSize) => `${width} × ${height}`;

/** Sound counted as the document counts it. */
function inRate(suspect: Suspect, rate: Rate | null): Suspect {
  if (!suspect.sampled || !suspect.rate || !rate) return suspect;
  const factor = perSecond(rate) / perSecond(suspect.rate);
  const frames = (samples: number | null) => (samples === null ? null : Math.round(samples * factor));
  return {
    ...suspect,
    rate,
    startFrame: frames(suspect.startFrame),
    durationFrames: frames(suspect.durationFrames),
  };
}

function evidenceFor(wanted: Wanted, counted: Suspect): Evidence[] {
  const suspect = inRate(counted, wanted.rate);
  const all: Evidence[] = [];
  const say = (code: EvidenceCode, fits: boolean, says: string) => all.push({ code, fits, says });
  // Edit lists name their clips without an ending.
  const isWhole = /\.[A-Za-z0-9]{2,5}$/.test(wanted.name);
  if (foldPath(suspect.name) === foldPath(wanted.name) || (!isWhole && stemOf(suspect.name) === foldPath(wanted.name)))
    say('name', true, 'the same name');
  else if (stemOf(suspect.name) === stemOf(wanted.name)) say('stem', true, 'the same name but its ending');
  if (suspect.isProxy) say('kind', false, 'it is a proxy');
  bytes(wanted, suspect, say);
  if (suspect.damaged !== null) say('structure', false, `it is damaged: ${suspect.damaged}`);
  const [rate, own] = [wanted.rate, suspect.rate];
  const comparable =
    rate !== null &&
    own !== null &&
    (isSameRate(rate, own) || (wanted.isNominal === true && labelsPerSecond(rate) === labelsPerSecond(own)));
  if (rate && own)
    say(
      'rate',
      comparable,
      comparable ? `${rateText(own)} a second` : `${rateText(own)} a second, not ${rateText(rate)}`,
    );
  if (wanted.durationFrames !== null && suspect.durationFrames !== null && comparable) {
    const fits = wanted.durationFrames === suspect.durationFrames;
    const frames = `${suspect.durationFrames} frames`;
    say('duration', fits, fits ? frames : `${frames}, not ${wanted.durationFrames}`);
  }
  // A document that counts from zero says nothing about timecode.
  if (wanted.startFrame !== null && wanted.startFrame > 0 && suspect.startFrame !== null && comparable) {
    const fits = wanted.startFrame === suspect.startFrame;
    const label = labelText(suspect.startFrame, own, suspect.dropFrame);
    const says = fits
      ? `begins at ${label}`
      : `begins at ${label}, not ${labelText(wanted.startFrame, own, suspect.dropFrame)}`;
    // Counters that were set begin at a whole hour.
    all.push({ code: 'start', fits, says, ...(/:00:00[:;]00$/.test(label) ? { proves: false as const } : {}) });
  }
  if (wanted.reel && suspect.reel) {
    const fits = foldPath(wanted.reel) === foldPath(suspect.reel);
    say('reel', fits, fits ? `reel ${suspect.reel}` : `reel ${suspect.reel}, not ${wanted.reel}`);
  }
  const [picture, is] = [wanted.picture, suspect.picture];
  if (picture && is) {
    const fits = picture.width === is.width && picture.height === is.height;
    say('picture', fits, fits ? pictureText(is) : `${pictureText(is)}, not ${pictureText(picture)}`);
  }
  const least = wanted.leastPicture;
  if (!picture && is && least && is.width * is.height < least.width * least.height)
    say(
      'picture',
      false,
      `${pictureText(is)}, smaller than all other media of its document, from ${pictureText(least)} on: it may be a proxy`,
    );
  covers(wanted, suspect, all);
  all.push(...besides(suspect.neighbours));
  return all;
}

function besides(neighbours: number): Evidence[] {
  if (neighbours === 0) return [];
  const says =
    neighbours === 1
      ? 'another file of its old folder lies beside it'
      : `${neighbours} other files of its old folder lie beside it`;
  return [{ code: 'neighbours', fits: true, says }];
}

/** To the byte where the two would look the same. */
const sizeBeside = (bytes: number, other: number) =>
  size(bytes) === size(other) ? counted(bytes, 'byte') : size(bytes);

/** Against the file that it was. Files of one size with other bytes are told apart by their fingerprints. */
function bytes(
  { was }: Pick<Wanted, 'was'>,
  suspect: Pick<Suspect, 'sizeBytes' | 'fingerprint'>,
  say: (code: EvidenceCode, fits: boolean, says: string) => void,
): void {
  if (!was) return;
  if (was.sizeBytes !== suspect.sizeBytes)
    return say(
      'size',
      false,
      `${sizeBeside(suspect.sizeBytes, was.sizeBytes)}, not ${sizeBeside(was.sizeBytes, suspect.sizeBytes)} as the file that was there`,
    );
  say('size', true, 'the size of the file that was there, to the byte');
  if (was.fingerprint === null || suspect.fingerprint === null) return;
  const fits = was.fingerprint === suspect.fingerprint;
  say('fingerprint', fits, fits ? 'its fingerprint' : 'not its fingerprint: the bytes differ');
}

/** Whether what timelines use of it is in the file at all. */
function covers(wanted: Wanted, suspect: Suspect, all: Evidence[]): void {
  const { used, rate } = wanted;
  if (!used || used.length === 0 || suspect.durationFrames === null || !rate || !suspect.rate) return;
  const inTimecode = wanted.startFrame === null || wanted.startFrame > 0;
  const begin = inTimecode ? suspect.startFrame : 0;
  if (begin === null) return;
  // In seconds, so that files of another rate can be told as too short as well.
  const own = perSecond(suspect.rate);
  const per = wanted.isNominal && labelsPerSecond(rate) === labelsPerSecond(suspect.rate) ? own : perSecond(rate);
  const from = used.reduce((least, range) => Math.min(least, range.start), Infinity) / per;
  const to = used.reduce((most, range) => Math.max(most, range.start + range.duration), 0) / per;
  const frame = 1 / Math.min(per, own);
  const fits = begin / own <= from + frame / 2 && (begin + suspect.durationFrames) / own >= to - frame / 2;
  const says = fits ? 'it holds all that is used' : 'it does not hold all that is used';
  // A file that begins at zero holds whatever is used of any that does.
  all.push({ code: 'covers', fits, says, ...(begin === 0 ? { proves: false as const } : {}) });
}

/**
 * What tells candidates apart: for each the codes of what is not said of all those that are as good. Empty where there is
 * only one.
 */
export function tellingApart(candidates: readonly Candidate[]): Map<number, Set<EvidenceCode>> {
  const rivals = candidates.filter((one) => one.verdict !== 'unlikely');
  const said = new Map<string, number>();
  const keyOf = ({ code, fits, says }: Evidence) => `${code} ${fits} ${says}`;
  for (const { evidence } of rivals)
    for (const each of evidence) said.set(keyOf(each), (said.get(keyOf(each)) ?? 0) + 1);
  return new Map(
    candidates.map(({ fileId, evidence }) => [
      fileId,
      new Set(
        rivals.length < 2
          ? []
          : evidence.filter((each) => said.get(keyOf(each)) !== rivals.length).map((each) => each.code),
      ),
    ]),
  );
}
