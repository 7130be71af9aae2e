import { documentOfAutosave } from './autosaves.ts';

const DOCUMENTS = ['lamp-keepers_ep3.otio', 'lamp-keepers_ep3 v2.otio', 'Night Ferry.otio', 'mix.dawproject'];

test.each([
  ['lamp-keepers_ep3.07.otio', 0],
  ['lamp-keepers_ep3 v2 autosave 2026-11-03.otio', 1],
  ['LAMP-KEEPERS_EP3_backup_112.otio', 0],
  ['Autosave Night Ferry (17).otio', 2],
  ['mix.bak', 3],
  ['Night.otio', null],
  ['other.otio', null],
])('%s is of the document at %s', (name, at) => expect(documentOfAutosave(name, DOCUMENTS)).toBe(at));

test('between two documents that differ by a number alone it stays open', () => {
  expect(documentOfAutosave('backup of ep 3.otio', ['ep 1.otio', 'ep 2.otio'])).toBeNull();
});
