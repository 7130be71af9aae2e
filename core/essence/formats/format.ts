// What a format of media files is: how it begins, and how its structure is read. One file a format in this folder, one
// line in the registry.
import type { ByteSource } from '../bytes.ts';
import type { Essence } from '../model.ts';

export interface EssenceFormat {
  readonly id: string;
  /** Usual endings of names, lower case, without the dot: for people; a file is known by its first bytes. */
  readonly endings: readonly string[];
  /** True where a file that begins with these bytes (64, or all) is one. */
  sniff(head: Uint8Array): boolean;
  /** Throws EssenceTrouble where the structure is not what it should be. */
  read(source: ByteSource): Essence;
}

export const text = (head: Uint8Array, at: number, length: number): string =>
  String.fromCharCode(...head.subarray(at, at + length));
export const hex = (head: Uint8Array, length: number): string =>
  [...head.subarray(0, length)].map((b) => b.toString(16).padStart(2, '0')).join('');
