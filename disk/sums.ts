// Sums of small texts. Whole files are summed in threads.
import { createHash } from 'node:crypto';

/** SHA-512 (FIPS 180-4) of a text's UTF-8 bytes, in hex. */
export const sha512 = (text: string): string => createHash('sha512').update(text).digest('hex');
