// Folders that are built under a private name and then get their own. Called by the restoring step.
import { lstatSync, mkdirSync, renameSync, rmSync, statfsSync, utimesSync } from 'node:fs';
import path from 'node:path';
import { roomOf } from '#core/places/space.ts';
import { codeOf, inodeOf, isMissing, look } from './facts.ts';
import { OutsideError } from './paths.ts';
import type { Root } from './root.ts';
import { syncFolder } from './write.ts';

export interface FolderFacts {
  device: number;
  inode: number;
}

/** Makes one folder where nothing is; one that is there stays. */
export function makeFolder(root: Root, at: string): void {
  try {
    mkdirSync(root.make(at));
  } catch (error) {
    if (codeOf(error) !== 'EEXIST') throw error;
  }
}

/** Which folder it is. */
export function isFolderOf(root: Root, at: string): FolderFacts | null;
/** Whether it is that one. */
export function isFolderOf(root: Root, at: string, known: FolderFacts): boolean;
export function isFolderOf(root: Root, at: string, known?: FolderFacts): FolderFacts | boolean | null {
  let facts: FolderFacts | null = null;
  try {
    const stats = lstatSync(root.placeText(at));
    if (stats.isDirectory()) facts = { device: stats.dev, inode: inodeOf(stats) };
  } catch (error) {
    if (!isMissing(error) && !(error instanceof OutsideError)) throw error;
  }
  if (known === undefined) return facts;
  return facts !== null && facts.device === known.device && facts.inode === known.inode;
}

/** Gives a folder its name, which must be free: also an empty folder of that name is never replaced. */
export function placeFolder(root: Root, from: string, to: string): void {
  const target = root.make(to);
  if (look(target).is !== 'gone') throw Object.assign(new Error(`${to} is there already.`), { code: 'EEXIST' });
  renameSync(root.placeText(from), target);
  syncFolder(path.dirname(target));
}

/** Removes a folder under a private name with everything in it. */
export function removeFolder(root: Root, at: string): void {
  try {
    rmSync(root.placeText(at), { recursive: true, force: true });
  } catch (error) {
    if (!isMissing(error)) throw error;
  }
}

/** Gives a file of ours the modified time that its original had, in microseconds since 1970. */
export function keepTime(place: string, modifiedUs: number): void {
  utimesSync(place, modifiedUs / 1e6, modifiedUs / 1e6);
}

export const freeBytesOf = (root: Root): number => roomOf(statfsSync(root.top)).freeBytes;
