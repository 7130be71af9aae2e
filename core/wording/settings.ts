// The headline of each part of the settings: what holds now.
import { counted, listed } from './amounts.ts';
import { kindsSentence } from './lenses.ts';

export type SettingsPart = 'house' | 'hours' | 'kinds' | 'templates' | 'removing' | 'snapshots' | 'backup' | 'post';

export interface SettingsFacts {
  house: string;
  /** The time zone it goes by. */
  zone: string;
  /** The hours of the house, and how many kinds of work have their own. */
  nights: string;
  ownHours: number;
  rules: number;
  templates: number;
  copies: number;
  places: number;
  readBackMonths: number;
  /** Name of the volume that snapshots go to; null where none are made. */
  snapshotsOn: string | null;
  everyMinutes: number;
  backupFolder: string;
  mailTo: readonly string[];
  posts: boolean;
}

export function settingsSentence(part: SettingsPart, facts: SettingsFacts): string {
  switch (part) {
    case 'house':
      return `${facts.house === '' ? 'The house has no name yet and' : `${facts.house}`} goes by the clock of ${facts.zone}.`;
    case 'hours':
      return `What needs nobody is done ${facts.nights}${facts.ownHours === 0 ? '' : `; ${counted(facts.ownHours, 'kind')} of work ${facts.ownHours === 1 ? 'has hours of its own' : 'have hours of their own'}`}.`;
    case 'kinds':
    case 'templates':
      return kindsSentence(facts.rules, facts.templates);
    case 'removing': {
      const copies = `An archive is to have ${counted(facts.copies, 'copy', 'copies')} in ${counted(facts.places, 'place')}.`;
      return facts.readBackMonths === 0
        ? `${copies} Copies are read back when somebody asks.`
        : `${copies} Each is read back every ${facts.readBackMonths === 1 ? 'month' : counted(facts.readBackMonths, 'month')}.`;
    }
    case 'snapshots':
      return facts.snapshotsOn === null
        ? 'No snapshots of documents are made.'
        : `Documents that changed are kept on ${facts.snapshotsOn}, at most every ${facts.everyMinutes === 1 ? 'minute' : counted(facts.everyMinutes, 'minute')}.`;
    case 'backup':
      return facts.backupFolder === ''
        ? 'The catalogue is not backed up by itself.'
        : 'The catalogue is backed up by itself.';
    case 'post': {
      const mail = facts.mailTo.length === 0 ? null : `One mail a morning goes to ${listed(facts.mailTo)}.`;
      if (mail === null)
        return facts.posts ? 'Every receipt is posted. No mails are sent.' : 'Nothing is told by itself.';
      return facts.posts ? `${mail} Every receipt is posted.` : mail;
    }
  }
}
