// Rules for kinds: what is previewed is what the job then does, to the file and byte.
import { eq } from 'drizzle-orm';
import { DEFAULT_RULES, type KindRule, kindsInFolder } from '#core/kinds/kinds.ts';
import type { VolumeId } from '#core/model.ts';
import { TestSite, until } from '#test/site.ts';
import { files } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { volumeHoldings } from '../db/schema/sums.ts';
import { currentRules, markOf, previewRules, saveRules } from './kinds.ts';

let site: TestSite;
let volume: VolumeId;
const by = { who: 'Mara', now: new Date() };
const RULES: KindRule[] = [
  { kind: 'render', folderWords: ['comps'] },
  { kind: 'proxy', names: ['*_lite.*'] },
  ...DEFAULT_RULES,
];
beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media', 'source');
  for (let i = 0; i < 5; i++) site.put(`media/fog/comps/${i}.mov`, Buffer.alloc(100 + i));
  site.put('media/fog/rushes/a.mov', Buffer.alloc(900));
  site.put('media/fog/rushes/a_lite.mov', Buffer.alloc(90));
  await site.read(volume);
});
afterEach(() => site.close());

test('a change of rules is shown before it is saved, and then done just so', async () => {
  const changes = await previewRules(site.db, RULES);
  expect(changes).toEqual([
    { from: 'source', to: 'render', files: 5, bytes: 510, example: 'fog/comps/0.mov' },
    { from: 'source', to: 'proxy', files: 1, bytes: 90, example: 'fog/rushes/a_lite.mov' },
  ]);
  expect(await currentRules(site.db)).toEqual(DEFAULT_RULES);
  expect((await site.db.select().from(files)).every((file) => file.kind === 'source')).toBe(true);
  await saveRules(site.db, { rules: RULES, previewed: markOf(RULES) }, by);
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
  expect((await site.db.select().from(jobs))[0]).toMatchObject({ kind: 'apply kinds', state: 'done' });
  const rows = await site.db.select().from(volumeHoldings).where(eq(volumeHoldings.kind, 'render'));
  expect(rows.reduce((sum, row) => sum + row.bytes, 0)).toBe(510);
  expect(await previewRules(site.db, RULES)).toEqual([]);
  // A reading by the same rules has nothing to change.
  expect((await site.read(volume)).results[0]).toMatchObject({ changed: 0, added: 0 });
  expect((await site.db.select().from(receipts)).map((row) => row.action)).toEqual(['kinds changed']);
});

test('rules that nobody has looked at are not saved', async () => {
  await expect(saveRules(site.db, { rules: RULES, previewed: markOf(DEFAULT_RULES) }, by)).rejects.toThrow(
    /Nothing was saved/,
  );
  expect(await currentRules(site.db)).toEqual(DEFAULT_RULES);
  expect(await site.db.select().from(jobs)).toEqual([]);
});

test('patterns over names stand for whole names in any case, and nothing in them is special but * and ?', () => {
  const kindOf = (names: string[], name: string) =>
    kindsInFolder(
      [
        { kind: 'proxy', names },
        { kind: 'source', endings: ['mov'] },
      ],
      'x',
      'none',
    )(name);
  expect(kindOf(['*_lite.mov'], 'A_LITE.MOV')).toBe('proxy');
  expect(kindOf(['*_lite.mov'], 'a_lite.mov.txt')).toBe('other');
  expect(kindOf(['a?.mov'], 'ab.mov')).toBe('proxy');
  expect(kindOf(['a.b(c)+.mov'], 'a.b(c)+.mov')).toBe('proxy');
  expect(kindOf(['a.b'], 'axb')).toBe('other');
});
