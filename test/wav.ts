// A sound of real samples, for tests that cut.
/** Sound of so many samples of 16 bits, 8000 a second. */
export function wav(samples: number, seed: number): Buffer {
  const out = Buffer.alloc(44 + samples * 2);
  out.write('RIFF', 0);
  out.writeUInt32LE(36 + samples * 2, 4);
  out.write('WAVEfmt ', 8);
  out.writeUInt32LE(16, 16);
  out.writeUInt16LE(1, 20);
  out.writeUInt16LE(1, 22);
  out.writeUInt32LE(8000, 24);
  out.writeUInt32LE(16_000, 28);
  out.writeUInt16LE(2, 32);
  out.writeUInt16LE(16, 34);
  out.write('data', 36);
  out.writeUInt32LE(samples * 2, 40);
  for (let n = 0; n < samples; n++) out.writeInt16LE((n * seed * 37) % 30_000, 44 + n * 2);
  return out;
}
