import { type Choosable, followersOf } from './followers.ts';

const name = { code: 'name', fits: true, says: '' } as const;
const short = { code: 'duration', fits: false, says: '' } as const;
const item = (mediaId: number, oldFolder: string, ...candidates: Choosable['candidates']): Choosable => ({
  mediaId,
  documentId: mediaId === 9 ? 2 : 1,
  oldFolder,
  candidates,
});

test('neighbours of one folder follow into the new one, by name, where nothing speaks against them', () => {
  const all = [
    item(1, '/old/day 1', { fileId: 11, folderId: 7, evidence: [name] }),
    item(2, '/OLD/Day 1', { fileId: 12, folderId: 7, evidence: [name] }, { fileId: 22, folderId: 8, evidence: [name] }),
    item(3, '/old/day 1', { fileId: 13, folderId: 7, evidence: [name, short] }),
    item(4, '/old/day 2', { fileId: 14, folderId: 7, evidence: [name] }),
    item(5, '/old/day 1', { fileId: 15, folderId: 7, evidence: [{ ...name, code: 'stem' }] }),
    item(6, '', { fileId: 16, folderId: 7, evidence: [name] }),
    item(9, '/old/day 1', { fileId: 19, folderId: 7, evidence: [name] }),
  ];
  expect([...followersOf(all, { mediaId: 1, fileId: 11 })]).toEqual([[2, 12]]);
  expect([...followersOf(all, { mediaId: 6, fileId: 16 })]).toEqual([]);
  expect([...followersOf(all, { mediaId: 1, fileId: 99 })]).toEqual([]);
});
