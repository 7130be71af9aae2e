import { essenceWords } from './essence.ts';

const NONE = {
  format: 'mov',
  codec: null,
  width: null,
  height: null,
  channels: null,
  sampleRate: null,
  rateNum: null,
  rateDen: null,
  durationFrames: null,
  startFrame: null,
  dropFrame: null,
  reel: null,
};

test('picture and sound are told with what is known of them', () => {
  const picture = {
    ...NONE,
    codec: 'mjpeg',
    width: 1920,
    height: 1080,
    rateNum: 30000,
    rateDen: 1001,
    durationFrames: 300,
    startFrame: 107_892,
    dropFrame: true,
    reel: 'A001',
  };
  expect(essenceWords(picture)).toEqual([
    { name: 'Picture', says: 'mjpeg, 1920 by 1080, 29.97 a second' },
    { name: 'Length', says: '00:00:10:00' },
    { name: 'Begins at', says: '01:00:00;00' },
    { name: 'Reel', says: 'A001' },
  ]);
  const sound = { ...NONE, codec: 'pcm 24 bit', channels: 1, sampleRate: 48_000, rateNum: 48_000, rateDen: 1 };
  expect(essenceWords({ ...sound, durationFrames: 96_000 })).toEqual([
    { name: 'Sound', says: 'pcm 24 bit, 1 channel, 48 kHz' },
    { name: 'Length', says: '00:00:02:00' },
  ]);
  expect(essenceWords(NONE)).toEqual([]);
});
