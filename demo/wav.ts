// The beginning of a true Broadcast Wave file: bext with a time reference, 48 kHz, 24 bit, stereo.
// Source: EBU Tech 3285.

export const WAV_BYTES_A_SECOND = 48_000 * 2 * 3;

export function wavHead(dataBytes: number, description: string, samplesSinceMidnight: number): Buffer {
  const bext = Buffer.alloc(602);
  bext.write(description.slice(0, 255), 0, 'latin1');
  bext.write('Saltpan House', 256, 'latin1');
  bext.writeBigUInt64LE(BigInt(samplesSinceMidnight), 338);
  bext.writeUInt16LE(1, 346);
  const format = Buffer.alloc(16);
  format.writeUInt16LE(1, 0);
  format.writeUInt16LE(2, 2);
  format.writeUInt32LE(48_000, 4);
  format.writeUInt32LE(WAV_BYTES_A_SECOND, 8);
  format.writeUInt16LE(6, 12);
  format.writeUInt16LE(24, 14);
  const chunk = (id: string, body: Buffer, length = body.length) => {
    const head = Buffer.alloc(8);
    head.write(id, 0, 'latin1');
    head.writeUInt32LE(length, 4);
    return Buffer.concat([head, body]);
  };
  const inside = Buffer.concat([
    Buffer.from('WAVE'),
    chunk('bext', bext),
    chunk('fmt ', format),
    chunk('data', Buffer.alloc(0), dataBytes),
  ]);
  return chunk('RIFF', inside, inside.length + dataBytes);
}
