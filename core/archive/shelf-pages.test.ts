import vm from 'node:vm';
import fc from 'fast-check';
import { archivePage, namesLine, shelfIndex, type ShelfArchive } from './shelf-pages.ts';

const archive: ShelfArchive = {
  ...{ id: 7, name: 'Fog & <Mist>', folder: 'fog_1', sealedMs: Date.UTC(2026, 10, 27), files: 2, bytes: 3e9 },
  copies: [{ carriers: ['KD-1', 'KD-2'], state: 'good', readBackMs: null }],
  ...{ timelines: [{ name: 'Reel "1"', files: 1, bytes: 1 }], bins: [] },
};
const file = (at: string) => ({ id: 3, at, bytes: 5, volume: 'media', path: at, sha512: null });

test('the shelf as a page: archives, carriers, and nothing that a name could break', () => {
  const html = shelfIndex({
    ...{ site: 'Saltpan <House>', madeMs: Date.UTC(2026, 10, 28), archives: [archive] },
    carriers: [
      { name: 'KD-1', type: 'disk', where: 'lent to Ida', capacityBytes: 4e9, usedBytes: 3e9, holds: ['fog_1'] },
    ],
  });
  expect(html).toContain('<h1>The shelf of Saltpan &lt;House&gt;</h1>');
  expect(html).toContain('1 archive, 3.00');
  expect(html).toContain('<a href="archives/7.html">Fog &amp; &lt;Mist&gt;</a>');
  expect(html).toContain('KD-1 + KD-2 <span class="q">good, never read back</span>');
  expect(html).toContain('lent to Ida');
  const page = archivePage(archive, [file('data/<b>.mov')]);
  expect(page).toContain('<code id="f3">data/&lt;b&gt;.mov</code>');
  expect(page).toContain('Reel &quot;1&quot;');
  expect(page).not.toContain('<h2>Bins</h2>');
});

test('whatever names there are, the script of all names gives them back as they are', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'binary' }), fc.string(), (name, at) => {
      const line = namesLine({ id: 7, name: `</script>${name}` }, [file(at), file(`${name}]]>`)]);
      expect(line).not.toMatch(/<\/|<!--/);
      let told: unknown = null;
      vm.runInNewContext(line, { add: (...args: unknown[]) => (told = args) });
      expect(JSON.parse(JSON.stringify(told))).toEqual(
        JSON.parse(JSON.stringify([7, `</script>${name}`, [at, `${name}]]>`].map((one) => [3, one, `media/${one}`])])),
      );
    }),
  );
});
