import fc from 'fast-check';
import { documentFormat } from '../documents/formats/registry.ts';
import { DEFAULT_RULES, fitsPattern, keptRules, kindsInFolder } from './kinds.ts';
import type { Duty, Kind } from '../model.ts';

test.each<[folder: string, name: string, duty: Duty, kind: string]>([
  ['rushes/day-1', 'A001.MOV', 'none', 'source'],
  ['rushes/day-1', 'mix.wav', 'none', 'audio'],
  ['Cache/frames', 'a.mov', 'none', 'cache'],
  ['my-cache', 'a.frm', 'none', 'cache'],
  ['cachet', 'a.mov', 'none', 'source'],
  ['audio peaks', 'a.pk', 'none', 'cache'],
  ['fog/proxies', 'a.mov', 'none', 'proxy'],
  ['fog/renders/reel 1', 'a.mov', 'none', 'render'],
  ['deliveries', 'a.mov', 'renders', 'delivery'],
  ['cache', 'fog.otio', 'cache', 'document'],
  ['autosaves', 'fog.otio', 'none', 'backup'],
  ['anything', 'a.bin', 'cache', 'cache'],
  ['anything', 'a.bin', 'none', 'other'],
  ['anything', 'a.mov', 'renders', 'render'],
  ['fog/camera/day 1', 'A001C001.xml', 'none', 'source'],
  ['fog/turnovers', 'cut.xml', 'none', 'document'],
  ['', 'notes.txt', 'none', 'document'],
])('%s/%s on a volume for %s is %s', (folder, name, duty, kind) => {
  expect(kindsInFolder(DEFAULT_RULES, folder, duty)(name)).toBe(kind);
});

test('only living documents are read for projects', () => {
  expect(
    ['a.otio', 'a.OTIOZ', 'b.edl', 'c.dawproject', 'a.otio.original', 'otio'].map(
      (name) => documentFormat(name)?.id ?? null,
    ),
  ).toEqual(['otio', 'otio', 'edl', 'dawproject', null, null]);
});

test('patterns fit as people read them, and never run away', () => {
  const cases: [string, string, boolean][] = [
    ['*.tmp', 'A.TMP', true],
    ['*.tmp', 'a.tmpx', false],
    ['r?nder_*', 'render_', true],
    ['*', '', true],
    ['?', '', false],
    ['a*b*c', 'a-b-b-c', true],
    ['a*b*c', 'a-b-b-', false],
    ['(a+)+$', '(a+)+$', true],
  ];
  for (const [pattern, name, fits] of cases)
    expect([pattern, name, fitsPattern(pattern, name)]).toEqual([pattern, name, fits]);
  const steps = 4_000;
  expect(fitsPattern('a*a*a*a*a*a*a*a*b', 'a'.repeat(steps))).toBe(false);
  fc.assert(
    fc.property(fc.string({ maxLength: 12 }), fc.string({ maxLength: 12 }), (head, tail) => {
      const plain = (text: string) => text.replace(/[*?]/g, '');
      expect(fitsPattern(`${plain(head)}*${plain(tail)}`, `${plain(head)}anything${plain(tail)}`)).toBe(true);
    }),
  );
});

test('what comes back keeps the kind it had, file by file, and nowhere else', () => {
  const kept = fc.array(
    fc.record({
      path: fc
        .tuple(
          fc.constantFrom('back/media/Reels', 'back/media/Music'),
          fc.stringMatching(/^[a-z]{1,4}$/),
          fc.constantFrom('mov', 'wav'),
        )
        .map(([folder, name, ending]) => `${folder}/${name}.${ending}`),
      kind: fc.constantFrom<Kind>('source', 'audio', 'library', 'render'),
    }),
    { maxLength: 30 },
  );
  fc.assert(
    fc.property(kept, (files) => {
      const once = [...new Map(files.map((file) => [file.path, file])).values()];
      const rules = [...keptRules('back', once), ...DEFAULT_RULES];
      for (const { path, kind } of once)
        expect(kindsInFolder(rules, path.slice(0, path.lastIndexOf('/')), 'renders')(path.split('/').at(-1)!)).toBe(
          kind,
        );
      expect(kindsInFolder(rules, 'elsewhere', 'renders')('x.mov')).toBe(
        kindsInFolder(DEFAULT_RULES, 'elsewhere', 'renders')('x.mov'),
      );
    }),
  );
  const many = Array.from({ length: 5000 }, (_, i) => ({ path: `back/media/${i}.mov`, kind: 'source' as const }));
  expect(keptRules('back', [...many, { path: 'back/media/bed.mov', kind: 'library' }])).toHaveLength(2);
});
