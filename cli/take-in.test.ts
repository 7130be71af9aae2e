// The commands that take in, keep, hold and let go, and those of the nights, on a small real site.
import { cpSync } from 'node:fs';
import path from 'node:path';
import { typed } from '#test/command.ts';
import { otio, TestSite } from '#test/site.ts';

let site: TestSite;
const run = (...args: string[]) => typed(site, ...args);
const at = (...parts: string[]) => path.join(site.root, ...parts);

beforeEach(async () => {
  site = await TestSite.open();
  await site.carrier('old');
  site.put('old/Fog/a.mov', 'a'.repeat(2000));
  site.put('old/Fog/fog.otio', otio('Fog', ['a.mov']));
  await site.look();
});
afterEach(async () => {
  process.exitCode = 0;
  await site.close();
});

test('a folder is taken in by its path, by its carrier, or with all there is; nonsense is refused', async () => {
  await expect(run('take-in', '/nowhere/at/all')).rejects.toThrow('lies on no registered carrier');
  await expect(run('take-in')).rejects.toThrow('Say which folder, or --all');
  await expect(run('take-in', '--all')).rejects.toThrow('Name the carrier with --on');
  await expect(run('take-in', 'Fog', '--on', 'old', '--year', '26')).rejects.toThrow('is no year');
  expect(await run('take-in', at('old/Fog'), '--name', 'Fog of old', '--year', '2019')).toContain(
    'Taking in Fog from old',
  );
  await site.workOff();
  expect(await run('shelf')).toMatch(/fog-of-old_\S+ +Fog of old +\S+ \S+ +2 +old/);
  expect(await run('where', 'a.mov')).toMatch(/a\.mov +Fog +old +cabinet/);
  cpSync(at('old/Fog'), at('old/Again'), { recursive: true });
  cpSync(at('old/Fog'), at('old/Once more'), { recursive: true });
  await site.look();
  expect(JSON.parse(await run('take-in', '--all', '--on', 'old', '--json'))).toEqual({
    ...{ carrier: 'old', folders: ['Again', 'Once more'] },
  });
  await site.workOff();
  await expect(run('take-in', '--all', '--on', 'old')).rejects.toThrow('is in the catalogue. Nothing was begun');
});

test('an archive is kept, held and let go; the morning and the night tell of it', async () => {
  await run('take-in', 'Fog', '--on', 'old');
  await site.workOff();
  const [{ folder }] = JSON.parse(await run('shelf', '--json')) as [{ folder: string }];
  await expect(run('keep', folder)).rejects.toThrow('Say one of --until');
  await expect(run('keep', folder, '--until', 'soon')).rejects.toThrow('is no day');
  expect(await run('keep', folder, '--until', '2090-01-02')).toContain('kept until 2 Jan 2090');
  expect(await run('hold', folder, '--reason', 'audit')).toContain('under legal hold, audit');
  await expect(run('let-go', folder, '--typed', folder)).rejects.toThrow(
    'under legal hold: audit. Nothing was let go.',
  );
  expect(await run('hold', folder, '--lift')).toContain('legal hold lifted');
  await expect(run('let-go', folder, '--typed', folder)).rejects.toThrow('is kept until 2 Jan 2090');
  expect(await run('keep', folder, '--ask')).toContain('kept until somebody decides');
  await expect(run('let-go', folder, '--typed', 'fog')).rejects.toThrow('Type');
  expect(await run('let-go', folder, '--typed', folder)).toBe('Fog is let go. What lies on old may be wiped.');
  expect(await run('shelf')).toBe('Nothing is archived yet.');
  expect(await run('morning')).toContain('ARCHIVED AND COPIED');
  const morning = JSON.parse(await run('morning', '--json')) as { done: { action: string }[] };
  expect(morning.done.map((one) => one.action)).toContain('archive let go');
  expect(await run('tonight')).toMatch(/Copies read back +only when asked/);
});
