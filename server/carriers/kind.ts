// What a kind of carrier is: its settings and words, how to look at it, and how to write and read packs on it. One folder
// a kind, one line in kinds.ts. Everything is asynchronous and goes by streams; nothing outside a kind's own folder
// knows a path on it. Owned by the steps that archive, restore and remove originals.
import type { Readable, Writable } from 'node:stream';
import type { CarrierFacts } from '#core/archive/carrier-facts.ts';
import type { ReadAt } from '#core/archive/containers/container.ts';
import type { z } from 'zod';

/** What is asked of one when it is registered. */
export interface CarrierField {
  name: string;
  label: string;
  hint?: string;
  optional?: boolean;
  secret?: boolean;
  /** It is a folder of the machine that reaches it. */
  isFolder?: boolean;
}

export interface CarrierKind<Settings extends object = object> {
  readonly kind: string;
  /** As people call it. */
  readonly name: string;
  /** What somebody has to say to register one. Parsed whenever it is read back. */
  readonly settings: z.ZodType<Settings>;
  /** What a form asks for, by the names in its settings. */
  readonly fields: readonly CarrierField[];
  /** Address of its own module, whose default export it is: threads load it from there. */
  readonly module: string;
  /** False: what was written is never written on, and archives that are one file cannot be put there. */
  readonly growing?: boolean;
  /** True: one file after the other. Two that are written at once would lie in pieces. */
  readonly sequential?: boolean;
  /** What it takes until something can be read, by its settings; left out where it is there at once. */
  fetching?(settings: object): Fetching;
  /** The words for one, for example the folder of a disk. */
  describe(settings: Settings): string;
  /** The same carrier where this machine finds it. */
  at(settings: Settings, path: string): Settings;
  look(settings: Settings): Promise<CarrierLook>;
  /** Gives it an identity, unless it has one. Throws Refused in a sentence where it cannot be used. */
  register(settings: Settings): Promise<{ settings: Settings; identity: string }>;
  /** Folders of this machine that it takes up: no volume is read into them. */
  folders(settings: Settings): readonly string[];
  /** Opens the one with this identity. Throws CarrierAway where it is not there. */
  open(settings: Settings, identity: string | null): Promise<Carrier>;
}

export interface Fetching {
  /** Before the first byte comes, once for all that is asked for together. */
  seconds: number;
  /** Each time the carrier is taken into a drive. */
  mountSeconds: number;
  /** In the money of the house. */
  costPerGb: number;
}

export type CarrierLook =
  | {
      state: 'reachable';
      identity: string | null;
      totalBytes: number;
      freeBytes: number;
      writable: boolean;
      facts?: CarrierFacts;
    }
  | { state: 'unreachable'; code: string };

/** The carrier is not there, or another is in its place. */
export class CarrierAway extends Error {
  readonly code = 'carrier_away';
  constructor(readonly carrier: string) {
    super(`${carrier} is not there, or another carrier is in its place.`);
  }
}

/** An archive's part while it is written: nothing of it has its name until it is placed. */
export interface Pack {
  /** Its name once it is placed. */
  folder: string;
  /** Whose it is until then; see disk/private-names.ts. */
  site: string;
  job: string;
  lease: string;
  item: number;
}

/** What is known of a file before its first byte is written. */
export interface FileToWrite {
  sizeBytes: number;
  modifiedMs: number;
}

/** What is written over at the end. */
export interface Mending {
  at: number;
  bytes: Uint8Array;
}

export interface Entry {
  at: string;
  /** Null for what is no plain file. */
  sizeBytes: number | null;
  /** When it was last changed, where the carrier keeps that. */
  modifiedMs?: number;
}

/** A carrier that is there. */
export interface Carrier {
  /** Writing. Each call throws PackGone where another lease has taken the pack over. */
  begin(pack: Pack): Promise<void>;
  /** Takes over what earlier leases of this job had begun; true where there is something now. `check` may end it. */
  takeOver(pack: Pack, check?: () => void): Promise<boolean>;
  /**
   * A stream to one file of the pack. It is flushed, and under its name in the pack, when the stream has finished. Memory that was
   * written from may be used again once that write is called back.
   */
  write(pack: Pack, at: string, file: FileToWrite): Promise<Writable>;
  /** Goes on writing a file of the pack from a place on; what lay behind it is cut off. Flushed when it has finished. */
  append(pack: Pack, at: string, from: number, mend?: () => Mending | null): Promise<Writable>;
  /** Gives a file of the pack a new inode with its first bytes: who had the old one open writes nowhere. */
  renew(pack: Pack, at: string, sizeBytes: number): Promise<void>;
  /** Takes one file out of a pack that is not placed. */
  remove(pack: Pack, at: string): Promise<void>;
  /** Gives the whole, or one file of it, its name, which must be free: throws EEXIST where it is not. */
  place(pack: Pack, only?: { at: string; name: string }): Promise<void>;
  /** Throws away what was begun. What was placed stays. */
  discard(pack: Pack): Promise<void>;

  /**
   * Reading, of a pack that is being written or of what was placed: from the medium, not from memory.
   * @param at '' for what was placed itself, where that is one file
   */
  read(of: Pack | string, at: string, range?: { at: number; length: number }): Promise<Readable>;
  /** As `read`, for whoever is done with a piece before asking for the next: its memory is used again then. Left out: `read` does. */
  passing?(of: Pack | string, at: string, range?: { at: number; length: number }): Promise<AsyncIterable<Buffer>>;
  /** Pieces of one file, wherever they lie. `isFresh`: from the medium; else what memory has of it will do. */
  pieces<T>(of: Pack | string, at: string, isFresh: boolean, use: (readAt: ReadAt) => Promise<T>): Promise<T>;
  /** The size of a file, and a mark that is another once it was changed; null where there is none. */
  look(of: Pack | string, at: string): Promise<{ sizeBytes: number; mark: string } | null>;
  /** Everything in it, links and the like included. */
  list(of: Pack | string): AsyncIterable<Entry>;
  has(folder: string): Promise<boolean>;
  /** Packs of this site that have no name yet, whoever left them. */
  unfinished(site: string): Promise<Omit<Pack, 'folder'>[]>;
  freeBytes(): Promise<number>;
  /**
   * Asks for what cannot be read at once; true where all of it can. Left out: everything can, always.
   * @param wanted of the files of what was placed
   */
  ready?(folder: string, wanted: (at: string) => boolean): Promise<boolean>;
  /** Where files of a pack begin on the medium, in the order of `ats`; left out where that makes no difference. */
  positions?(of: Pack | string, ats: readonly string[]): Promise<(number | null)[]>;
  close(): Promise<void>;
}

/** Another lease has taken the pack over, or threw it away: whoever writes here has lost the work. */
export class PackGone extends Error {
  readonly code = 'pack_gone';
  constructor() {
    super('What was being written has been taken over by another worker.');
  }
}

/** Only says that the parts of a kind fit together. */
export const carrierKind = <Settings extends object>(kind: CarrierKind<Settings>): CarrierKind<Settings> => kind;
