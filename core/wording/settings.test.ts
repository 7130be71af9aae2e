import { type SettingsFacts, settingsSentence } from './settings.ts';

const facts: SettingsFacts = {
  ...{
    rules: 16,
    templates: 1,
    copies: 2,
    places: 1,
    readBackMonths: 6,
    snapshotsOn: 'Ropewalk projects',
    everyMinutes: 10,
  },
  ...{ house: 'Saltpan House', zone: 'Europe/Lisbon' },
  ...{
    nights: 'each night, between 1:00 and 5:00',
    ownHours: 0,
    backupFolder: '/safe',
    mailTo: ['media@house.example'],
    posts: false,
  },
};

test.each([
  ['house', {}, 'Saltpan House goes by the clock of Europe/Lisbon.'],
  ['house', { house: '' }, 'The house has no name yet and goes by the clock of Europe/Lisbon.'],
  ['removing', {}, 'An archive is to have 2 copies in 1 place. Each is read back every 6 months.'],
  [
    'removing',
    { copies: 1, places: 2, readBackMonths: 1 },
    'An archive is to have 1 copy in 2 places. Each is read back every month.',
  ],
  [
    'removing',
    { readBackMonths: 0 },
    'An archive is to have 2 copies in 1 place. Copies are read back when somebody asks.',
  ],
  ['snapshots', {}, 'Documents that changed are kept on Ropewalk projects, at most every 10 minutes.'],
  ['snapshots', { everyMinutes: 1 }, 'Documents that changed are kept on Ropewalk projects, at most every minute.'],
  ['snapshots', { snapshotsOn: null }, 'No snapshots of documents are made.'],
  ['backup', {}, 'The catalogue is backed up by itself.'],
  ['backup', { backupFolder: '' }, 'The catalogue is not backed up by itself.'],
  ['post', {}, 'One mail a morning goes to media@house.example.'],
  ['post', { posts: true }, 'One mail a morning goes to media@house.example. Every receipt is posted.'],
  ['post', { mailTo: [], posts: true }, 'Every receipt is posted. No mails are sent.'],
  ['post', { mailTo: [] }, 'Nothing is told by itself.'],
] as const)('%s with %j: %s', (part, more, sentence) =>
  expect(settingsSentence(part, { ...facts, ...more })).toBe(sentence),
);
