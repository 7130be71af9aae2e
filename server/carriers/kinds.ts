// Every kind of carrier there is. Whoever adds one writes its folder and one line here.
import type { CarrierFacts } from '#core/archive/carrier-facts.ts';
import { Registry } from '#core/registry.ts';
import { disk } from './disk/disk.ts';
import type { Carrier, CarrierKind } from './kind.ts';
import { Refused } from '../runtime/refused.ts';
import { FOLDER, isOneFile, packed } from './packers.ts';
import { store } from './store/store.ts';
import { tape } from './tape/tape.ts';

const kinds = new Registry<CarrierKind>('kind of carrier');

export function addCarrierKind<Settings extends object>(kind: CarrierKind<Settings>): void {
  kinds.add(kind.kind, kind as unknown as CarrierKind);
}

addCarrierKind(disk);
addCarrierKind(tape);
addCarrierKind(store);

export function carrierKindOf(kind: string): CarrierKind {
  const known = kinds.get(kind);
  if (!known) throw new Error(`There is no kind of carrier called ${kind}.`);
  return known;
}

/** Of a carrier by where it is: two files at once would lie in pieces on it. */
export const isSequential = ({ module }: Pick<CarrierPlace, 'module'>): boolean =>
  kinds.all().some((kind) => kind.module === module && kind.sequential === true);

/** Kinds of carriers that are loaded and wound before they are read. */
export const sequentialKinds = (): string[] => kinds.all().flatMap((kind) => (kind.sequential ? [kind.kind] : []));

/** Whether carriers of a kind hold archives that are packed like this. */
export const takesPacked = (kind: string, packer: string): boolean =>
  !isOneFile(packer) || carrierKindOf(kind).growing !== false;

/** Throws Refused where one of them cannot hold an archive that is packed like this. */
export function refusePacking(rows: readonly Pick<CarrierRow, 'name' | 'kind'>[], packer: string): void {
  const row = rows.find(({ kind }) => !takesPacked(kind, packer));
  if (row)
    throw new Refused(
      `${row.name} is a ${carrierKindOf(row.kind).name}, which takes archives as a folder of files only. Nothing was added. Pack it as a folder, or choose another carrier.`,
    );
}

export const allCarrierKinds = (): CarrierKind[] => kinds.all();

/** A carrier as the catalogue has it, as far as it takes to open it. */
export interface CarrierRow {
  name: string;
  kind: string;
  settings: Record<string, unknown>;
  identity: string | null;
}

/** Seconds until something of a carrier is here, whatever it is: as the store says, or half a tape. */
export function waitSeconds({ kind, settings, facts }: CarrierRow & { facts: CarrierFacts | null }): number {
  const { seconds = 0, mountSeconds = 0 } = carrierKindOf(kind).fetching?.(settings) ?? {};
  return seconds + mountSeconds + (facts?.geometry ? facts.geometry.lengthSeconds / 2 : 0);
}

/** It has to thaw before it is read, or reading it costs something: nobody reads it by the way. */
export function isKeptCold({ kind, settings }: Pick<CarrierRow, 'kind' | 'settings'>): boolean {
  const { seconds = 0, costPerGb = 0 } = carrierKindOf(kind).fetching?.(settings) ?? {};
  return seconds > 0 || costPerGb > 0;
}

/** Where a carrier is for this worker, ready to be handed to a thread. */
export interface CarrierPlace {
  name: string;
  module: string;
  settings: object;
  identity: string | null;
  /** How what is written there is packed; see packers.ts. */
  packer: string;
}

/** @param path where this worker finds it; null: where its settings say */
export function placeOf(row: CarrierRow, path: string | null = null, packer = FOLDER): CarrierPlace {
  const kind = carrierKindOf(row.kind);
  const settings = kind.settings.parse(row.settings);
  return {
    name: row.name,
    module: kind.module,
    settings: path === null ? settings : kind.at(settings, path),
    identity: row.identity,
    packer,
  };
}

/** Opens a carrier by the module of its kind: what threads do. */
export async function openCarrier(place: CarrierPlace): Promise<Carrier> {
  const { module, settings, identity } = place;
  const known = allCarrierKinds().find((kind) => kind.module === module);
  const { default: kind } = known
    ? { default: known }
    : ((await import(/* @vite-ignore */ module)) as { default: CarrierKind });
  return packed(await kind.open(settings, identity), place);
}
